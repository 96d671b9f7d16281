"""What a tuner writes about what was measured: notes and caveats, passes discarded and counted again, files kept as proof.

What was measured is never changed: a discarded pass stays in the logbook with the reason, and counts again when asked to.
"""

from __future__ import annotations

from pathlib import Path

from yondle.app.session.session import Session
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.steps import Attachment, Note

LONGEST_NOTE, LONGEST_REASON = 4000, 200
LARGEST_FILE = 32 * 1024 * 1024
_SHOWN_MIB = LARGEST_FILE // 1024 // 1024


def write_note(session: Session, number: int, text: str, caveat: bool = False) -> Note:
    """Write a note or a caveat at a step; raises KnownError for an empty or far too long one."""
    session.step(number)
    session.logbook.add_note(number, _now(session), _checked_note(text), caveat)
    session.reload(number)
    return session.step(number).notes[-1]


def edit_note(session: Session, number: int, note: int, text: str, caveat: bool) -> Note:
    """Change a note of a step; gives the note as it was, with which it can be changed back."""
    before = _note(session, number, note)
    session.logbook.edit_note(note, _now(session), _checked_note(text), caveat)
    session.reload(number)
    return before


def drop_note(session: Session, number: int, note: int) -> Note:
    """Take a note out; gives it, so that it can be written again."""
    before = _note(session, number, note)
    session.logbook.drop_note(note)
    session.reload(number)
    return before


def discard_pass(session: Session, number: int, attempt: int, ordinal: int, reason: str) -> str:
    """Leave a pass out of figures, with the reason; an empty reason counts it again. Gives the reason it had before.

    Raises KnownError for a pass that isn't there, or enters no figures anyway.
    """
    record = session.step(number)
    found = [p for a in record.attempts if a.id == attempt for p in a.passes if p.ordinal == ordinal]
    if not found:
        raise KnownError(
            say("Step {number} has no pass {attempt}/{ordinal}.", number=number, attempt=attempt, ordinal=ordinal),
            say("The Logbook place lists its passes."),
        )
    made = found[0]
    if not made.counts and not made.discarded:
        raise KnownError(say("This pass enters no figures anyway."), say("Only passes that count can be discarded."))
    session.logbook.discard_pass(attempt, ordinal, _checked_reason(reason))
    session.reload(number)
    return made.discarded


def discard_result(session: Session, number: int, result: int, reason: str) -> str:
    """Leave a figure from elsewhere out, with the reason; an empty reason counts it again. Gives the reason before."""
    found = next((a for a in session.step(number).added if a.id == result), None)
    if found is None:
        raise KnownError(
            say("Step {number} has no figure {result}.", number=number, result=result),
            say("The Logbook place lists its figures."),
        )
    session.logbook.discard_result(result, _checked_reason(reason))
    session.reload(number)
    return found.discarded


def attach(session: Session, number: int, path: Path) -> Attachment:
    """Keep a copy of a file at a step; raises KnownError for one that is too large or can't be read."""
    session.step(number)
    try:
        if not path.is_file():
            raise KnownError(say("{path} is no file.", path=path), say("Name a picture or another file."))
        if path.stat().st_size > LARGEST_FILE:
            raise KnownError(
                say("{path} is larger than {shown_mib} MiB.", path=path.name, shown_mib=_SHOWN_MIB),
                say("Attach a smaller picture of it."),
            )
        data = path.read_bytes()
    except OSError as error:
        raise KnownError(
            say("{path} can't be read ({strerror}).", path=path, strerror=error.strerror),
            say("Give yourself permission, or copy it."),
        ) from error
    session.logbook.attach(number, _now(session), path.name, data)
    session.reload(number)
    return session.step(number).attached[-1]


def detach(session: Session, number: int, attachment: int) -> None:
    """Take a file out of the logbook."""
    session.logbook.attachment(attachment)
    session.logbook.detach(attachment)
    session.reload(number)


def save_attachment(session: Session, attachment: Attachment, path: Path) -> None:
    """Write a file kept as proof somewhere; raises KnownError where it can't be written."""
    write_whole(path, session.logbook.attachment(attachment.id))


def _now(session: Session) -> str:
    return session.machine.clock.wall().isoformat(timespec="seconds")


def _note(session: Session, number: int, note: int) -> Note:
    found = next((n for n in session.step(number).notes if n.id == note), None)
    if found is None:
        raise KnownError(
            say("Step {number} has no note {note}.", number=number, note=note),
            say("The Logbook place lists its notes."),
        )
    return found


def _checked_note(text: str) -> str:
    words = text.strip()
    if not words or len(words) > LONGEST_NOTE:
        raise KnownError(say("A note has 1 to 4 000 characters."), say("Shorten it, or write two."))
    return words


def _checked_reason(reason: str) -> str:
    words = reason.strip()
    if len(words) > LONGEST_REASON:
        raise KnownError(
            say("A reason has at most {longest_reason} characters.", longest_reason=LONGEST_REASON), say("Shorten it.")
        )
    return words
