"""A kept profile through starts of a real machine that goes down in every way: in force where it should be, stock where not."""

from __future__ import annotations

import json
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from tests.vm.machine import Vm

STATE = "/var/lib/yondle"
WANTED = {"large_pages": 0, "processors_on_line": 1}
REQUEST = {
    "for": "both",
    "profile": {"name": "Daily", "logbook": "5f0c", "step": 12, "values": WANTED},
    "instead": False,
}
SHORTENED = (
    "sed -i 's/^SETTLED_S = .*/SETTLED_S = 20.0/; s/^WAKE_S = .*/WAKE_S = 2.0/' /usr/lib/yondle-helper/helper/keeper.py"
)
"""The times are shortened, so that a settled machine doesn't take ten minutes; nothing else is changed."""
LOOK = (
    "cat /sys/kernel/mm/transparent_hugepage/enabled /sys/devices/system/cpu/online; systemctl is-active yondle-keep;"
    f"test -e {STATE}/mark.json && echo marked; test -e {STATE}/stopped.json && echo stopped; cat {STATE}/incidents.jsonl | wc -l"
)
KINDS = ("reset", "panic", "power cut", "reset while starting", "power cut while starting", "shut down")


@dataclass
class Seen:
    """How the machine stands: what is in force, whether the service is at work, marked, given up, and how many incidents."""

    kept: bool
    stock: bool
    active: bool
    marked: bool
    stopped: bool
    incidents: int


@dataclass
class Tally:
    """How often each kind was gone through, and what was wrong."""

    kinds: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    in_force: int = 0
    at_stock: int = 0
    longest_loop: int = 0


def look(vm: Vm) -> Seen:
    """Look at it."""
    lines = vm.run(LOOK).splitlines()
    pages, online = lines[0], lines[1]
    return Seen(
        "[never]" in pages and online == "0",
        "[always]" in pages and online == "0-1",
        "active" in lines,
        "marked" in lines,
        "stopped" in lines,
        int(lines[-1]),
    )


def settled_down(vm: Vm) -> Seen:
    """Look at it once the service has done what it does at a start."""
    until = time.monotonic() + 40.0
    while True:
        seen = look(vm)
        if seen.kept or not seen.active or time.monotonic() > until:
            return seen
        time.sleep(0.5)


def run(folder: Path, times: int, seed: int) -> Tally:
    """Go down so many times, in a kind drawn each time, and hold what is found at the next start against what should be."""
    vm, tally, loop = Vm(folder, seed), Tally(), 0
    try:
        vm.start()
        vm.run(SHORTENED)
        vm.run(f"echo '{json.dumps(REQUEST)}' | /usr/libexec/yondle-keep set")
        before = settled_down(vm)
        if not before.kept:
            tally.wrong.append(f"it isn't in force after it was said: {before}")
        vm.run("sync")
        print(vm.run("grep VmRSS /proc/$(systemctl show -p MainPID --value yondle-keep)/status"), flush=True)
        for number in range(1, times + 1):
            kind = vm.dice.choice(KINDS)
            tally.kinds[kind] += 1
            early = kind.endswith("while starting")
            if not early:
                time.sleep(vm.dice.uniform(0.0, 40.0))
                before = look(vm)
            vm.go_down(kind)
            found = settled_down(vm)
            wrong = _wrong(kind, before, found, early)
            if wrong:
                tally.wrong.append(f"{number}: {kind}: {wrong}; before {before}, then {found}")
            tally.in_force += found.kept
            tally.at_stock += found.stock
            loop = loop + 1 if found.kept and kind != "shut down" else 0
            tally.longest_loop = max(tally.longest_loop, loop)
            print(
                f"{number} {kind}: {'in force' if found.kept else 'stock' if found.stock else found}", wrong, flush=True
            )
            if found.stopped and vm.dice.random() < 0.7:
                vm.run("/usr/libexec/yondle-keep again; sync")
                found = settled_down(vm)
                if not found.kept:
                    tally.wrong.append(f"{number}: again: {found}")
            before = found
    finally:
        vm.close()
    return tally


def _wrong(kind: str, before: Seen, found: Seen, early: bool) -> str:
    if found.kept == found.stock:
        return "it is neither in force nor at stock"
    if before.stopped and not found.stock:
        return "it was given up, and is in force again"
    if found.kept and found.stopped:
        return "it is given up and in force"
    if early:
        return ""
    if kind == "shut down":
        return (
            ""
            if found.kept == (not before.stopped) and found.incidents == before.incidents
            else "not as it was shut down"
        )
    if before.marked and not found.stock:
        return "it went down before it had borne the settings, and they are set again"
    if before.active and found.incidents != before.incidents + 1:
        return "the failure isn't told once"
    return ""
