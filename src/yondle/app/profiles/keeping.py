"""Profiles kept in force over restarts: what of one can be kept, and asking for it."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from yondle.app.profiles.profiles import profile
from yondle.app.session.commands import Command
from yondle.app.session.session import Session
from yondle.app.system.kept_tells import tell_at_login, tell_no_more
from yondle.formats.documents import KeptOverRestarts
from yondle.language.saying import in_sentence, listed, say
from yondle.model.errors import KnownError
from yondle.model.kept import BOTH, Keeper, KeptNow
from yondle.model.profiles import Profile
from yondle.model.verdicts import Verdict
from yondle.rigs.linux.keeping import ThisKeeper
from yondle.views.shared.proof import standard_held
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class KeptPart:
    """What of a profile is kept over restarts, by knob, and the names of what is left out."""

    values: dict[str, float]
    left_out: tuple[str, ...]


@dataclass(frozen=True)
class KeepOverRestarts(Command[KeptPart]):
    """Have a profile in force after every start of this machine, on mains, on battery, or both.

    Raises KnownError for a profile that hasn't held at a standard, and with the reason where the service refuses it.
    """

    name: str
    source: str = BOTH
    instead: bool = False

    def do(self, session: Session) -> KeptPart:
        """Give what is kept of it."""
        book, wanted = session.snapshot, profile(session.snapshot, self.name)
        keeper = _keeper(session)
        must_have_held(book, wanted)
        part = kept_part(book, wanted, keeper.settable())
        if not part.values:
            raise KnownError(
                say("'{name}' sets nothing that could be kept over restarts.", name=wanted.name),
                say("Only what the kernel lets root set is."),
            )
        document = session.snapshot.kept.of(KeptOverRestarts)
        if not document.id:
            document = document.model_copy(update={"id": secrets.token_hex(8)})
            session.keep(document)
        told = {"name": wanted.name, "logbook": document.id, "step": wanted.step, "values": part.values}
        keeper.tell("set", {"for": self.source, "profile": told, "instead": self.instead})
        tell_at_login()
        session.kept_here = keeper.now()
        return part


@dataclass(frozen=True)
class KeepAgain(Command[None]):
    """Go on keeping what was given up after a failure; raises KnownError where that can't be."""

    def do(self, session: Session) -> None:
        """Go on."""
        keeper = _keeper(session)
        keep_again(keeper)
        session.kept_here = keeper.now()


@dataclass(frozen=True)
class KeepNothing(Command[None]):
    """Keep nothing any more; raises KnownError where that can't be."""

    def do(self, session: Session) -> None:
        """End it."""
        keeper = _keeper(session)
        keep_nothing(keeper)
        session.kept_here = keeper.now()


def _keeper(session: Session) -> Keeper:
    """Give what keeps profiles here; raises KnownError for a rig that isn't the machine Yondle runs on."""
    keeper = session.machine.keeper
    if session.machine.bench is not None:
        raise KnownError(
            say("What is kept over restarts of {rig} is said there.", rig=session.declaration.info.name),
            say("Export the profile, and keep it in a logbook of that machine."),
        )
    if keeper is None:
        raise KnownError(
            say(
                "{rig} is a simulated rig, which has no restarts to keep anything over.",
                rig=session.declaration.info.name,
            ),
            say("Open a logbook of this machine."),
        )
    return keeper


def must_have_held(book: Snapshot, wanted: Profile) -> None:
    """Raise KnownError for a profile that hasn't held long enough to be set without anybody looking."""
    record = book.step(wanted.step) if wanted.step is not None else None
    if record is None or record.verdict is not Verdict.HELD:
        raise KnownError(
            say("'{name}' hasn't held here, so it isn't kept over restarts.", name=wanted.name),
            say("Test it first."),
        )
    if standard_held(book, record) is None:
        raise KnownError(
            say(
                "'{name}' held its tests, but not long enough to be set without anybody looking: that takes an edge search "
                "that leaves the rig there, or 30 min under load without a failure.",
                name=wanted.name,
            ),
            say("Test its step again, or run:  yondle edge"),
        )


def kept_part(book: Snapshot, wanted: Profile, settable: frozenset[str]) -> KeptPart:
    """Say what of a profile differs from stock and can be kept, in the order of the knobs."""
    changed = [c.knob for c in book.declaration.stock.changes_to(wanted.setup)]
    kept = [knob for knob in changed if knob in settable]
    names = tuple(book.declaration.knob(knob).name for knob in changed if knob not in kept)
    return KeptPart({knob: wanted.setup[knob] for knob in kept}, names)


def left_out_words(part: KeptPart) -> str:
    """Say what isn't kept; nothing where all is."""
    if not part.left_out:
        return ""
    names = listed([in_sentence(name) for name in part.left_out])
    return say("Not kept, since the kernel doesn't set it: {names}.", names=names)


def kept_here() -> KeptNow:
    """Look at what this machine keeps over restarts."""
    return ThisKeeper().now()


def keep_again(keeper: Keeper | None = None) -> None:
    """Go on keeping what was given up after a failure; raises KnownError where that can't be."""
    (keeper or ThisKeeper()).tell("again")


def keep_nothing(keeper: Keeper | None = None) -> None:
    """Keep nothing any more, with everything at stock; raises KnownError where that can't be."""
    (keeper or ThisKeeper()).tell("off")
    tell_no_more()
