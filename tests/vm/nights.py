"""A plan through a night in which a real machine goes down in every way: it comes back, names what fell, and comes to its end."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from pathlib import Path

from tests.vm.kept import Tally
from tests.vm.machine import NoAnswerError, Vm

BOOK = "/root/night.yondle"
SHORTENED = (
    "for at in /usr/lib/yondle-helper /usr/lib/yondle/yondle/rigs/linux/root; do"
    " sed -i 's/^TIMEOUT_S = 60/TIMEOUT_S = 15/' $at/helper/watchdog.py; done;"
    "sed -i 's/self.hard_load = (MIXED, MIXED_S)/self.hard_load = (\"\", 0.0)/' /usr/lib/yondle/yondle/workloads/host.py"
)
"""A frozen machine stands for 15 s, not 60, and checks end without the built-in load, which an emulator is too slow for."""
WORKLOAD = """format = "yondle-workload 1"
id = "spin"
name = "Spin"
command = ["/bin/sh", "-c", "sleep 5; echo rate: 100.0"]
at_most_s = 60
takes_about_s = 5
[score]
pattern = 'rate: ([0-9.]+)'
unit = "x/s"
better = "higher"
digits = 1
"""
PLAN = """format = "yondle-plan 1"
name = "a night"
passes = 2
turns = false
[[do]]
kind = "steps"
steps = [{steps}]
"""
ASK = """import json, sqlite3
b = sqlite3.connect("file:{book}?mode=ro", uri=True)
rows = b.execute("select id, step, failure, verdict, closed_at, boot_id from attempt order by id").fetchall()
plan = b.execute('select ended_at, "end" from "plan" order by id desc limit 1').fetchone()
blocks = b.execute("select attempt, max(to_s) from sample_block group by attempt").fetchall()
print("@@" + json.dumps([rows, plan, blocks]) + "@@")
"""
KINDS = ("reset", "panic", "frozen user space", "power cut")
IN_FORCE = "cat /sys/kernel/mm/transparent_hugepage/enabled; ls /var/lib/yondle; cat /var/lib/yondle/incidents.jsonl"


def run(folder: Path, times: int, seed: int) -> Tally:
    """Go down so many times in one plan, and hold its record against what the machine went through."""
    vm, tally = Vm(folder, seed), Tally()
    try:
        vm.start()
        prepare(vm, times)
        vm.begin(
            f"yondle plan run {BOOK} /root/plan.toml --unattended-restarts --an-hour 500 --in-all 500 > /root/log 2>&1 &"
        )
        for number in range(1, times + 1):
            before = _wait_for_a_pass(vm)
            time.sleep(vm.dice.uniform(0.0, 8.0))
            kind = vm.dice.choice(KINDS)
            tally.kinds[kind] += 1
            open_before, traced = _open(vm)
            vm.go_down(kind)
            found = _wait_for_more(vm, before)
            wrong = misnamed(open_before, found) or _lost(vm, traced)
            if wrong:
                tally.wrong.append(f"{number}: {kind}: {wrong}; before {open_before}")
            print(f"{number} {kind}: {wrong or 'goes on'}", flush=True)
        _to_its_end(vm, tally)
    except NoAnswerError as error:
        tally.wrong.append(str(error))
    finally:
        vm.close()
    return tally


def prepare(vm: Vm, times: int) -> None:
    vm.run(SHORTENED)
    vm.run("sysctl -q kernel.sysrq=1")
    values = ["never", "madvise", "always"]
    steps = ", ".join(f'{{ large_pages = "{values[i % 3]}" }}' for i in range(2 * times + 3))
    for name, text in (
        ("w.toml", WORKLOAD),
        ("plan.toml", PLAN.replace("{steps}", steps)),
        ("ask.py", ASK.replace("{book}", BOOK)),
    ):
        vm.run(f"cat > /root/{name} <<'X'\n{text}X")
    vm.run(
        f"yondle new {BOOK} --rig this; yondle workload add {BOOK} /root/w.toml --yes; yondle benchmarks {BOOK} --use spin"
    )
    vm.run(f"yondle baseline {BOOK} -n 2 > /root/log 2>&1", 300.0)
    rows, _, _ = asked(vm)
    if not rows or rows[-1][3] != "held":
        raise NoAnswerError(f"the baseline didn't hold: {rows} {vm.run('tail -c 600 /root/log')}")


def asked(vm: Vm) -> tuple[list[list[object]], list[object] | None, dict[object, float]]:
    """Give every attempt, the plan's end, and up to when there are samples of each attempt."""
    said = vm.run("python3 /root/ask.py")
    try:
        rows, plan, traced = json.loads(said.split("@@")[1])
    except (IndexError, ValueError) as error:
        raise NoAnswerError(f"the logbook can't be asked: {said}") from error
    return rows, plan, dict(traced)


def _open(vm: Vm) -> tuple[list[object] | None, dict[object, float]]:
    """Give the attempt that is open now, and up to when there are samples of each."""
    rows, _, traced = asked(vm)
    return rows[-1] if rows and rows[-1][4] is None else None, traced


def _lost(vm: Vm, before: dict[object, float]) -> str:
    _, _, after = asked(vm)
    gone = [attempt for attempt, to_s in before.items() if after.get(attempt, 0.0) < to_s]
    return f"samples that were written are lost, of tests {gone}" if gone else ""


def _wait_for_a_pass(vm: Vm) -> int:
    until = time.monotonic() + 180.0
    while time.monotonic() < until:
        rows, _, _ = asked(vm)
        if rows and rows[-1][4] is None:
            return len(rows)
        time.sleep(1.0)
    raise NoAnswerError(
        f"no test is under way: {vm.run('tail -c 1500 /root/log; journalctl -u yondle-night --no-pager | tail -20')}"
    )


def _wait_for_more(vm: Vm, before: int) -> list[list[object]]:
    """Wait until the plan has taken up again what was open, or begun another test."""
    until = time.monotonic() + 180.0
    while time.monotonic() < until:
        rows, _, _ = asked(vm)
        if len(rows) > before or (rows and rows[-1][4] is not None):
            return rows
        time.sleep(1.0)
    raise NoAnswerError(
        f"the plan doesn't come back: {vm.run('journalctl -u yondle-night --no-pager | tail -20; ' + IN_FORCE)}"
    )


def misnamed(open_before: Sequence[object] | None, found: Sequence[Sequence[object]]) -> str:
    if open_before is None:
        return ""
    same = next((row for row in found if row[0] == open_before[0]), None)
    if same is None:
        return "the attempt that was open is lost"
    if same[2] is None and same[3] == "held":
        return ""
    return "" if same[2] == "crashed and restarted" else f"it is named {same[2]}"


def _to_its_end(vm: Vm, tally: Tally) -> None:
    until = time.monotonic() + 1800.0
    while time.monotonic() < until:
        try:
            rows, plan, traced = asked(vm)
        except NoAnswerError:
            tally.kinds["a watchdog not fed in time"] += 1
            vm.up()
            continue
        if plan is not None and plan[0] is not None:
            break
        time.sleep(5.0)
    else:
        tally.wrong.append("the plan doesn't come to its end")
        return
    time.sleep(20.0)
    said = vm.run(IN_FORCE)
    if "[always]" not in said:
        tally.wrong.append(f"not at stock after the night: {said}")
    if "night.json" in said:
        tally.wrong.append("the night isn't over")
    down = sum(row[2] == "crashed and restarted" for row in rows)
    left = sum(row[4] is None for row in rows)
    untraced = [row[0] for row in rows if row[0] not in traced]
    print(
        f"the plan is over; {len(rows)} tests, {down} named as crashes, {left} open, no samples of {untraced}",
        flush=True,
    )
    if left:
        tally.wrong.append(f"{left} attempts are left open")
