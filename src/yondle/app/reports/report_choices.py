"""What the tuner decides about the report: the question it answers, which sections it has, and in which order."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.formats.documents import ReportQuestion, ReportSections
from yondle.language.saying import later, say
from yondle.model.errors import KnownError
from yondle.model.parts import Part
from yondle.views.shared.snapshot import Snapshot

LONGEST_QUESTION = 500
HEADINGS = {
    Part.QUESTION: later("The question"),
    Part.MACHINE: later("Machine and conditions"),
    Part.PATH: later("What was changed, in order"),
    Part.BASELINE: later("Baseline and noise"),
    Part.SCALING: later("How scores scale"),
    Part.GAINS: later("What it brought"),
    Part.PROOF: later("How long it held"),
    Part.ADDED: later("Figures from elsewhere"),
    Part.NOISE: later("Within noise"),
    Part.FAILURES: later("Failures"),
    Part.LIMITS: later("Limits"),
    Part.PROFILES: later("Recommended settings"),
    Part.CAVEATS: later("Caveats and notes"),
    Part.AGAIN: later("How to do it again"),
}


def question(book: Snapshot) -> str:
    """Give the question the tuner wrote for the report; empty without one."""
    return book.kept.of(ReportQuestion).root


@dataclass(frozen=True)
class AskQuestion(Command[None]):
    """Keep the question; raises KnownError for one that is far too long."""

    words: str
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep it."""
        if len(self.words) > LONGEST_QUESTION:
            raise KnownError(
                say("A question has at most {longest_question} characters.", longest_question=LONGEST_QUESTION),
                say("Shorten it."),
            )
        session.keep(ReportQuestion(self.words.strip()))


def sections_chosen(book: Snapshot) -> tuple[Part, ...]:
    """Give the sections of the report in their order; all of them until others were chosen."""
    known = {str(part): part for part in Part}
    chosen = tuple(known[name] for name in book.kept.of(ReportSections).root if name in known)
    return chosen or tuple(Part)


@dataclass(frozen=True)
class ChooseSections(Command[None]):
    """Keep which sections the report has, and in which order; raises KnownError for none, and for one named twice."""

    parts: tuple[Part, ...]
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep them."""
        if not self.parts or len(set(self.parts)) != len(self.parts):
            raise KnownError(
                say("A report has each section once, and one at least."), say("Choose the sections it shall have.")
            )
        session.keep(ReportSections([str(part) for part in self.parts]))


def parts_named(words: str) -> tuple[Part, ...]:
    """Read a list of sections separated by commas; raises KnownError for one that isn't there."""
    known = {str(part): part for part in Part}
    named = [name.strip().lower() for name in words.split(",") if name.strip()]
    unknown = [name for name in named if name not in known]
    if unknown:
        raise KnownError(
            say("There is no section '{unknown}'.", unknown=unknown[0]),
            say("There are: {known}.", known=", ".join(known)),
        )
    return tuple(known[name] for name in named)
