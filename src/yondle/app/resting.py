"""Where the rig rests: the settings in force, the step they belong to, and how a new start brings the rig there again."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from yondle.app.book import Book
from yondle.app.machines import Machine
from yondle.app.waiting import Waits
from yondle.engine.engine import Engine
from yondle.engine.recovery import judge_unclosed
from yondle.logbook.logbook import Logbook
from yondle.logbook.reading import OpenAttempt
from yondle.logbook.writing import HEADING
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord, verdict_of
from yondle.model.verdicts import Outcome, Verdict


@dataclass(frozen=True, slots=True)
class Verified:
    """When settings were last read back, and how many of them were as they should be."""

    at_s: float
    as_set: int
    of: int


@dataclass(frozen=True, slots=True)
class Resumed:
    """What was found open at the start: the step on trial, what became of it, and where the rig rests now."""

    step: StepRecord
    outcome: Outcome
    rests_at_step: int | None
    verified: bool


class Resting:
    """The step whose settings are in force, and those settings; the engine's records move it (`rest`)."""

    def __init__(self, logbook: Logbook, machine: Machine, engine: Engine, book: Book) -> None:
        self._logbook = logbook
        self._machine = machine
        self._engine = engine
        self._book = book
        self.position = logbook.position()
        self.in_force = Setup(())
        self.verified: Verified | None = None
        if self.position is not None:
            engine.believe(book.step(self.position).step.setup)

    def rest(self, position: int | None, rests_at: Setup, verified: bool) -> None:
        """Take it that the rig rests at settings now; stock without a step belongs to the baseline."""
        self.position = position if position is not None else self._stock_step(rests_at)
        self.in_force = rests_at
        self._engine.believe(rests_at)
        self.verified = Verified(self._machine.clock.now(), len(rests_at) if verified else 0, len(rests_at))

    def verify(self) -> Verified:
        """Read the settings back and count those that are as they should be."""
        read = self._engine.read()
        as_set = sum(1 for knob, value in self.in_force.items() if read.get(knob) == value)
        self.verified = Verified(self._machine.clock.now(), as_set, len(self.in_force))
        return self.verified

    def close(self, open_: OpenAttempt, declaration: RigDeclaration) -> Resumed:
        """Name what became of an attempt that was left open, and bring the rig back to the last settings that held."""
        outcome, number = open_.attempt.outcome, open_.step.number
        judged = outcome or judge_unclosed(
            declaration,
            open_.boot_id,
            self._machine.rig.boot_id(),
            open_.last_act,
            open_.last_detail,
            open_.last_sample_s,
            self._machine.rig.crash_signs(datetime.fromisoformat(open_.attempt.started_at).timestamp()),
        )
        home, home_step = open_.home, open_.home_step
        if outcome is not None and verdict_of(self._book.outcomes(number)) is Verdict.HELD:
            home, home_step = open_.step.setup, number
        verified = self._engine.close_interrupted(
            open_.attempt.id, number, home, home_step, None if outcome else judged
        )
        return Resumed(self._book.step(number), judged, self.position, verified)

    def come_back(self, waits: Waits) -> None:
        """Bring the rig to the settings the logbook stands for; a machine that restarted in between has lost them."""
        read = self._engine.read()
        if waits.order is not None:
            self.in_force = waits.order.home
            return
        if waits.take_up_putting_back():
            self.in_force = read
            return
        heading = self._logbook.keeping.value(HEADING)
        if heading is not None:
            self._engine.rest_at(Setup.of(heading["setup"]), heading["position"])
            return
        if self.position is None:
            self.in_force = read
            return
        stands_for = self._book.step(self.position).step.setup
        if read != stands_for or self._machine.rig.pending():
            self._engine.rest_at(stands_for, self.position)
        else:
            self.in_force = stands_for

    def _stock_step(self, rests_at: Setup) -> int | None:
        baseline = self._book.baseline
        return baseline.step.number if baseline and baseline.step.setup == rests_at else None
