"""What may be asked of a running test, from any thread: it is heeded at the next reading."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.returning import ReturnToStock
from yondle.app.session.session import Session
from yondle.engine.requests import Request


class _Asked(Command[None]):
    while_testing = WhileTesting.AT_ONCE


@dataclass(frozen=True)
class Stop(_Asked):
    """End the running test now and go back to the settings before it."""

    def do(self, session: Session) -> None:
        """Ask for it."""
        session.engine.requests.ask(Request.STOP)


@dataclass(frozen=True)
class EmergencyStop(_Asked):
    """End the running test and go to stock at once."""

    def do(self, session: Session) -> None:
        """Ask for it."""
        session.engine.requests.ask(Request.HALT)


@dataclass(frozen=True)
class Pause(_Asked):
    """Wait before the next pass with the load off; the setting stays."""

    def do(self, session: Session) -> None:
        """Ask for it."""
        session.engine.requests.ask(Request.PAUSE)


@dataclass(frozen=True)
class GoOn(_Asked):
    """End a pause."""

    def do(self, session: Session) -> None:
        """Take the pause back."""
        session.engine.requests.go_on()


@dataclass(frozen=True)
class ForgetRequests(_Asked):
    """Begin anew: what was asked of earlier tests is over. To be sent before tests are ordered, not between them."""

    def do(self, session: Session) -> None:
        """Forget it."""
        session.stops.forget()
        session.engine.requests.clear()


@dataclass(frozen=True)
class SetPace(Command[None]):
    """Let a simulated rig's time pass this many times as fast as real time; None as fast as it goes."""

    pace: float | None
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Set it; on a real machine nothing happens."""
        if session.machine.virtual is not None:
            session.machine.virtual.set_pace(self.pace)


def heeded(session: Session) -> bool:
    """Between two tests of one order: tell whether a stop was asked for since the latest test ended.

    It is done by that: nothing more is to be tested, and an emergency stop has put the rig at stock.
    """
    asked = session.engine.requests.pending()
    if asked not in (Request.STOP, Request.HALT):
        return False
    session.engine.requests.clear()
    if asked is Request.HALT:
        ReturnToStock().do(session)
    return True
