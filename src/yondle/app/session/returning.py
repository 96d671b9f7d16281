"""Where the rig rests: an earlier step or stock put in force, settings read back, what was entered by hand gone on with."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.machine.hands import NobodyThere
from yondle.app.session.commands import Command
from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.standing import Looked, Verified, Waiting
from yondle.model.steps import StartAnswer, StepRecord, may_be_stood_at


@dataclass(frozen=True)
class ReturnTo(Command[StepRecord]):
    """Put the settings of an earlier step that held in force again."""

    step: int
    tests = True

    def do(self, session: Session) -> StepRecord:
        """Give the step."""
        record = session.book.step(self.step)
        if not may_be_stood_at(record, session.machine.elsewhere):
            raise KnownError(
                say(
                    "Step {number} is '{verdict}', so it isn't put in force by itself.",
                    number=self.step,
                    verdict=record.word,
                ),
                say("Go back to a step that held, or propose its values again as a step."),
            )
        session.must_be_free()
        session.rests.must_be_offered(record.step.setup)
        session.proposal = None
        session.engine.rest_at(record.step.setup, self.step)
        return session.book.step(self.step)


@dataclass(frozen=True)
class ReturnToStock(Command[bool]):
    """Put every knob at stock in one action; tells whether that reads back. Steps and profiles stay as they are.

    A step that waits for its values to be entered is dropped over it.
    """

    tests = True

    def do(self, session: Session) -> bool:
        """Tell whether stock reads back."""
        DropWaiting().do(session)
        session.proposal = None
        baseline = session.book.baseline
        return session.engine.rest_at(session.declaration.stock, baseline.step.number if baseline else None)


@dataclass(frozen=True)
class BringBack(Command[None]):
    """Put the settings the logbook stands for in force again, where they were put back when Yondle last ended.

    On a machine where settings last only while Yondle runs, opening a logbook sets nothing by itself: whoever only looks
    changes nothing. Whatever acts on the settings in force does this first.
    """

    tests = True

    def do(self, session: Session) -> None:
        """Set them."""
        session.rests.bring_back()


@dataclass(frozen=True)
class ReadBack(Command[Verified]):
    """Read the settings back and count those that are as they should be."""

    def do(self, session: Session) -> Verified:
        """Give the count."""
        return session.rests.verify()


@dataclass(frozen=True)
class Look(Command[Looked]):
    """Look at the machine: its clock, the conditions it finds out itself, whether settings may have gone back by themselves."""

    def do(self, session: Session) -> Looked:
        """Give what was seen; the snapshot has it from now on."""
        return session.look()


@dataclass(frozen=True)
class GoOnWaiting(Command[StepRecord | None]):
    """Go on with what waits for hands; gives the step tested, or None when the rig was only brought back.

    Where the machine itself knows how it started no answer is needed, nor where nothing takes a restart: going on says that
    it is set. Raises KnownError when nothing waits, and where the machine has to restart and hasn't.
    """

    answer: StartAnswer | None = None
    tests = True

    def do(self, session: Session) -> StepRecord | None:
        """Give the step tested."""
        waiting, virtual = session.waits.now, session.machine.virtual is not None
        if waiting is None:
            raise KnownError(say("Nothing waits to be set by hand."), say("Propose a step, or go back to one."))
        done = waiting.restarted or (not waiting.restarts and isinstance(session.hands, NobodyThere) and not virtual)
        if not virtual and not done:
            raise KnownError(
                say("The machine hasn't restarted since the values were to be entered."),
                say("Restart it, enter them in firmware setup, and open this logbook again."),
            )
        with session.unattended():
            if waiting.step is None or session.waits.order is None:
                self._bring_back(session, waiting, done)
                return None
            order, session.waits.now = session.waits.order, None
            session.engine.go_on(order, self._told(session, waiting, done), waiting.restarts)
            return session.book.step(waiting.step.number)

    def _told(self, session: Session, waiting: Waiting, done: bool) -> StartAnswer | None:
        if waiting.restarted:
            return self.answer or session.machine.last_start()
        return self.answer or StartAnswer() if done else None

    def _bring_back(self, session: Session, waiting: Waiting, done: bool) -> None:
        if done and (self.answer is None or self.answer.started):
            session.engine.believe(waiting.setup)
        session.waits.now = None
        session.engine.rest_at(session.declaration.fitted(waiting.setup), session.book.proven_at(waiting.setup))


@dataclass(frozen=True)
class DropWaiting(Command[StepRecord | None]):
    """Give up the step that waits for its values to be entered; gives the step, None when nothing on trial waits.

    Where the machine has restarted since, they may be in force: then they are put back like those of any other step.
    """

    tests = True

    def do(self, session: Session) -> StepRecord | None:
        """Give the step."""
        waiting, order = session.waits.now, session.waits.order
        if waiting is None or waiting.step is None or order is None:
            return None
        if waiting.restarted:
            session.engine.believe(waiting.setup)
        session.waits.now = None
        session.engine.drop(order)
        return session.book.step(waiting.step.number)
