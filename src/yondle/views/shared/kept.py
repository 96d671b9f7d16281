"""What of a logbook's profiles this machine keeps in force over restarts, in words."""

from __future__ import annotations

from yondle.formats.documents import KeptOverRestarts
from yondle.language.saying import listed, say
from yondle.model.kept import BATTERY, MAINS, KeptNow
from yondle.model.profiles import Profile


def sources_of(document: KeptOverRestarts, now: KeptNow | None, kept: Profile) -> tuple[str, ...]:
    """Give the power sources for which this machine keeps a profile."""
    if now is None or not document.id:
        return ()
    return tuple(source for source, told in now.profiles.items() if told == (kept.name, document.id, kept.step))


def kept_line(document: KeptOverRestarts, now: KeptNow | None, kept: Profile) -> str:
    """Say for which power source a profile is kept, and whether it is in force; nothing for one that isn't kept."""
    sources = sources_of(document, now, kept)
    if now is None or not sources:
        return ""
    names = {MAINS: say("on mains"), BATTERY: say("on battery")}
    where = listed([names[source] for source in sources])
    if now.stopped:
        return say("Kept over restarts {where}, but given up: {why}", where=where, why=now.stopped)
    return say("Kept over restarts {where}", where=where) + (say(", in force now") if now.in_force == kept.name else "")


def given_up(document: KeptOverRestarts, now: KeptNow | None) -> str:
    """Say that a profile of this logbook is given up, and why; nothing where none is."""
    if now is None or not document.id or not now.stopped:
        return ""
    mine = [name for name, logbook, _ in now.profiles.values() if logbook == document.id]
    mine += [each.name for each in now.incidents[-1:] if each.logbook == document.id]
    if not mine:
        return ""
    return say(
        "'{name}' is no longer kept over restarts: {why}. This machine starts at stock until you say again.",
        name=mine[0],
        why=now.stopped,
    )
