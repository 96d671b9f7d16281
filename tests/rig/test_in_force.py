"""In force means read: what a test says of a setting holds for what was really set while it ran."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from tests.conftest import quick_rig
from tests.fakes import ChangedRig, changed_session

from yondle.app.plans.plans import EndPlan, StartPlan
from yondle.app.session.opening import open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.requests import EmergencyStop, ForgetRequests, GoOn, Stop
from yondle.app.session.returning import ReadBack
from yondle.app.session.session import Session
from yondle.app.session.stopping import ask_to_stop, stop_file
from yondle.app.session.testing import RunBaseline, TryFrom, TryProposal
from yondle.engine.requests import Request
from yondle.model.errors import KnownError
from yondle.model.events import PassEnded, PassOpened, Record, VerdictGiven
from yondle.model.knobs import Setup
from yondle.model.verdicts import Failure, Verdict

LADDER = """
format = "yondle-plan 1"
name = "two clocks"
passes = 2
[[do]]
kind = "ladder"
knob = "core_clock"
to = 4500
by = 100
"""


class Elsewhere(ChangedRig):
    """A machine whose knobs another program moves, and whose answers may be missing."""

    def __init__(self, rig: object, **how: Any) -> None:
        super().__init__(rig, **how)
        self.moved: dict[str, float] = {}
        self.unread: set[str] = set()

    def read_back(self) -> Setup:
        read = {**self._rig.read_back(), **self.moved}
        return Setup.of({knob: value for knob, value in read.items() if knob not in self.unread})


def elsewhere(path: Path) -> tuple[Session, Elsewhere]:
    session = changed_session(path, quick_rig(), Elsewhere)
    rig = session.machine.rig
    assert isinstance(rig, Elsewhere)
    return session, rig


def test_a_value_that_another_program_moves_in_the_first_pass_is_not_called_held(tmp_path: Path) -> None:
    session, rig = elsewhere(tmp_path / "book.yondle")
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))

    def move(record: Record) -> None:
        if isinstance(record, PassOpened):
            rig.moved = {"core_clock": 4200.0}

    session.subscribe(move)
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert (record.verdict, record.outcome.failure) == (Verdict.REFUSED, Failure.NOT_IN_FORCE)
    assert "4\u202f300" in record.outcome.reason
    assert "4\u202f200" in record.outcome.reason
    assert record.scores("stacking") == []
    assert len(record.attempts[0].passes) == 1
    assert "reads back" in record.attempts[0].passes[0].disturbed
    session.close()


def test_a_value_moved_in_the_last_pass_is_seen_before_the_verdict(tmp_path: Path) -> None:
    session, rig = elsewhere(tmp_path / "book.yondle")
    session.do(RunBaseline(2))
    ended = 0

    def count(record: Record) -> None:
        nonlocal ended
        ended += isinstance(record, PassEnded)

    session.subscribe(count)
    session.do(Propose("core_clock", 4250))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    last, ended = ended, 0

    def move(record: Record) -> None:
        if isinstance(record, PassOpened) and ended == last - 1:
            rig.moved = {"core_clock": 4200.0}

    session.subscribe(move)
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    assert ended == last
    assert record.outcome is not None
    assert record.outcome.failure is Failure.NOT_IN_FORCE
    session.close()


def test_a_knob_that_could_be_read_and_was_not_is_neither_believed_nor_counted(tmp_path: Path) -> None:
    session, rig = elsewhere(tmp_path / "book.yondle")
    session.do(RunBaseline(2))
    readable = sum(knob.readable for knob in session.declaration.knobs)
    rig.unread = {"core_clock"}
    seen = session.do(ReadBack())
    assert (seen.as_set, seen.of, seen.told) == (readable - 1, readable, len(session.declaration.knobs) - readable)
    session.do(Propose("power_limit", session.snapshot.in_force["power_limit"] - 5))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.NOT_IN_FORCE
    assert "nothing reads back" in record.outcome.reason
    session.close()


@pytest.mark.parametrize("at", [PassOpened, VerdictGiven])
def test_a_stop_stops_a_plan_whenever_it_comes(session: Session, at: type) -> None:
    """Also while a test is being judged: then there is no test to end, but more would follow."""
    session.do(RunBaseline(2))
    tests = 0

    def stop(record: Record) -> None:
        nonlocal tests
        tests += isinstance(record, VerdictGiven)
        if isinstance(record, at):
            session.do(Stop())

    session.subscribe(stop)
    end = session.do(StartPlan(LADDER, "the ladder", lambda *_: None))
    assert tests == 1
    assert "stopped" in end.reason.lower()
    session.do(EndPlan())
    with pytest.raises(KnownError, match="No plan"):
        session.do(EndPlan())


def test_an_emergency_stop_between_two_tests_of_a_plan_goes_to_stock(session: Session) -> None:
    session.do(RunBaseline(2))

    def halt(record: Record) -> None:
        if isinstance(record, VerdictGiven):
            session.do(EmergencyStop())

    session.subscribe(halt)
    session.do(StartPlan(LADDER, "the ladder", lambda *_: None))
    assert session.snapshot.in_force == session.declaration.stock


def test_a_stop_that_comes_before_the_test_has_begun_is_not_lost(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(ForgetRequests())
    session.do(Stop())
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.STOPPED


def test_a_test_is_stopped_from_another_program_through_a_file_of_ones_own(session: Session, tmp_path: Path) -> None:
    session.do(RunBaseline(2))
    file = stop_file(session.logbook.path)

    def ask(record: Record) -> None:
        if isinstance(record, PassOpened) and record.number == 1:
            file.write_text("emergency")

    session.subscribe(ask)
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(200))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.STOPPED
    assert session.snapshot.in_force == session.declaration.stock
    assert not file.exists()
    with pytest.raises(KnownError, match="no test of it runs"):
        ask_to_stop(session.logbook.path, False, lambda _: None)
    assert not file.exists()
    session.close()
    with pytest.raises(KnownError, match="nothing runs"):
        ask_to_stop(session.logbook.path, False, lambda _: None)


def test_what_was_asked_of_an_earlier_run_stops_no_later_one(
    new_session: Callable[..., Session], tmp_path: Path
) -> None:
    session = new_session(name="old")
    session.close()
    stop_file(tmp_path / "old.yondle").write_text("stop")
    again = open_logbook(tmp_path / "old.yondle")
    assert again.do(RunBaseline(2)).verdict is Verdict.HELD
    again.close()


def test_a_pause_asked_for_again_the_moment_it_ended_goes_on(new_session: Callable[..., Session]) -> None:
    """Between the end of a pause and the next pass: the machine is cool, so nothing is done in between."""
    session = new_session(quick_rig(settle_below_c="80.0"))
    session.do(RunBaseline(2))
    looks = 0

    def pause_twice() -> Request | None:
        nonlocal looks
        looks += 1
        if looks in (2, 4):
            session.do(GoOn())
        return Request.PAUSE if looks in (1, 3) else None

    session.engine.requests.from_outside = pause_twice
    session.do(TryFrom(1, {"core_clock": 4300.0}, None))
    assert session.snapshot.steps[-1].verdict is Verdict.HELD
