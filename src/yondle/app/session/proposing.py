"""What is proposed as the next step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yondle.app.session.commands import Command
from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.proposals import Proposal, proposed_with


@dataclass(frozen=True)
class Propose(Command[Proposal | None]):
    """Propose a value for one knob; the value in force takes it out of the proposal again. A second knob needs `joint`.

    Raises KnownError for a value the knob doesn't take or outside the tuner's own range.
    """

    knob: str
    value: float
    joint: bool = False

    def do(self, session: Session) -> Proposal | None:
        """Give what is proposed now."""
        session.must_be_free()
        in_force = session.rests.in_force
        session.proposal = proposed_with(
            session.declaration, session.proposal, in_force, self.knob, self.value, self.joint
        )
        return session.proposal


@dataclass(frozen=True)
class ProposeTogether(Command[Proposal | None]):
    """Propose values in place of what was proposed, as a joint step where there are several; all of them or none."""

    values: Mapping[str, float]

    def do(self, session: Session) -> Proposal | None:
        """Give what is proposed now."""
        before, session.proposal = session.proposal, None
        try:
            for knob, value in self.values.items():
                Propose(knob, value, joint=len(self.values) > 1).do(session)
        except KnownError:
            session.proposal = before
            raise
        return session.proposal


@dataclass(frozen=True)
class DropProposal(Command[None]):
    """Propose nothing any more."""

    def do(self, session: Session) -> None:
        """Drop it."""
        session.proposal = None


def nothing_proposed() -> KnownError:
    """Say that a test needs a proposal."""
    return KnownError(say("Nothing is proposed."), say("Move a marker on a ruler, or name a knob and a value."))
