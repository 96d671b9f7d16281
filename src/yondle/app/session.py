"""One open logbook with its rig and engine, and every operation on them; each returns what came of it."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from yondle.app.faults import VARIABLE, kill_self, with_faults
from yondle.app.machines import Machine, RigChoice, make_machine
from yondle.engine.engine import Engine, Order
from yondle.engine.recovery import judge_unclosed
from yondle.engine.requests import Request
from yondle.engine.states import State
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.events import (
    AttemptClosed,
    PassEnded,
    PassOpened,
    PositionMoved,
    Record,
    StepOpened,
    VerdictGiven,
)
from yondle.model.knobs import Change, Knob, Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Check, Note, Step, StepKind, StepRecord
from yondle.model.verdicts import Outcome, Verdict
from yondle.planning.ladder import quick_check

logger = logging.getLogger(__name__)

BASELINE_PASSES = 5
STEP_PASSES = 5
LONGEST_NOTE = 4000

Listener = Callable[[Record], None]


@dataclass(frozen=True, slots=True)
class Proposal:
    """What is proposed on top of the setup in force: knob values, and whether two at once were asked for."""

    changes: tuple[Change, ...]
    joint: bool

    def value(self, knob: str) -> float | None:
        """Give the proposed value of a knob, None when it stays."""
        return next((c.new for c in self.changes if c.knob == knob), None)


@dataclass(frozen=True, slots=True)
class Resumed:
    """What was found open at the start: the step on trial, what became of it, and where the rig rests now."""

    step: StepRecord
    outcome: Outcome
    rests_at_step: int | None
    verified: bool


@dataclass(frozen=True, slots=True)
class Verified:
    """When settings were last read back, and how many of them were as they should be."""

    at_s: float
    as_set: int
    of: int


class Session:
    """The operations of Yondle on one logbook. Tests run in the calling thread; requests may come from any thread."""

    def __init__(self, logbook: Logbook, machine: Machine) -> None:
        self.logbook = logbook
        self.machine = machine
        self.declaration: RigDeclaration = machine.rig.declaration
        self._listeners: list[Listener] = []
        recorder = with_faults(logbook, os.environ.get(VARIABLE))
        self._engine = Engine(machine.rig, machine.clock, recorder, self._hear)
        self._book: dict[int, StepRecord] = {record.step.number: record for record in logbook.steps()}
        self._note_steps()
        self._position = logbook.position()
        self._running = 0
        self.version = 0
        self.proposal: Proposal | None = None
        self.verified: Verified | None = None
        self.resumed = self._close_what_was_open()
        self.in_force: Setup = self._come_to_position()
        if self.verified is None:
            self.verify()

    # -- opening and closing -------------------------------------------------------------------------------------------

    @classmethod
    def create(cls, path: Path, choice: RigChoice, pace: float | None = None, together: bool = False) -> Session:
        """Make a new logbook for a rig and open it."""
        Logbook.create(path, choice.kind, choice.name, choice.definition).close()
        machine_file(path).unlink(missing_ok=True)
        return cls.open(path, pace, together)

    @classmethod
    def open(cls, path: Path, pace: float | None = None, together: bool = False) -> Session:
        """Open a logbook, name what was left open in it, and bring the rig to the last setup that held.

        With `together` a simulated machine that goes down takes the program down with it, as the real one does.
        """
        logbook = Logbook(path)
        try:
            choice = RigChoice(*logbook.rig())
            goes_down = kill_self if together else None
            machine = make_machine(choice, machine_file(path), pace, logbook.last_time_s(), goes_down)
            return cls(logbook, machine)
        except BaseException:
            logbook.close()
            raise

    def close(self) -> None:
        """Let go of the rig and the logbook."""
        self.machine.rig.close()
        self.logbook.close()

    def subscribe(self, listener: Listener) -> None:
        """Hear every record from now on, in the thread that runs the engine."""
        self._listeners.append(listener)

    # -- what there is -------------------------------------------------------------------------------------------------

    @property
    def steps(self) -> list[StepRecord]:
        """Every step, oldest first."""
        return self._steps

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        try:
            return self._book[number]
        except KeyError:
            raise KnownError(f"There is no step {number}.", "'yondle status' lists the steps there are.") from None

    @property
    def position(self) -> StepRecord | None:
        """The step whose setup is in force."""
        return self._book.get(self._position) if self._position is not None else None

    @property
    def baseline_step(self) -> StepRecord | None:
        """The latest baseline that ran through."""
        return self._baseline

    @property
    def state(self) -> State:
        """What the engine is doing."""
        return self._engine.state

    @property
    def proposed(self) -> Setup:
        """The setup in force with the proposal on top."""
        changes = self.proposal.changes if self.proposal else ()
        return self.in_force.with_values({c.knob: c.new for c in changes})

    # -- operations ----------------------------------------------------------------------------------------------------

    def propose(self, knob_id: str, value: float, joint: bool = False) -> Proposal | None:
        """Propose a value for one knob; the value in force takes it out of the proposal again.

        A second knob needs `joint`. Raises KnownError for a value the knob doesn't take or above the tuner's ceiling.
        """
        knob = self.declaration.knob(knob_id)
        taken = knob.checked(value)
        self._must_be_below_ceiling(knob, taken)
        old = self.proposal.changes if self.proposal else ()
        others = tuple(c for c in old if c.knob != knob_id)
        joint = joint or (self.proposal.joint if self.proposal else False)
        if others and not joint:
            named = self.declaration.knob(others[0].knob)
            raise KnownError(
                f"{named.name} {named.text(others[0].new)} is already proposed; one step changes one knob.",
                "Test that one first, drop it, or make it a joint step (then no gain is credited to either knob alone).",
            )
        own = (Change(knob_id, self.in_force[knob_id], taken),) if taken != self.in_force[knob_id] else ()
        changes = tuple(sorted(others + own, key=lambda c: c.knob))
        self.proposal = Proposal(changes, joint and len(changes) > 1) if changes else None
        return self.proposal

    def drop_proposal(self) -> None:
        """Drop the proposal."""
        self.proposal = None

    def check(self, passes: int | None = None) -> Check:
        """Give the check ladder that a test of the proposal would run."""
        return quick_check(self.declaration, _checked_passes(passes or STEP_PASSES))

    def baseline(self, passes: int | None = None) -> StepRecord:
        """Measure stock: passes of every benchmark, then the hard load."""
        check = quick_check(self.declaration, _checked_passes(passes or BASELINE_PASSES))
        stock = self.declaration.stock
        step = Step(self.logbook.next_step(), StepKind.BASELINE, self._position, stock)
        return self._test(step, check, self.in_force if self._position is not None else stock)

    def test(self, passes: int | None = None) -> StepRecord:
        """Test what is proposed as one step from where the rig is; raises KnownError with nothing proposed."""
        if self.baseline_step is None:
            raise KnownError("There is no baseline yet, so no gain could be told.", "Run the baseline first.")
        if self.proposal is None:
            raise KnownError("Nothing is proposed.", "Move a marker on a ruler, or name a knob and a value.")
        setup = self.proposed
        again = self._same_step(setup)
        number = again.step.number if again else self.logbook.next_step()
        step = Step(number, StepKind.CHANGE, self._position, setup, self.proposal.changes, self.proposal.joint)
        record = self._test(again.step if again else step, self.check(passes), self.in_force)
        self.proposal = None
        return record

    def go_back(self, number: int) -> StepRecord:
        """Put the settings of an earlier step that held in force again."""
        record = self.step(number)
        if not _may_be_put_in_force(record):
            raise KnownError(
                f"Step {number} is '{record.verdict}', so it isn't put in force by itself.",
                "Go back to a step that held, or propose its values again as a step.",
            )
        self._engine.rest_at(record.step.setup, number)
        self.proposal = None
        return self.step(number)

    def can_go_back(self, number: int) -> bool:
        """Tell whether a step's settings may be put in force again, and aren't already."""
        return number != self._position and _may_be_put_in_force(self.step(number))

    def note(self, number: int, text: str) -> Note:
        """Write a note at a step."""
        self.step(number)
        words = text.strip()
        if not words or len(words) > LONGEST_NOTE:
            raise KnownError("A note has 1 to 4 000 characters.", "Shorten it, or write two.")
        self.logbook.add_note(number, self.machine.clock.wall().isoformat(timespec="seconds"), words)
        self._reload(number)
        return self._book[number].notes[-1]

    def verify(self) -> Verified:
        """Read the settings back and count those that are as they should be."""
        read = self.machine.rig.read_back()
        as_set = sum(1 for knob, value in self.in_force.items() if read.get(knob) == value)
        self.verified = Verified(self.machine.clock.now(), as_set, len(self.in_force))
        return self.verified

    def stop(self) -> None:
        """End the running test now and go back to the setup before it."""
        self._engine.requests.ask(Request.STOP)

    def pause(self) -> None:
        """Wait before the next pass with the load off; the setting stays."""
        self._engine.requests.ask(Request.PAUSE)

    def go_on(self) -> None:
        """End a pause."""
        self._engine.requests.go_on()

    def emergency_stop(self) -> None:
        """End the running test and go to stock at once."""
        self._engine.requests.ask(Request.HALT)

    # -- inside ----------------------------------------------------------------------------------------------------------

    def _test(self, step: Step, check: Check, home: Setup) -> StepRecord:
        order = Order(self.logbook.next_attempt(), step, check, home, self._position)
        self._engine.test(order)
        return self._book[step.number]

    def _same_step(self, setup: Setup) -> StepRecord | None:
        """A setup tested before from the same place is another attempt of that step, not a new one."""
        for record in self.steps:
            if record.step.parent == self._position and record.step.setup == setup:
                return record
        return None

    def _must_be_below_ceiling(self, knob: Knob, value: float) -> None:
        ceiling = self.declaration.ceilings.get(knob.id)
        if ceiling is not None and value > ceiling + knob.step * 1e-6:
            raise KnownError(
                f"{knob.name} {knob.text(value)} is above your own ceiling of {knob.text(ceiling)}.",
                "Propose less; the ceiling stands in the rig's description.",
            )

    def _close_what_was_open(self) -> list[Resumed]:
        found = []
        for open_ in self.logbook.unclosed():
            outcome = open_.attempt.outcome
            judged = outcome or judge_unclosed(
                self.declaration,
                open_.attempt.boot_id,
                self.machine.rig.boot_id(),
                open_.last_act,
                open_.last_detail,
                open_.last_sample_s,
            )
            home, home_step = open_.home, open_.home_step
            if outcome is not None and outcome.verdict is Verdict.HELD:
                home, home_step = open_.step.setup, open_.step.number
            number = open_.step.number
            verified = self._engine.close_interrupted(
                open_.attempt.id, number, home, home_step, None if outcome else judged
            )
            found.append(Resumed(self._book[number], judged, self._position, verified))
        return found

    def _come_to_position(self) -> Setup:
        """Bring the rig to the settings the logbook stands for; a machine that restarted in between has lost them."""
        here = self.position
        read = self.machine.rig.read_back()
        if here is None:
            return read
        if read != here.step.setup:
            self._engine.rest_at(here.step.setup, here.step.number)
            return self.in_force
        return here.step.setup

    def _reload(self, number: int) -> None:
        self._book[number] = self.logbook.step(number)
        self._note_steps()
        self.version += 1

    def _note_steps(self) -> None:
        """Keep the list of steps and the latest baseline at hand: both are asked for all the time."""
        self._steps = [self._book[n] for n in sorted(self._book)]
        measured = (r for r in reversed(self._steps) if r.step.kind is StepKind.BASELINE and r.verdict in _MEASURED)
        self._baseline = next(measured, None)

    def _hear(self, record: Record) -> None:
        match record:
            case StepOpened():
                self._reload(record.step.number)
                self._running = record.step.number
            case PassOpened() | PassEnded():
                self._reload(self._running)
            case VerdictGiven():
                self._reload(record.step)
            case AttemptClosed():
                self._rest(record.position, record.rests_at, record.verified)
                self._reload(record.step)
            case PositionMoved():
                self._rest(record.position, record.rests_at, record.verified)
            case _:
                pass
        for listener in self._listeners:
            listener(record)

    def _rest(self, position: int | None, rests_at: Setup, verified: bool) -> None:
        self._position = position if position is not None else self._stock_step(rests_at)
        self.in_force = rests_at
        self.version += 1
        self.verified = Verified(self.machine.clock.now(), len(rests_at) if verified else 0, len(rests_at))

    def _stock_step(self, rests_at: Setup) -> int | None:
        baseline = self.baseline_step
        return baseline.step.number if baseline and baseline.step.setup == rests_at else None


_MEASURED = (Verdict.HELD, Verdict.HELD_BACK)


def _may_be_put_in_force(record: StepRecord) -> bool:
    """What held may, and so may stock once it was measured, even where it was held back."""
    baseline = record.step.kind is StepKind.BASELINE and record.verdict is Verdict.HELD_BACK
    return record.verdict is Verdict.HELD or baseline


def machine_file(logbook: Path) -> Path:
    """Where the state of a simulated machine is kept: beside its logbook."""
    return logbook.with_name(logbook.name + ".machine")


def _checked_passes(passes: int) -> int:
    if not 2 <= passes <= 200:
        raise KnownError(f"{passes} passes can't be run.", "Give 2 to 200; fewer than 3 tell little.")
    return passes
