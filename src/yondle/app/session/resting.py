"""Where the rig rests: the settings in force, the step they belong to, and how a new start brings the rig there again."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from yondle.app.machine.machines import Machine
from yondle.app.session.book import Book
from yondle.app.session.waiting import WaitForHands
from yondle.engine.engine import Engine
from yondle.engine.recovery import judge_unclosed
from yondle.formats.documents import Heading
from yondle.language.saying import say
from yondle.logbook.logbook import Logbook
from yondle.logbook.reading import OpenAttempt
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.standing import Resumed, Verified
from yondle.model.steps import verdict_of
from yondle.model.verdicts import Verdict


class RigAtRest:
    """The step whose settings are in force, and those settings; the engine's records move it (`rest`).

    On a machine that is only lent (`RigDeclaration.lends`) they were put back when Yondle last ended: `put_back` says what, until
    `bring_back` sets them again. Looking at a logbook sets nothing there.
    """

    def __init__(self, logbook: Logbook, machine: Machine, engine: Engine, book: Book) -> None:
        self._logbook = logbook
        self._machine = machine
        self._engine = engine
        self._book = book
        self.position = logbook.position()
        self.in_force = Setup(())
        self.verified: Verified | None = None
        self.left_alone: tuple[str, ...] = ()
        self.put_back: tuple[Change, ...] = ()
        self._owed: Callable[[], object] | None = None
        self._declaration = machine.rig.declaration
        if self.position is not None:
            engine.believe(book.step(self.position).step.setup)

    def must_be_offered(self, setup: Setup) -> None:
        """Raise KnownError for a setup with values that can't be set on this machine now."""
        missing = self._declaration.not_offered(setup)
        if missing:
            raise KnownError(
                say(
                    "{values} can't be set here now: this machine doesn't offer it any more.", values=", ".join(missing)
                ),
                say("'yondle inspect' says what is missing (the helper, a card, a module?). Nothing was changed."),
            )

    def rest(self, position: int | None, rests_at: Setup, verified: bool) -> None:
        """Take it that the rig rests at settings now; stock without a step belongs to the baseline."""
        self.position = position if position is not None else self._stock_step(rests_at)
        self.in_force = self._declaration.fitted(rests_at)
        self._owed, self.put_back = None, ()
        self._engine.believe(self.in_force)
        self._count(rests_at if verified else Setup(()))

    def verify(self) -> Verified:
        """Read the settings back and count those that are as they should be."""
        return self._count(self._engine.read())

    def _count(self, read: Setup) -> Verified:
        readable = [knob.id for knob in self._declaration.knobs if knob.readable]
        as_set = sum(1 for knob in readable if knob in read and read[knob] == self.in_force.get(knob))
        told = len(self._declaration.knobs) - len(readable)
        self.verified = Verified(self._machine.clock.now(), as_set, len(readable), told)
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
            open_.at_home,
        )
        home, home_step = declaration.fitted(open_.home), open_.home_step
        if outcome is not None and verdict_of(self._book.outcomes(number)) is Verdict.HELD:
            home, home_step = declaration.fitted(open_.step.setup), number
        if self._leaves_alone(home, home_step):
            home, home_step = declaration.fitted(self._engine.read()), None
        verified = self._engine.close_interrupted(
            open_.attempt.id, number, home, home_step, None if outcome else judged
        )
        return Resumed(self._book.step(number), judged, self.position, verified)

    def come_back(self, waits: WaitForHands) -> None:
        """Bring the rig to the settings the logbook stands for; a machine that restarted in between has lost them."""
        fitted = self._declaration.fitted
        read = fitted(self._engine.read())
        if waits.order is not None:
            self.in_force = fitted(waits.order.home)
            return
        if waits.take_up_putting_back():
            self.in_force = read
            return
        heading = self._logbook.find(Heading)
        if heading is not None:
            towards = fitted(heading.towards)
            if self._leaves_alone(towards, heading.position):
                self.position, self.in_force = None, read
            else:
                self._bring(towards, heading.position, read)
            return
        if self.position is None:
            self.in_force = read
            return
        stands_for = self._book.step(self.position).step.setup
        if self._leaves_alone(stands_for, self.position):
            self.position, self.in_force = None, read
            return
        if read != stands_for or self._machine.rig.pending():
            self._bring(stands_for, self.position, read)
        else:
            self.in_force = stands_for

    def stand_as_before(self) -> None:
        """Take it that a machine that is away stands where it was left: nothing can be read or set there now."""
        at = self._book.step(self.position).step.setup if self.position is not None else self._declaration.stock
        self.in_force = self._declaration.fitted(at)

    def bring_back(self) -> None:
        """Set what was put back when Yondle last ended."""
        owed, self._owed = self._owed, None
        if owed is not None:
            owed()

    def _bring(self, setup: Setup, step: int | None, read: Setup) -> None:
        """Bring the rig to settings now, or, where it is only lent, when something is done with them."""
        if not self._declaration.lends:
            self._engine.rest_at(setup, step)
            return
        self.in_force, self.put_back = setup, setup.changes_to(read)
        self._owed = lambda: self._engine.rest_at(setup, step)

    def _leaves_alone(self, setup: Setup, step: int | None) -> bool:
        """Tell whether settings can't be brought back here; then nothing at all is set, and the tuner is told."""
        missing = ", ".join(self._declaration.not_offered(setup))
        if not missing:
            return False
        where = say("step {number}", number=step) if step is not None else say("stock")
        said = say(
            "The machine stood at {where}, with {values}. That can't be set now, so nothing was set: the machine is as it "
            "was found. 'yondle inspect' says what is missing.",
            where=where,
            values=missing,
        )
        self.left_alone = (*self.left_alone, said)
        return True

    def _stock_step(self, rests_at: Setup) -> int | None:
        baseline = self._book.baseline
        return baseline.step.number if baseline and baseline.step.setup == rests_at else None
