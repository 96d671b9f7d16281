"""Steps that take turns with what they start from, the baseline measured again between them, and falls at the start."""

from __future__ import annotations

from dataclasses import replace
from itertools import groupby
from pathlib import Path
from typing import Any

import pytest
from tests.conftest import quick_rig
from tests.fakes import ChangedRig, changed_session

from yondle.app.plans.plans import GoOnWithPlan, StartPlan, preview
from yondle.app.session.proposing import Propose
from yondle.app.session.requests import Stop
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryAgain, TryProposal
from yondle.engine.recovery import judge_unclosed
from yondle.model.acts import Act
from yondle.model.errors import MachineDownError
from yondle.model.events import PassOpened, SettleOpened, StepOpened
from yondle.model.knobs import Setup
from yondle.model.plan_runs import Ended
from yondle.model.steps import COMPARED_STAGE, StepRecord
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import Direction, PassResult
from yondle.planning.ladder import BRACKET_EVERY
from yondle.planning.plan_files import parse_plan
from yondle.views.shared.gains import gain_of, words_of_gain

STEPS = """
format = "yondle-plan 1"
name = "five"
passes = 2
[[do]]
kind = "steps"
steps = [{ core_clock = 4225 }, { core_clock = 4250 }, { core_clock = 4275 }, { core_clock = 4300 }, { core_clock = 4325 }]
"""


class Wrong:
    """A load whose result is wrong."""

    def __init__(self, run: Any) -> None:
        self._run = run

    def __getattr__(self, name: str) -> Any:
        return getattr(self._run, name)

    def poll(self) -> PassResult | None:
        return PassResult(False, None, 1.0, Failure.WRONG_RESULTS.value, "checksum differs")


class Failing(ChangedRig):
    """A machine on which stock no longer holds once it is told so: it computes wrongly there, or goes down."""

    how = ""

    def at_stock(self) -> bool:
        return bool(self.how) and self._rig.read_back() == self.declaration.stock

    def start(self, workload: str, seconds: float, setup: Setup) -> Any:
        if self.how == "down" and self.at_stock():
            raise MachineDownError(Failure.FROZE, "")
        run = self._rig.start(workload, seconds, setup)
        return Wrong(run) if self.how == "wrong" and self.at_stock() else run


class Slow:
    """A load that comes to more or less than it would."""

    def __init__(self, run: Any, share: float) -> None:
        self._run, self._share = run, share

    def __getattr__(self, name: str) -> Any:
        return getattr(self._run, name)

    def poll(self) -> PassResult | None:
        result = self._run.poll()
        return replace(result, score=result.score * self._share) if result is not None and result.score else result


class Waking(ChangedRig):
    """A machine that gets faster over its first passes."""

    begun = 0

    def start(self, workload: str, seconds: float, setup: Setup) -> Any:
        self.begun += 1
        share = 1.0 - 0.002 * max(0, 30 - self.begun)
        lower = self.declaration.workload(workload).metric.direction is Direction.LOWER
        return Slow(self._rig.start(workload, seconds, setup), 1.0 / share if lower else share)


def test_a_baseline_whose_scores_rise_is_run_again_until_they_do_not(tmp_path: Path) -> None:
    session = changed_session(tmp_path / "book.yondle", quick_rig(), Waking)
    record = session.do(RunBaseline())
    first, second = session.snapshot.steps
    assert first.outcome is not None
    assert first.outcome.failure is Failure.SCORE_ROSE
    assert second.step.number == record.step.number
    assert record.verdict is Verdict.HELD
    assert session.snapshot.baseline_step is not None
    assert session.snapshot.baseline_step.step.number == 2
    session.close()


def step(session: Session, value: float) -> StepRecord:
    session.do(Propose("core_clock", value))
    return session.do(TryProposal(2))


@pytest.mark.parametrize("how", ["wrong", "down"])
def test_a_start_that_fails_says_nothing_of_the_step(tmp_path: Path, how: str) -> None:
    session = changed_session(tmp_path / "book.yondle", quick_rig(), Failing)
    session.do(RunBaseline(2))
    rig = session.machine.rig
    assert isinstance(rig, Failing)
    rig.how = how
    record = step(session, 4300)
    assert record.verdict is Verdict.UNPROVEN
    assert record.outcome is not None
    assert record.outcome.failure is Failure.START_FAILED
    assert "starts from failed" in record.outcome.reason
    assert record.scores("stacking"), "its own passes stay"
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    assert session.snapshot.in_force == session.machine.rig.read_back() == session.declaration.stock
    rig.how = ""
    assert session.do(TryAgain(2, 2)).verdict is Verdict.HELD
    session.close()


@pytest.mark.parametrize("act", [Act.SETTLE_OPENED, Act.APPLY_OPENED, Act.PASS_ENDED])
def test_a_restart_found_later_is_told_of_what_was_in_force(session: Session, act: Act) -> None:
    for at_home, failure in ((True, Failure.START_FAILED), (False, Failure.RESTARTED)):
        told = judge_unclosed(session.declaration, "boot 1", "boot 2", act, {}, 5.0, (), at_home)
        assert told.failure is failure
        assert "went down" in told.reason


def test_what_was_in_force_when_yondle_was_killed_is_read_from_the_journal(session: Session) -> None:
    session.do(RunBaseline(2))
    seen: list[bool] = []

    def look(record: object) -> None:
        if isinstance(record, SettleOpened | PassOpened):
            seen.extend(attempt.at_home for attempt in session.logbook.unclosed())

    session.subscribe(look)
    record = step(session, 4300)
    assert [at for at, _ in groupby(seen)] == [False, True, False]
    assert {p.stage for p in record.attempts[0].compared} == {COMPARED_STAGE}
    assert record.attempts[0].home == session.declaration.stock


def test_the_baseline_is_measured_again_after_four_tests_and_the_rig_comes_back(session: Session) -> None:
    session.do(RunBaseline(2))
    opened: list[int] = []
    session.subscribe(lambda r: opened.append(r.step.number) if isinstance(r, StepOpened) else None)
    for i in range(BRACKET_EVERY + 1):
        session.do(Propose("core_clock", 4225.0 + 25 * i))
        due = session.snapshot.bracket_due(session.snapshot.check())
        assert (due is not None) == (i == BRACKET_EVERY)
        assert session.do(TryProposal(2)).verdict is Verdict.HELD
    assert opened == [2, 3, 4, 5, 1, 6]
    baseline, last = session.snapshot.step(1), session.snapshot.step(6)
    assert [len(a.passes) > 0 for a in baseline.attempts] == [True, True]
    assert baseline.verdict is Verdict.HELD
    assert session.snapshot.in_force == last.step.setup == session.machine.rig.read_back()
    assert session.snapshot.since_baseline == 1
    benchmark = session.declaration.workload("stacking")
    told = gain_of(session.snapshot, last, benchmark)
    assert told is not None
    compared = [p for p in session.snapshot.step(2).attempts[0].compared if p.counts and p.workload == "stacking"]
    assert (told.n, told.n_baseline) == (2, len(baseline.scores("stacking")) + len(compared))
    assert words_of_gain(session.snapshot, baseline, benchmark) == ""


def test_a_plan_stopped_while_the_baseline_is_measured_again_goes_on_with_the_move_it_was_before(
    session: Session,
) -> None:
    session.do(RunBaseline(2))
    stops = [True]

    def listen(record: object) -> None:
        if isinstance(record, PassOpened) and record.attempt == BRACKET_EVERY + 2 and stops:
            stops.clear()
            session.do(Stop())

    session.subscribe(listen)
    ended = session.do(StartPlan(STEPS, "five", lambda *_: None))
    assert (ended.ended, ended.moves) == (Ended.STOPPED, BRACKET_EVERY)
    assert [r.step.number for r in session.snapshot.steps] == [1, 2, 3, 4, 5]
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 5
    assert session.do(GoOnWithPlan()).ended is Ended.DONE
    assert [len(r.attempts) for r in session.snapshot.steps] == [3, 1, 1, 1, 1, 1]
    assert session.snapshot.step(1).verdict is Verdict.HELD


APART = """
format = "yondle-plan 1"
name = "five apart"
passes = 2
[[do]]
kind = "sweep"
knob = "{knob}"
from = {low}
to = {high}
by = {by}
"""


@pytest.mark.parametrize(("start", "knob", "low", "high", "by", "again"), [
    ({}, "cores_in_use", 3, 7, 1, 1),
    ({"core_clock": 4225.0}, "cores_in_use", 3, 7, 1, 1),
    ({"memory_rate": 5400.0}, "trcd", 41, 45, 1, 2),
])  # fmt: skip
def test_between_steps_with_restarts_what_they_are_held_against_is_measured_again(
    session: Session, start: dict[str, float], knob: str, low: int, high: int, by: int, again: int
) -> None:
    """Stock, where no hand is needed for that; else what the steps start from, where the rig is anyway."""
    with session.unattended():
        session.do(RunBaseline(2))
        for name, value in start.items():
            session.do(Propose(name, value))
            session.do(TryProposal(2))
        first = len(session.snapshot.steps)
        opened: list[int] = []
        session.subscribe(lambda r: opened.append(r.step.number) if isinstance(r, StepOpened) else None)
        text = APART.format(knob=knob, low=low, high=high, by=by)
        seen = preview(session.snapshot, parse_plan(text, "apart", session.declaration))
        ended = session.do(StartPlan(text, "apart", unattended=True))
    assert ended.ended is Ended.DONE, ended.reason
    tested = list(range(first + 1, first + 6))
    before = BRACKET_EVERY - (first - 1 if again == 1 else 0)
    assert opened == [*tested[:before], again, *tested[before:]]
    due = session.snapshot.step(again).attempts[-1]
    assert any(p.counts for p in due.passes)
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == first
    assert session.snapshot.in_force == session.machine.rig.read_back()
    assert seen.tests == 5


def test_no_step_follows_where_its_start_failed_as_it_was_measured_again(tmp_path: Path) -> None:
    session = changed_session(tmp_path / "book.yondle", quick_rig(), Failing)
    rig = session.machine.rig
    assert isinstance(rig, Failing)
    session.do(RunBaseline(2))
    for value in range(7, 7 - BRACKET_EVERY, -1):
        session.do(Propose("cores_in_use", value))
        session.do(TryProposal(2))
        session.do(ReturnTo(1))
    session.do(Propose("cores_in_use", 3))
    rig.how = "wrong"
    record = session.do(TryProposal(2))
    assert record.step.number == 1
    assert record.verdict is not Verdict.HELD
    assert len(session.snapshot.steps) == 1 + BRACKET_EVERY
    assert session.snapshot.proposal is not None, "it is still to be tested"
    session.close()
