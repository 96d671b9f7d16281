"""What a tuner writes about what was measured: notes and caveats, passes discarded and counted again, files kept as proof.

What was measured is never changed: a discarded pass stays in the logbook with the reason, and counts again when asked to.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.steps import Attachment, Note
from yondle.views.shared.snapshot import Snapshot

LONGEST_NOTE, LONGEST_REASON = 4000, 200
LARGEST_FILE = 32 * 1024 * 1024
_SHOWN_MIB = LARGEST_FILE // 1024 // 1024

T = TypeVar("T")


class _Remark(Command[T]):
    while_testing = WhileTesting.AT_NEXT_READING


@dataclass(frozen=True)
class WriteNote(_Remark[Note]):
    """Write a note or a caveat at a step; raises KnownError for an empty or far too long one."""

    step: int
    text: str
    caveat: bool = False

    def do(self, session: Session) -> Note:
        """Give the note."""
        session.book.step(self.step)
        session.logbook.add_note(self.step, session.wall(), _checked_note(self.text), self.caveat)
        session.reload(self.step)
        return session.book.step(self.step).notes[-1]


@dataclass(frozen=True)
class EditNote(_Remark[Note]):
    """Change a note of a step."""

    step: int
    note: int
    text: str
    caveat: bool

    def do(self, session: Session) -> Note:
        """Give the note as it was, with which it can be changed back."""
        before = _note(session, self.step, self.note)
        session.logbook.edit_note(self.note, session.wall(), _checked_note(self.text), self.caveat)
        session.reload(self.step)
        return before


@dataclass(frozen=True)
class DropNote(_Remark[Note]):
    """Take a note out."""

    step: int
    note: int

    def do(self, session: Session) -> Note:
        """Give the note, so that it can be written again."""
        before = _note(session, self.step, self.note)
        session.logbook.drop_note(self.note)
        session.reload(self.step)
        return before


@dataclass(frozen=True)
class DiscardPass(_Remark[str]):
    """Leave a pass out of figures, with the reason; an empty reason counts it again.

    Raises KnownError for a pass that isn't there, or enters no figures anyway.
    """

    step: int
    attempt: int
    ordinal: int
    reason: str

    def do(self, session: Session) -> str:
        """Give the reason it had before."""
        attempts = session.book.step(self.step).attempts
        found = [p for a in attempts if a.id == self.attempt for p in a.all_passes if p.ordinal == self.ordinal]
        if not found:
            raise KnownError(
                say(
                    "Step {number} has no pass {attempt}/{ordinal}.",
                    number=self.step,
                    attempt=self.attempt,
                    ordinal=self.ordinal,
                ),
                say("The Logbook place lists its passes."),
            )
        made = found[0]
        if not made.counts and not made.discarded:
            raise KnownError(
                say("This pass enters no figures anyway."), say("Only passes that count can be discarded.")
            )
        session.logbook.discard_pass(self.attempt, self.ordinal, _checked_reason(self.reason))
        session.reload(self.step)
        return made.discarded


@dataclass(frozen=True)
class DiscardFigure(_Remark[str]):
    """Leave a figure from elsewhere out, with the reason; an empty reason counts it again."""

    step: int
    figure: int
    reason: str

    def do(self, session: Session) -> str:
        """Give the reason it had before."""
        found = next((a for a in session.book.step(self.step).added if a.id == self.figure), None)
        if found is None:
            raise KnownError(
                say("Step {number} has no figure {result}.", number=self.step, result=self.figure),
                say("The Logbook place lists its figures."),
            )
        session.logbook.discard_result(self.figure, _checked_reason(self.reason))
        session.reload(self.step)
        return found.discarded


@dataclass(frozen=True)
class AttachFile(_Remark[Attachment]):
    """Keep a copy of a file at a step; raises KnownError for one that is too large or can't be read."""

    step: int
    path: Path

    def do(self, session: Session) -> Attachment:
        """Give what is kept."""
        session.book.step(self.step)
        data = _bytes_of(self.path)
        session.logbook.attach(self.step, session.wall(), self.path.name, data)
        session.reload(self.step)
        return session.book.step(self.step).attached[-1]


@dataclass(frozen=True)
class DetachFile(_Remark[None]):
    """Take a file out of the logbook."""

    step: int
    attachment: int

    def do(self, session: Session) -> None:
        """Take it out."""
        session.logbook.attachment(self.attachment)
        session.logbook.detach(self.attachment)
        session.reload(self.step)


def save_attachment(snapshot: Snapshot, attachment: Attachment, path: Path) -> None:
    """Write a file kept as proof somewhere; raises KnownError where it can't be written."""
    write_whole(path, snapshot.reader.attachment(attachment.id))


def _bytes_of(path: Path) -> bytes:
    try:
        if not path.is_file():
            raise KnownError(say("{path} is no file.", path=path), say("Name a picture or another file."))
        if path.stat().st_size > LARGEST_FILE:
            raise KnownError(
                say("{path} is larger than {shown_mib} MiB.", path=path.name, shown_mib=_SHOWN_MIB),
                say("Attach a smaller picture of it."),
            )
        return path.read_bytes()
    except OSError as error:
        raise KnownError(
            say("{path} can't be read ({strerror}).", path=path, strerror=error.strerror),
            say("Give yourself permission, or copy it."),
        ) from error


def _note(session: Session, number: int, note: int) -> Note:
    found = next((n for n in session.book.step(number).notes if n.id == note), None)
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
