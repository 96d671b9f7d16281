"""What else a machine can be like, gone through one by one: a disk that can't be written, a clock set back, a watchdog taken."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path

from tests.vm.kept import REQUEST, SHORTENED, STATE, Tally, look, settled_down
from tests.vm.machine import NoAnswerError, Vm
from tests.vm.nights import BOOK, asked, prepare

KEEP = "/usr/libexec/yondle-keep"
SAYS = "journalctl -u yondle-keep -b --no-pager | tail -5"
FILL = (
    "dd if=/dev/zero of=/root/full bs=1M > /dev/null 2>&1; dd if=/dev/zero of=/root/fuller bs=1k > /dev/null 2>&1; sync"
)


def _keep(vm: Vm) -> None:
    vm.run(f"{SHORTENED}; systemctl reset-failed")
    vm.run(f"echo '{json.dumps(REQUEST)}' | {KEEP} set; {KEEP} again; sync")
    _must(settled_down(vm).kept, "it isn't in force after it was said")


def _must(true: bool, words: str) -> None:
    if not true:
        raise NoAnswerError(words)


def _read_only_at_the_start(vm: Vm) -> None:
    _keep(vm)
    vm.off()
    vm.start("ro systemd.mask=systemd-remount-fs.service")
    _must(" ro," in vm.run("grep ' / ' /proc/mounts"), "its root can be written")
    seen = look(vm)
    _must(seen.stock, f"not at stock: {seen}")
    _must("Read-only" in (said := vm.run(SAYS)), said)
    vm.off()
    vm.start()
    _must(settled_down(vm).kept, "not in force once the disk can be written again")


def _read_only_while_in_force(vm: Vm) -> None:
    _keep(vm)
    vm.run("echo u > /proc/sysrq-trigger")
    time.sleep(30.0)
    seen = look(vm)
    _must(seen.stock and not seen.active, f"a mark that can't be taken away, and not at stock: {seen}")
    vm.go_down("reset")
    seen = settled_down(vm)
    _must(seen.stock and seen.stopped, f"the mark stood, and it isn't at stock: {seen}")


def _full_while_in_force(vm: Vm) -> None:
    _keep(vm)
    time.sleep(25.0)
    vm.run(FILL, 300.0)
    before = look(vm)
    vm.run("systemctl restart yondle-keep")
    seen = settled_down(vm)
    _must(seen.stock, f"no mark could be written, and not at stock: before {before}, then {seen}")
    vm.run("rm /root/full /root/fuller; sync; systemctl restart yondle-keep")
    _must(settled_down(vm).kept, "not in force once there is room again")


def _clock_set_back(vm: Vm) -> None:
    _keep(vm)
    time.sleep(25.0)
    vm.run("date -s '2031-03-01 12:00'; sync")
    vm.go_down("panic")
    seen = settled_down(vm)
    _must(seen.kept and seen.incidents > 0, f"once is forgiven: {seen}")
    time.sleep(25.0)
    vm.run("date -s '2024-03-01 12:00'; sync")
    vm.go_down("panic")
    seen = settled_down(vm)
    _must(seen.stock and seen.stopped, f"the second time in a week, though the clock says otherwise: {seen}")


def _changed_by_hand(vm: Vm) -> None:
    _keep(vm)
    for change in (
        f"chown tuner {STATE}/kept.json",
        f"sed -i 's/yondle-kept 1/yondle-kept 9/' {STATE}/kept.json",
        f'sed -i \'s/"large_pages"/"no_such"/\' {STATE}/kept.json',
        f"echo '{{' > {STATE}/kept.json",
    ):
        vm.run(
            f"cp -p {STATE}/kept.json /root/kept.json; systemctl stop yondle-keep; {change}; systemctl start yondle-keep"
        )
        time.sleep(5.0)
        seen = look(vm)
        _must(seen.stock, f"{change}: {seen}; {vm.run(SAYS)}")
        vm.run(f"systemctl stop yondle-keep; cp -p /root/kept.json {STATE}/kept.json; {KEEP} again")
        _must(settled_down(vm).kept, f"not in force as it was before: {change}")


def _watchdog_taken(vm: Vm) -> None:
    prepare(vm, 1)
    vm.begin("(exec 9> /dev/watchdog0; while sleep 5; do echo fed >&9; done) > /dev/null 2>&1 & echo $! > /root/dog")
    time.sleep(3.0)
    said = vm.run(f"yondle plan run {BOOK} /root/plan.toml --unattended-restarts")
    _must("in use by another program" in said, said)
    rows, plan, _ = asked(vm)
    _must(plan is None and len(rows) == 1, f"something began: {rows} {plan}")
    vm.run("kill $(cat /root/dog); pkill sleep; echo V > /dev/watchdog0")


def _full_in_a_night(vm: Vm) -> None:
    prepare(vm, 1)
    vm.begin(f"yondle plan run {BOOK} /root/plan.toml --unattended-restarts > /dev/null 2>&1 &")
    time.sleep(40.0)
    before = len(asked(vm)[0])
    vm.run(FILL, 300.0)
    time.sleep(90.0)
    _must("[always]" in vm.run("cat /sys/kernel/mm/transparent_hugepage/enabled"), "not at stock on a full disk")
    vm.run("rm /root/full /root/fuller; sync")
    rows, _, traced = asked(vm)
    _must(len(rows) >= before, f"tests are lost: {rows}")
    print(f"  {before} tests before, {len(rows)} after, samples of {len(traced)}", flush=True)
    said = vm.run(f"yondle plan go-on {BOOK} > /root/log 2>&1; yondle status {BOOK} | head -5", 1800.0)
    rows, plan, _ = asked(vm)
    _must(plan is not None and plan[0] is not None, f"it doesn't go on to its end: {plan} {said}")
    _must(all(row[4] is not None for row in rows), f"a test is left open: {rows}")


CASES: dict[str, Callable[[Vm], None]] = {
    "a root that can't be written, from the start": _read_only_at_the_start,
    "a root that can't be written any more while in force": _read_only_while_in_force,
    "a full disk while in force": _full_while_in_force,
    "a clock set back": _clock_set_back,
    "a file changed by somebody else": _changed_by_hand,
    "a watchdog in use": _watchdog_taken,
    "a full disk in a night": _full_in_a_night,
}


def run(folder: Path, times: int, seed: int) -> Tally:
    """Go through each case on a machine of its own; `times` takes the last of them only."""
    tally = Tally()
    for name, case in list(CASES.items())[-times:]:
        vm = Vm(folder, seed)
        tally.kinds[name] += 1
        try:
            vm.start()
            case(vm)
            print(f"{name}: as it should", flush=True)
        except NoAnswerError as error:
            tally.wrong.append(f"{name}: {error}")
            print(tally.wrong[-1], flush=True)
        finally:
            vm.close()
    return tally
