"""Kills whole unattended climbs again and again, at random times, and holds what the logbook says against the truth.

`python -m tests.crash.kill_runs --runs 500` forks the real command line, sends it SIGKILL after a random time, looks at
what it left, lets it go on, and so forth until the plan is done. In every other run the machine takes the program down
with it when it crashes or restarts, as a real one does. Exit code 1 and the seed when anything is wrong.
"""

from __future__ import annotations

import argparse
import json
import os
import signal
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import scipy.special  # noqa: F401 - loaded once here, so that not every fork loads it

from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook, machine_file, open_logbook
from yondle.main import run
from yondle.model.steps import StepKind
from yondle.model.verdicts import MACHINE_FAILURES, Failure, Verdict
from yondle.planning.ladder import quick_check

PLAN = """
format = "yondle-plan 1"
name = "memory and core, with restarts"
passes = 2
[[do]]
kind = "ladder"
knob = "memory_rate"
to = 6800
by = 400
[[do]]
kind = "steps"
steps = [{ cas = 38 }, { threads_per_core = 1 }, { power_limit = 105 }]
[[do]]
kind = "ladder"
knob = "core_clock"
to = 4900
by = 150
relief."went down" = { knob = "core_voltage", by = 0.04 }
relief."wrong results" = { knob = "core_voltage", by = 0.04 }
"""
MEAN_LIFE_S = 2.5
MOST_LIVES = 60
MEMORY_DISK = "/dev/shm"
"""A killed program leaves its files to the system, whatever they lie on; only a power cut tells disks apart."""


@dataclass(slots=True)
class Report:
    """What one run saw: how often it was killed, and what was wrong."""

    seed: int
    kills: int = 0
    falls: int = 0
    steps: int = 0
    acts: dict[str, int] = field(default_factory=dict)
    wrong: list[str] = field(default_factory=list)


def small_rig(folder: Path, seed: int) -> Path:
    """Heron with two benchmarks and short checks, so that a climb takes a second or two."""
    path = folder / "rig.toml"
    path.write_text(
        f"""
like = "heron"
without = ["workloads.sharpening", "workloads.preview", "workloads.frames"]
[rig]
seed = {seed}
[check]
hard_load_s = 15.0
memory_load_s = 20.0
settle_below_c = 60.0
[memory_edge]
width_mt_s = 20.0
[workloads.stacking]
pass_s = 3.0
[workloads.star_match]
pass_s = 3.0
""",
        "utf-8",
    )
    return path


def one_run(seed: int) -> Report:
    """Run one climb to its end through all its kills."""
    report, chance = Report(seed), Random(f"kills/{seed}")
    with tempfile.TemporaryDirectory(dir=MEMORY_DISK if os.access(MEMORY_DISK, os.W_OK) else None) as name:
        folder = Path(name)
        book, plan = folder / "book.yondle", folder / "plan.toml"
        plan.write_text(PLAN, "utf-8")
        create_logbook(book, choose_rig(str(small_rig(folder, seed)))).close()
        together = ["--together"] if seed % 2 else []
        stages = [
            ["baseline", str(book), "-n", "2", "--anyway", *together],
            ["plan", "run", str(book), str(plan), *together],
        ]
        ended = 0
        for life in range(MOST_LIVES):
            if not stages:
                break
            ended = live(
                stages[0], chance.expovariate(1.0 / MEAN_LIFE_S) if life < MOST_LIVES - 20 else None, folder / "errors"
            )
            report.kills += ended < 0
            stages = look(book, report, stages, ended, together)
            if report.wrong:
                return report
        if stages:
            report.wrong.append(
                f"not done after {MOST_LIVES} lives: {stages[0]} ended with {ended}: {(folder / 'errors').read_text()}"
            )
        last_look(book, report)
    return report


def live(arguments: list[str], seconds: float | None, errors: Path) -> int:
    """Fork the command line and kill it after so long; gives its exit code, negative for a signal."""
    child = os.fork()
    if child == 0:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        os.dup2(os.open(errors, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), 2)
        os._exit(run(arguments))
    due = None if seconds is None else time.monotonic() + seconds
    while True:
        pid, status = os.waitpid(child, os.WNOHANG)
        if pid:
            return os.waitstatus_to_exitcode(status)
        if due is not None and time.monotonic() >= due:
            os.kill(child, signal.SIGKILL)
            return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        time.sleep(0.002)


def look(book: Path, report: Report, stages: list[list[str]], ended: int, together: list[str]) -> list[list[str]]:
    """Open the logbook as after any crash: it opens, the rig is at a proven setup, nothing waits unseen.

    Gives what is still to be done.
    """
    try:
        session = open_logbook(book)
    except Exception as error:
        report.wrong.append(f"the logbook doesn't open: {error!r}")
        return stages
    try:
        waits = session.snapshot.waiting is not None
        going = session.logbook.keeping.open_plan_run() is not None
        found, stock = session.snapshot, session.declaration.stock
        measured, in_force = found.baseline_step is not None, found.in_force
        proven = [dict(stock)]
        proven += [dict(r.step.setup) for r in session.snapshot.steps if r.verdict is Verdict.HELD]
    finally:
        session.close()
    state = json.loads(machine_file(book).read_text())
    at = {**state["values"], **state["reported"]}
    if state["down"] or (at not in proven and not waits):
        changed = {name: value for name, value in at.items() if stock[name] != value}
        report.wrong.append(f"the machine is at an unproven setup: {changed}, down '{state['down']}'")
    if not waits and dict(in_force) != at:
        report.wrong.append("what the logbook says is in force isn't")
    if state["pending"] and not waits:
        report.wrong.append(f"values wait for a restart: {state['pending']}")
    if stages[0][0] == "baseline":
        return stages[1:] if measured else stages
    if ended == 0:
        return stages[1:]
    if going:
        return [["plan", "go-on", str(book), *together]]
    return stages if stages[0][1] == "run" else []


def last_look(book: Path, report: Report) -> None:
    """Hold every verdict against what really became of the machine."""
    session = open_logbook(book)
    try:
        state = json.loads(machine_file(book).read_text())
        fell = {int(boot): Failure(kind) for boot, kind in state["falls"]}
        report.falls, report.steps = len(fell), len(session.snapshot.steps)
        numbers = [record.step.number for record in session.snapshot.steps]
        if numbers != list(range(1, len(numbers) + 1)):
            report.wrong.append(f"steps are missing: {numbers}")
        for record in session.snapshot.steps:
            for attempt in record.attempts:
                outcome = attempt.outcome
                if outcome is None:
                    report.wrong.append(f"attempt {attempt.id} has no verdict")
                    continue
                failure = str(outcome.failure or outcome.verdict)
                report.acts[failure] = report.acts.get(failure, 0) + 1
                boots = range(int(attempt.boot_id.split("-")[1]), int(attempt.boot_id.split("-")[1]) + 3)
                if outcome.failure in MACHINE_FAILURES and not any(b in fell for b in boots):
                    acts = session.logbook.journal(attempt.id)
                    words = (
                        f"attempt {attempt.id} '{failure}' in boot {attempt.boot_id}, but the machine fell in {fell}"
                    )
                    report.wrong.append(f"{words}: {outcome.reason} {acts}")
                if outcome.verdict is Verdict.HELD:
                    check = attempt.check or quick_check(session.declaration, 2, record.step.setup)
                    wanted = sum(s.rounds * len(s.workloads) for s in check.stages)
                    done = [p for p in attempt.passes if p.result is not None and p.result.ok and not p.warm_up]
                    if len(done) != wanted:
                        report.wrong.append(f"attempt {attempt.id} 'held' with {len(done)} of {wanted} passes")
            kinds = [a.outcome.verdict for a in record.attempts if a.outcome]
            if record.step.kind is not StepKind.BASELINE and record.verdict is Verdict.HELD and kinds[-1] not in (
                Verdict.HELD, Verdict.UNPROVEN,
            ):  # fmt: skip
                report.wrong.append(f"step {record.step.number} is called held after {kinds}")
        if session.logbook.unclosed():
            report.wrong.append("an attempt was never closed")
    finally:
        session.close()


def main() -> int:
    """Run as many as asked for and print what was seen."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=500)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    given = parser.parse_args()
    began = time.monotonic()
    kills = falls = steps = bad = 0
    acts: dict[str, int] = {}
    with ProcessPoolExecutor(given.jobs) as pool:
        for report in pool.map(one_run, range(given.first, given.first + given.runs)):
            kills, falls, steps = kills + report.kills, falls + report.falls, steps + report.steps
            for name, n in report.acts.items():
                acts[name] = acts.get(name, 0) + n
            if report.seed % 50 == 0:
                print(f"at seed {report.seed}: {kills} kills, {falls} falls, {bad} wrong", flush=True)
            for words in report.wrong:
                bad += 1
                print(f"seed {report.seed}: {words}", flush=True)
    seconds = time.monotonic() - began
    print(
        f"{given.runs} runs in {seconds:.0f} s: {kills} kills, {falls} falls of the machine, {steps} steps, {bad} wrong"
    )
    print(", ".join(f"{name} {n}" for name, n in sorted(acts.items(), key=lambda pair: -pair[1])))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
