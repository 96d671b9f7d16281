"""What the tuner decides about the report: the question it answers, which sections it has, and in which order."""

from __future__ import annotations

from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.parts import Part

QUESTION, SECTIONS = "question", "report sections"
LONGEST_QUESTION = 500
HEADINGS = {
    Part.QUESTION: say("The question"),
    Part.MACHINE: say("Machine and conditions"),
    Part.PATH: say("What was changed, in order"),
    Part.BASELINE: say("Baseline and noise"),
    Part.SCALING: say("How scores scale"),
    Part.GAINS: say("What it brought"),
    Part.PROOF: say("How long it held"),
    Part.ADDED: say("Figures from elsewhere"),
    Part.NOISE: say("Within noise"),
    Part.FAILURES: say("Failures"),
    Part.LIMITS: say("Limits"),
    Part.PROFILES: say("Recommended settings"),
    Part.CAVEATS: say("Caveats and notes"),
    Part.AGAIN: say("How to do it again"),
}


def question(session: Session) -> str:
    """Give the question the tuner wrote for the report; empty without one."""
    return str(session.logbook.keeping.value(QUESTION) or "")


def ask(session: Session, words: str) -> None:
    """Keep the question; raises KnownError for one that is far too long."""
    if len(words) > LONGEST_QUESTION:
        raise KnownError(
            say("A question has at most {longest_question} characters.", longest_question=LONGEST_QUESTION),
            say("Shorten it."),
        )
    session.logbook.keeping.keep(QUESTION, words.strip())


def sections_chosen(session: Session) -> tuple[Part, ...]:
    """Give the sections of the report in their order; all of them until others were chosen."""
    kept = session.logbook.keeping.value(SECTIONS)
    known = {str(part): part for part in Part}
    chosen = tuple(known[name] for name in kept if name in known) if kept else ()
    return chosen or tuple(Part)


def choose_sections(session: Session, parts: tuple[Part, ...]) -> None:
    """Keep which sections the report has, and in which order; raises KnownError for none, and for one named twice."""
    if not parts or len(set(parts)) != len(parts):
        raise KnownError(
            say("A report has each section once, and one at least."), say("Choose the sections it shall have.")
        )
    session.logbook.keeping.keep(SECTIONS, [str(part) for part in parts])


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
