"""Tests: stock measured, a proposal tested, a step tested from elsewhere or once more; each to its end, or until it waits."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from yondle.analysis.judging import UNLIMITED, limited_at
from yondle.app.session.commands import Command
from yondle.app.session.limits import checked_passes
from yondle.app.session.proposing import nothing_proposed
from yondle.app.session.session import Session
from yondle.engine.engine import Order
from yondle.language.saying import in_sentence, later, listed, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.proposals import must_be_allowed
from yondle.model.quantities import duration
from yondle.model.steps import ASKED_BECAUSE, Check, Step, StepKind, StepRecord, may_be_put_in_force
from yondle.model.verdicts import TRENDS, Failure, Verdict
from yondle.planning.ladder import knowing, quick_check, step_check, without_loads

BASELINE_PASSES = 5
MOST_BASELINES = 3
"""How often one is run while its figures move over its rounds."""
CAME, WENT = later("knobs that came since the test before"), later("knobs that went since the test before")
"""Conditions a test is recorded with where the machine isn't as it was."""


class _Test(Command[StepRecord]):
    tests = runs = True


@dataclass(frozen=True)
class RunBaseline(_Test):
    """Measure stock: passes of every benchmark, then the hard load.

    One whose figures moved over its rounds is no measure for anything: it is run again, a few times at most, before the rig
    is given back. `knowingly` lists what was not ready and gone on with all the same; it is kept with the attempt.
    """

    passes: int | None = None
    knowingly: tuple[str, ...] = ()

    def do(self, session: Session) -> StepRecord:
        """Give the step with its new attempt, the last one where it was run again."""
        record = self._once(session)
        for _ in range(MOST_BASELINES - 1):
            if record.deciding is None or record.deciding.failure not in TRENDS:
                break
            record = self._once(session)
        return record

    def _once(self, session: Session) -> StepRecord:
        check = quick_check(session.declaration, checked_passes(self.passes or BASELINE_PASSES))
        stock = session.declaration.stock
        session.must_be_free()
        session.proposal = None
        rests = session.rests
        step = Step(session.logbook.next_step(), StepKind.BASELINE, rests.position, stock)
        home = rests.in_force if rests.position is not None else stock
        said = ((later("not ready, started anyway"), "; ".join(self.knowingly)),) if self.knowingly else ()
        return _tested(session, step, check, home, said=said)


@dataclass(frozen=True)
class TryProposal(_Test):
    """Test what is proposed as one step, in turns with where the rig is or not; raises KnownError with nothing proposed."""

    passes: int | None = None
    turns: bool = True
    left_out: tuple[str, ...] = ()
    """Loads that this one test is to do without."""

    def do(self, session: Session) -> StepRecord:
        """Give the step with its new attempt."""
        session.must_be_free()
        if session.book.baseline is None:
            raise session.book.without_baseline()
        proposal, here = session.proposal, session.rests
        if proposal is None:
            raise nothing_proposed()
        setup = here.in_force.with_values({change.knob: change.new for change in proposal.changes})
        check = without_loads(_of_a_step(session, self.passes, here.in_force, setup, self.turns), self.left_out)
        step = session.book.step_from(here.position, here.in_force, setup, proposal.joint)
        instead = measured_first(session, check, here.in_force)
        if instead is not None:
            return instead
        record = _tested(session, step, check, here.in_force)
        session.proposal = None
        return record


@dataclass(frozen=True)
class TryFrom(_Test):
    """Test values on top of an earlier step's, wherever the rig is now; should they not hold it goes to that step.

    A load alone on no other values is another test of that step itself: what it proves, or how it fails, belongs to it.
    `why` is kept with the attempt. Raises KnownError for a step that didn't hold and values that aren't allowed.
    """

    origin: int
    values: Mapping[str, float] = field(default_factory=dict)
    check: Check | None = None
    why: str = ""
    turns: bool = True

    def do(self, session: Session) -> StepRecord:
        """Give the step with its new attempt."""
        session.must_be_free()
        session.proposal = None
        home = session.book.step(self.origin)
        if not may_be_put_in_force(home):
            raise KnownError(
                say("Step {origin} is '{verdict}', so nothing starts from it.", origin=self.origin, verdict=home.word),
                say("Start from one that held."),
            )
        session.rests.must_be_offered(home.step.setup)
        for knob_id, value in self.values.items():
            must_be_allowed(session.declaration, session.declaration.settable(knob_id), value)
        said = ((ASKED_BECAUSE, self.why),) if self.why else ()
        parent, check = home.step.parent, self.check
        if not self.values and check is not None and not check.scores and parent is not None:
            return _tested(session, home.step, check, session.book.step(parent).step.setup, parent, said)
        setup = home.step.setup.with_values(dict(self.values))
        joint = len(home.step.setup.changes_to(setup)) > 1
        step = session.book.step_from(self.origin, home.step.setup, setup, joint)
        asked = check or _of_a_step(session, None, home.step.setup, setup, self.turns)
        instead = measured_first(session, asked, home.step.setup) if check is None else None
        if instead is not None:
            return instead
        return _tested(session, step, asked, home.step.setup, self.origin, said)


@dataclass(frozen=True)
class TryAgain(_Test):
    """Test a step once more, to be sure, from where it was tested before; raises KnownError where it can't be."""

    step: int
    passes: int | None = None
    turns: bool = True

    def do(self, session: Session) -> StepRecord:
        """Give the step with its new attempt."""
        session.must_be_free()
        record = session.book.step(self.step)
        parent = record.step.parent
        if record.step.kind is StepKind.BASELINE:
            return RunBaseline(self.passes).do(session)
        if not session.snapshot.can_test_again(self.step):
            raise KnownError(
                say(
                    "Step {number} was tested from step {parent}, and the rig is elsewhere.",
                    number=self.step,
                    parent=parent,
                ),
                say("Go back to step {parent} first, then test it once more.", parent=parent),
            )
        session.rests.must_be_offered(record.step.setup)
        for change in record.step.changes:
            must_be_allowed(session.declaration, session.declaration.settable(change.knob), change.new)
        session.proposal = None
        home = session.book.step(parent).step.setup if parent is not None else session.declaration.stock
        check = _of_a_step(session, self.passes, home, record.step.setup, self.turns)
        instead = measured_first(session, check, home)
        if instead is not None:
            return instead
        return _tested(session, record.step, check, home, parent)


def _tested(
    session: Session,
    step: Step,
    check: Check,
    home: Setup,
    home_step: int | None = None,
    said: tuple[tuple[str, str], ...] = (),
) -> StepRecord:
    """Run a test, with what the tuner said about it and what limited the machine where it starts."""
    at = home_step if home_step is not None else session.rests.position
    own = {**session.own.conditions, **dict(said)}
    set_back = _set_back_s(session)
    if set_back > 0:
        own["clock"] = say("set back by {set_back} since the test before", set_back=duration(set_back))
    for what, knobs in zip((CAME, WENT), session.book.came_and_went(), strict=True):
        if knobs:
            own[what] = listed([in_sentence(session.declaration.knob(knob).name) for knob in knobs])
    baseline = step.kind is StepKind.BASELINE
    order = Order(
        session.logbook.next_attempt(),
        step,
        knowing(check, None) if baseline and check.scores else session.snapshot.informed(check, home, step.setup),
        home,
        at,
        session.book.outcomes(step.number),
        tuple(own.items()),
        limited_at(session.declaration, session.book.step(at)) if at is not None else UNLIMITED,
    )
    session.waits.order = order
    session.engine.test(order)
    return session.book.step(step.number)


def measured_first(session: Session, check: Check, home: Setup) -> StepRecord | None:
    """Measure once more what is due before a test from `home`; gives its step where the test can't follow then.

    Stopped by the tuner it can't, nor where the rig isn't at home again, or home itself failed.
    """
    due = session.snapshot.bracket_due(check) if session.rests.in_force == home else None
    if due is None:
        return None
    step, at = due.record.step, session.rests.position
    why = ((ASKED_BECAUSE, later("it is due, to tell what drifts")),)
    order = Order(
        session.logbook.next_attempt(), step, due.check, home, at, session.book.outcomes(step.number), why, returns=True
    )
    session.waits.order = order
    outcome = session.engine.test(order)
    follows = outcome is not None and outcome.failure is not Failure.STOPPED and session.rests.in_force == home
    failed = outcome is not None and outcome.verdict in (Verdict.DOWN, Verdict.WRONG, Verdict.REFUSED)
    return None if follows and not (failed and step.setup == home) else session.book.step(step.number)


def _of_a_step(session: Session, passes: int | None, home: Setup, setup: Setup, turns: bool = True) -> Check:
    """The check of a step: in turns with what it starts from where that can be, with so many passes of its own."""
    asked = None if passes is None else checked_passes(passes)
    return step_check(session.declaration, asked, home, setup, turns)


def _set_back_s(session: Session) -> float:
    """By how much the wall clock stands before the latest test; order and durations never come from it."""
    latest = session.book.latest_attempt
    if latest is None:
        return 0.0
    return (datetime.fromisoformat(latest.started_at) - session.machine.clock.wall()).total_seconds()
