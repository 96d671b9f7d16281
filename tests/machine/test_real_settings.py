"""Real settings of the machine the tests run on: changed through the helper, read back, and put back whatever happens."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.session.opening import open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.returning import BringBack, Look, ReadBack, ReturnTo, ReturnToStock
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.logbook.logbook import Logbook
from yondle.main import run
from yondle.model.events import PassOpened, Record
from yondle.model.knobs import Change
from yondle.model.verdicts import Failure, Verdict
from yondle.rigs.linux.privilege import SOURCE, HelperLine, find_way
from yondle.rigs.linux.root.helper.found import find
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost

HUGE = Path("/sys/kernel/mm/transparent_hugepage/enabled")
CPU1 = Path("/sys/devices/system/cpu/cpu1/online")

pytestmark = pytest.mark.skipif(
    os.getuid() != 0 or not os.access(HUGE, os.W_OK), reason="needs root and a machine with large pages"
)


@pytest.fixture(autouse=True)
def as_found() -> Iterator[None]:
    before = {file: file.read_text() for file in (HUGE, CPU1) if file.exists()}
    yield
    for file, text in before.items():
        assert file.read_text() == text, f"{file} was not put back"


def until(ready: Callable[[], bool], within_s: float = 30.0) -> None:
    limit = time.monotonic() + within_s
    while not ready():
        assert time.monotonic() < limit
        time.sleep(0.02)


def this_session(tmp_path: Path) -> Session:
    """A session on this machine whose benchmarks are short."""
    clock = RealClock()
    host = ChildHost(clock.now, clock.wake)
    host.workloads = tuple(replace(work, pass_s=0.4) for work in host.workloads)
    host.usual, host.hard_load, host.loads_for = ("whole_numbers",), ("whole_numbers", 0.6), {}
    rig = ThisRig(host, clock.now, line=HelperLine(find_way().command))
    rig.declaration = replace(rig.declaration, others_at_most=100.0)
    logbook = Logbook.create(tmp_path / "this.yondle", "this", "This machine", "")
    return Session(logbook, Machine(rig, clock, NobodyThere()))


def other_choice() -> tuple[float, str]:
    """A choice for large pages that isn't the one in force."""
    now = find()["large_pages"].value()
    return (2.0, "[always]") if now != 2.0 else (1.0, "[madvise]")


def test_a_step_over_large_pages_is_in_force_while_it_runs_and_gone_when_the_logbook_is_closed(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    value, shown = other_choice()
    session = this_session(tmp_path)
    assert session.do(RunBaseline(2)).verdict is Verdict.HELD
    session.do(Propose("large_pages", value))
    step = session.do(TryProposal(2, turns=False))
    assert step.verdict is Verdict.HELD, step.outcome
    assert shown in HUGE.read_text()
    session.do(ReturnTo(1))
    assert shown not in HUGE.read_text()
    session.do(ReturnTo(2))
    assert shown in HUGE.read_text()
    found = session.declaration.stock["large_pages"]
    assert session.close() == (Change("large_pages", value, found),)
    assert shown not in HUGE.read_text()
    what_is_said_is_what_is(session.logbook.path, value, shown, found, capsys)


def what_is_said_is_what_is(
    book: Path, value: float, shown: str, found: float, capsys: pytest.CaptureFixture[str]
) -> None:
    """The helper has put large pages back: commands that look say so and set nothing, those that set say it was put back."""
    capsys.readouterr()
    assert run(["status", str(book)]) == 0
    told = " ".join(capsys.readouterr().out.split())
    at_stock, word = (find()["large_pages"].choices[int(v)] for v in (found, value))
    assert f"Put back when Yondle ended: Large pages to {at_stock}" in told
    assert f"Large pages {at_stock}" in told.split("In force:")[1]
    assert run(["status", str(book), "--json"]) == 0
    status = json.loads(capsys.readouterr().out)
    assert status["in_force"]["large_pages"] == at_stock
    assert status["put_back"] == {"large_pages": at_stock}
    assert status["verified"] is None
    assert run(["back", str(book), "2"]) == 0
    told = " ".join(capsys.readouterr().out.split())
    assert f"Put back when Yondle ended: Large pages to {at_stock}" in told
    assert run(["back", str(book), "2", "--json"]) == 0
    back = json.loads(capsys.readouterr().out)
    assert back["put_back"] == {"large_pages": at_stock}
    assert shown not in HUGE.read_text()
    again = open_logbook(book)
    assert shown not in HUGE.read_text(), "a look sets nothing"
    again.do(BringBack())
    assert shown in HUGE.read_text()
    assert again.snapshot.put_back == ()
    assert again.close() == (Change("large_pages", value, found),)
    assert word != at_stock


@pytest.mark.skipif(not CPU1.exists(), reason="no processor can be taken off line")
def test_a_processor_is_taken_off_line_and_brought_back(tmp_path: Path) -> None:
    session = this_session(tmp_path)
    count = session.declaration.knob("processors_on_line").high
    session.do(RunBaseline(2))
    session.do(Propose("processors_on_line", 1))
    step = session.do(TryProposal(2))
    assert step.verdict is Verdict.HELD, step.outcome
    assert CPU1.read_text().strip() == "0"
    session.do(ReturnToStock())
    assert session.snapshot.in_force["processors_on_line"] == count
    session.close()


def test_a_yondle_that_is_killed_leaves_nothing_set(tmp_path: Path) -> None:
    value, shown = other_choice()
    session = this_session(tmp_path)
    session.do(RunBaseline(2))
    book = session.logbook.path
    session.close()
    word = find()["large_pages"].choices[int(value)]
    child = subprocess.Popen([sys.executable, "-m", "yondle.main", "step", str(book), f"large_pages={word}", "-n", "2"])
    until(lambda: shown in HUGE.read_text())
    time.sleep(0.5)
    child.send_signal(signal.SIGKILL)
    child.wait()
    until(lambda: shown not in HUGE.read_text())
    session = open_logbook(book)
    assert session.snapshot.resumed[0].outcome.failure is Failure.INTERRUPTED
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    assert session.snapshot.verified is not None
    assert session.snapshot.verified.as_set == session.snapshot.verified.of
    session.close()


def end_helper() -> None:
    """End the helper, which puts everything back, as it does after a silence."""
    for pid in Path("/proc/self/task").glob("*/children"):
        for child in pid.read_text().split():
            if str(SOURCE).encode() in Path(f"/proc/{child}/cmdline").read_bytes():
                os.kill(int(child), signal.SIGTERM)


@pytest.mark.parametrize("by", ["another program", "the helper"])
def test_large_pages_put_back_in_the_first_pass_are_not_called_held(tmp_path: Path, by: str) -> None:
    value, shown = other_choice()
    found = HUGE.read_text()
    session = this_session(tmp_path)
    session.do(RunBaseline(2))

    def put_back(record: Record) -> None:
        if isinstance(record, PassOpened):
            if by == "the helper":
                end_helper()
                until(lambda: shown not in HUGE.read_text())
            else:
                HUGE.write_text(re.search(r"\[(\w+)\]", found).group(1))  # type: ignore[union-attr]

    session.subscribe(put_back)
    session.do(Propose("large_pages", value))
    record = session.do(TryProposal(2, turns=False))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.NOT_IN_FORCE, record.outcome
    assert ("helper" in record.outcome.reason) is (by == "the helper")
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    session.close()


def test_settings_that_the_helper_put_back_at_rest_are_seen_and_set_again(tmp_path: Path) -> None:
    value, shown = other_choice()
    session = this_session(tmp_path)
    session.do(RunBaseline(2))
    session.do(Propose("large_pages", value))
    assert session.do(TryProposal(2, turns=False)).verdict is Verdict.HELD
    assert session.do(Look()).gone_back == ""
    end_helper()
    until(lambda: shown not in HUGE.read_text())
    until(lambda: session.do(Look()).gone_back != "")
    seen = session.do(ReadBack())
    assert seen.as_set == seen.of - 1
    session.do(ReturnTo(2))
    assert shown in HUGE.read_text()
    assert session.do(Look()).gone_back == ""
    session.close()
