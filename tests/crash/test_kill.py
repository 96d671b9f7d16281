"""The real command line is killed at every journal boundary; the next start must know everything and lose nothing."""

from __future__ import annotations

import json
import multiprocessing
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from multiprocessing.connection import wait
from multiprocessing.reduction import DupFd
from pathlib import Path
from typing import Any

import pytest
from tests.conftest import quick_rig

from yondle.app.session.opening import machine_file, open_logbook
from yondle.main import run
from yondle.model.acts import Act
from yondle.model.verdicts import Failure, Verdict

AT_ONCE = 2
EDGES = 10


@dataclass(frozen=True)
class Prepared:
    """A logbook with a baseline and one step that held, to start every kill from."""

    path: Path

    def copy(self, folder: Path) -> Path:
        folder.mkdir()
        for file in (self.path, machine_file(self.path)):
            shutil.copy(file, folder / file.name)
        return folder / self.path.name


FORKS = multiprocessing.get_context("forkserver")
"""Every command is a process of its own, forked from one that has loaded everything and opened nothing: it lives and dies as
one started from nothing, and doesn't load for longer than it runs."""
FORKS.set_forkserver_preload(["tests.crash.test_kill", "scipy.special"])
ONE_ASKS = threading.Lock()
"""Starting a process looks after all others: how each ended is told but once, and must not be asked for by two threads."""


def yondle(*arguments: str, fault: str = "") -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "COLUMNS": "200", **({"YONDLE_FAULT": fault} if fault else {})}
    with tempfile.TemporaryFile("w+") as out, tempfile.TemporaryFile("w+") as err:
        ends = [DupFd(file.fileno()) for file in (out, err)]
        process = FORKS.Process(target=command_line, args=(arguments, environment, ends))
        with ONE_ASKS:
            process.start()
        wait([process.sentinel])
        with ONE_ASKS:
            process.join()
        for file in (out, err):
            file.seek(0)
        code = process.exitcode
        assert code is not None
        return subprocess.CompletedProcess(arguments, code, out.read(), err.read())


def command_line(arguments: tuple[str, ...], environment: dict[str, str], ends: list[Any]) -> None:
    """Run a command line and leave as its program does."""
    os.environ.clear()
    os.environ.update(environment)
    for at, end in enumerate(ends, start=1):
        os.dup2(end.detach(), at)
    code = run(list(arguments))
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


@pytest.fixture(scope="module", autouse=True)
def _loaded() -> None:
    """Have what is forked loaded before the first test."""
    process = FORKS.Process(target=int)
    process.start()
    process.join()


@pytest.fixture(scope="module")
def prepared(tmp_path_factory: pytest.TempPathFactory) -> Prepared:
    folder = tmp_path_factory.mktemp("prepared")
    rig = folder / "rig.toml"
    text = quick_rig(settle_below_c="24.0", hard_load_s="20.0")
    for workload in ("sharpening", "star_match", "preview", "frames"):
        text = re.sub(rf"\[workloads\.{workload}\].*?(?=\n\[)", "", text, flags=re.DOTALL)
    rig.write_text(re.sub(r"program_crashes = .*", "program_crashes = 0.0", text))
    path = folder / "book.yondle"
    for arguments in (
        ("new", str(path), "--rig", str(rig)),
        ("baseline", str(path), "-n", "2"),
        ("step", str(path), "core_clock=4250", "-n", "2"),
    ):
        done = yondle(*arguments)
        assert done.returncode == 0, done.stderr
    return Prepared(path)


def records_of(path: Path, attempt: int) -> list[str]:
    """List the durable records of an attempt in the order they were written; blocks stand between the journal's acts."""
    file = sqlite3.connect(path)
    acts = [act for (act,) in file.execute("SELECT act FROM journal WHERE attempt = ? ORDER BY id", (attempt,))]
    blocks = file.execute("SELECT count(*) FROM sample_block WHERE attempt = ?", (attempt,)).fetchone()[0]
    file.close()
    return acts + ["BlockRecorded"] * blocks


def blocks_of(path: Path) -> int:
    file = sqlite3.connect(path)
    count: int = file.execute("SELECT count(*) FROM sample_block").fetchone()[0]
    file.close()
    return count


def kill_and_start_again(book: Path, step: str, when: str, nth: int) -> str:
    """Kill `yondle step` at a record and check everything after the next start; gives what the step was called."""
    killed = yondle("step", str(book), step, "-n", "2", fault=f"kill {when} {nth}")
    assert killed.returncode == -signal.SIGKILL, (when, nth, killed)
    written = nth if when == "after" else nth - 1
    acts_before = [Act(act) for act in records_of(book, 3) if act != "BlockRecorded"]
    blocks_before = blocks_of(book)
    machine = json.loads(machine_file(book).read_text())
    went_down = bool(machine["down"]) or machine["boot"] > 1
    session = open_logbook(book)
    try:
        if written == 0:
            assert len(session.snapshot.steps) == 2
            assert not session.snapshot.resumed
            return "nothing begun"
        record = session.snapshot.step(3)
        acts = session.logbook.journal(3)
        closed = Act.ATTEMPT_CLOSED in acts_before
        judged = Act.VERDICT_GIVEN in acts_before
        assert acts[: len(acts_before)] == acts_before
        assert Act.APPLY_OPENED not in acts[len(acts_before) :], "the step was set again by itself"
        assert all(block.times_s for block in session.logbook.trace(3))
        assert blocks_of(book) == blocks_before
        assert [r.step.step.number for r in session.snapshot.resumed] == ([] if closed else [3])
        assert record.outcome is not None
        if not judged:
            assert record.outcome.failure is (Failure.RESTARTED if went_down else Failure.INTERRUPTED)
            assert record.verdict is (Verdict.DOWN if went_down else Verdict.UNPROVEN)
        held = record.verdict is Verdict.HELD
        assert session.snapshot.position is not None
        assert session.snapshot.position.step.number == (3 if held else 2)
        wanted = record.step.setup if held else session.snapshot.step(2).step.setup
        assert session.snapshot.in_force == wanted
        assert session.machine.rig.read_back() == wanted
        assert not session.logbook.unclosed()
        return str(record.verdict)
    finally:
        session.close()


@pytest.mark.parametrize(
    ("step", "ends"),
    [("core_clock=4300", Verdict.HELD), ("core_clock=4800", Verdict.DOWN), ("core_clock=5000", Verdict.DOWN)],
    ids=["a step that holds", "a step that takes the machine down", "a step that never starts"],
)
def test_killed_at_journal_boundaries_nothing_is_lost(
    prepared: Prepared, tmp_path: Path, step: str, ends: Verdict
) -> None:
    """At every record of opening, setting, the first passes and the end, and at every fourth of the passes between."""
    whole = prepared.copy(tmp_path / "whole")
    assert yondle("step", str(whole), step, "-n", "2").returncode == 0
    boundaries = len(records_of(whole, 3))
    assert boundaries >= 5
    ends_at = range(boundaries - EDGES, boundaries + 1)
    killed_at = [n for n in range(1, boundaries + 1) if n <= EDGES or n in ends_at or n % 4 == 0]
    kills = [(when, nth) for nth in killed_at for when in ("before", "after")]

    def one(kill: tuple[str, int]) -> str:
        when, nth = kill
        return kill_and_start_again(prepared.copy(tmp_path / f"{when}{nth}"), step, when, nth)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        verdicts = list(pool.map(one, kills))
    assert len(verdicts) == 2 * len(killed_at)
    assert verdicts[0] == "nothing begun"
    assert verdicts[-1] == ends
    print(f"{step}: killed {len(kills)} times at {boundaries} records")


def test_killed_while_it_recovers_it_recovers_at_the_next_start(prepared: Prepared, tmp_path: Path) -> None:
    """Recovery writes a verdict, announces the put-back and closes; it is killed at each of them in turn."""
    book = prepared.copy(tmp_path / "again")
    assert yondle("step", str(book), "core_clock=4300", "-n", "2", fault="kill after 9").returncode == -signal.SIGKILL
    for when, nth in (("before", 1), ("after", 1), ("before", 2), ("after", 1), ("before", 2)):
        assert yondle("status", str(book), fault=f"kill {when} {nth}").returncode == -signal.SIGKILL
    told = json.loads(yondle("status", str(book), "--json").stdout)
    assert told["position"] == 2
    assert told["in_force"]["core_clock"] == 4250.0
    assert told["steps"][2]["failure"] == Failure.INTERRUPTED.value
    assert json.loads(yondle("status", str(book), "--json").stdout)["resumed"] == []


@pytest.mark.parametrize(("when", "nth"), [("before", 1), ("after", 1), ("before", 2), ("after", 2)])
def test_killed_while_going_back_the_rig_is_where_the_logbook_says(
    prepared: Prepared, tmp_path: Path, when: str, nth: int
) -> None:
    book = prepared.copy(tmp_path / "back")
    assert yondle("back", str(book), "1", fault=f"kill {when} {nth}").returncode == -signal.SIGKILL
    told = json.loads(yondle("status", str(book), "--json").stdout)
    expected = {2: 4250.0, 1: 4200.0}
    assert told["position"] == (2 if (when, nth) == ("before", 1) else 1), "what was announced is gone on with"
    assert told["in_force"]["core_clock"] == expected[told["position"]]
    assert told["verified"] == {"as_set": 27, "of": 27, "told": 0}


def test_a_machine_file_of_another_rig_is_refused(prepared: Prepared, tmp_path: Path) -> None:
    book = prepared.copy(tmp_path / "other")
    for wrong in (
        "{}",
        "[]",
        "no json",
        json.dumps({"t_s": 0, "values": {}, "die_c": 1, "cooler_c": 1, "mean_power_w": 1}),
    ):
        machine_file(book).write_text(wrong)
        done = yondle("status", str(book))
        assert done.returncode == 2, done.stderr
        assert "Move it away" in done.stderr


def test_the_trace_survives_up_to_the_last_block(prepared: Prepared, tmp_path: Path) -> None:
    """Paced at real time, as on a real machine: blocks are written every two seconds."""
    book = prepared.copy(tmp_path / "trace")
    killed = yondle("step", str(book), "core_clock=4300", "-n", "2", "--pace", "1", fault="kill after 7")
    assert killed.returncode == -signal.SIGKILL
    session = open_logbook(book)
    kept = [t for block in session.logbook.trace(3) for t in block.times_s]
    session.close()
    assert len(kept) >= 3
    assert kept == sorted(kept)


def test_a_machine_that_goes_down_takes_yondle_along_and_is_named_after_the_next_start(
    prepared: Prepared, tmp_path: Path
) -> None:
    book = prepared.copy(tmp_path / "down")
    killed = yondle("step", str(book), "core_clock=4800", "-n", "2", "--together")
    assert killed.returncode == -signal.SIGKILL
    status = yondle("status", str(book), "--json")
    assert status.returncode == 0
    told = json.loads(status.stdout)
    (resumed,) = told["resumed"]
    assert resumed["step"] == 3
    assert resumed["failure"] == Failure.RESTARTED.value
    assert resumed["verified"]
    assert told["position"] == 2
    assert told["in_force"]["core_clock"] == 4250.0
    assert told["steps"][2]["verdict"] == Verdict.DOWN.value
    again = json.loads(yondle("status", str(book), "--json").stdout)
    assert again["resumed"] == []
    assert again["steps"] == told["steps"]


def restart_step_killed(book: Path, when: str, nth: int) -> str:
    """Kill a step that takes an entry and a restart, go on after the next start, and give what became of it."""
    killed = yondle("step", str(book), "memory_rate=5800", "-n", "2", fault=f"kill {when} {nth}")
    assert killed.returncode == -signal.SIGKILL, (when, nth, killed)
    told = json.loads(yondle("status", str(book), "--json").stdout)
    if told["waiting"] is None:
        assert told["position"] == 2
        assert told["in_force"]["memory_rate"] == 5600.0
        assert json.loads(machine_file(book).read_text())["pending"] == {}, "nothing waits for the next restart unseen"
        assert [r["failure"] for r in told["resumed"]] == ([] if len(told["steps"]) == 2 else ["interrupted"])
        return "interrupted"
    assert told["resumed"] == [], "a restart on purpose is no crash"
    done = json.loads(yondle("go-on", str(book), "--json").stdout)
    assert (done["step"], done["verdict"], done["attempts"]) == (3, "held", 1), done
    assert done["setup"]["memory_rate"] == 5800.0
    return "went on"


def test_killed_around_a_restart_the_step_goes_on_or_is_interrupted_and_never_called_a_crash(
    prepared: Prepared, tmp_path: Path
) -> None:
    cases = [(when, nth) for nth in range(1, 9) for when in ("before", "after")]
    with ThreadPoolExecutor(AT_ONCE) as pool:
        found = list(pool.map(lambda c: restart_step_killed(prepared.copy(tmp_path / f"{c[0]}{c[1]}"), *c), cases))
    assert set(found) == {"went on", "interrupted"}
    assert found[0] == "interrupted", "nothing was opened yet"


def test_whole_climbs_killed_at_random_hold_against_what_the_machine_knows() -> None:
    """A few of the runs of `python -m tests.crash.kill_runs`; docs/benchmarks.md has the count of five hundred."""
    command = [sys.executable, "-m", "tests.crash.kill_runs", "--runs", "4", "--first", "7", "--jobs", "2"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert ", 0 wrong" in done.stdout


@pytest.mark.parametrize("nth", [9, 40, 75])
def test_a_search_killed_in_the_middle_loses_nothing_and_comes_to_its_end(
    prepared: Prepared, tmp_path: Path, nth: int
) -> None:
    book = prepared.copy(tmp_path / "search")
    asked = ("edge", str(book), "core_clock", "--standard", "quick", "--to", "4600")
    killed = yondle(*asked, fault=f"kill after {nth}")
    assert killed.returncode == -signal.SIGKILL, killed
    session = open_logbook(book)
    kept = {a.id: (r.step.setup, a.outcome) for r in session.snapshot.steps for a in r.attempts}
    session.close()
    assert all(outcome is not None for _, outcome in kept.values())
    done = yondle("plan", "go-on", str(book), "--json")
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["plan"]["ended"] == "done"
    assert told["in_force"]["core_clock"] == told["edge"]["recommended"]
    session = open_logbook(book)
    now = {a.id: (r.step.setup, a.outcome) for r in session.snapshot.steps for a in r.attempts}
    session.close()
    assert {number: now[number] for number in kept} == kept


@pytest.mark.parametrize("nth", [15, 60])
def test_a_climb_killed_in_the_middle_loses_nothing_and_comes_to_its_end(
    prepared: Prepared, tmp_path: Path, nth: int
) -> None:
    book = prepared.copy(tmp_path / "climb")
    asked = (
        "climb",
        str(book),
        "--standard",
        "session",
        "--hours",
        "2",
        "--knob",
        "core_clock",
        "--knob",
        "core_voltage",
    )
    killed = yondle(*asked, fault=f"kill after {nth}")
    assert killed.returncode == -signal.SIGKILL, killed
    session = open_logbook(book)
    kept = {a.id: (r.step.setup, a.outcome) for r in session.snapshot.steps for a in r.attempts}
    session.close()
    done = yondle("plan", "go-on", str(book), "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["plan"]["ended"] == "done"
    session = open_logbook(book)
    now = {a.id: (r.step.setup, a.outcome) for r in session.snapshot.steps for a in r.attempts}
    session.close()
    assert {number: now[number] for number in kept} == kept
    assert len(now) > len(kept)
