"""What can be told before a logbook is made: what this machine's kernel offers, and Heron as its rig file declares it.

Nothing is set or asked for: no helper is started, and no sensor is opened.
"""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.machine.inspection import FamilyView, families_here
from yondle.language.saying import listed, say
from yondle.model.knobs import Knob

_NAMED = 3
"""So many of what is missing are named."""


@dataclass(frozen=True, slots=True)
class Beforehand:
    """`words` say what this machine offers and lacks, `missing` what to do about each that it lacks; `knob` is one of Heron's."""

    words: str
    missing: tuple[str, ...]
    knob: Knob
    ceiling: float | None


def look_beforehand() -> Beforehand:
    """Look; takes some hundred milliseconds the first time, since rig files are read."""
    from yondle.app.machine.machines import choose_rig
    from yondle.rigs.simulated.rig import declaration_of
    from yondle.rigs.simulated.rigfile import parse_rig_file

    families = families_here()
    there = [family.name for family in families if family.there and family.readable]
    words = say("Found here: {found}.", found=listed(there)) if there else say("The kernel tells nothing of it.")
    lacking = [family.name for family in families if _lacks(family)]
    if lacking:
        more = say(" and {n} more", n=len(lacking) - _NAMED) if len(lacking) > _NAMED else ""
        words += say(" Missing: {missing}{more}.", missing=listed(lacking[:_NAMED]), more=more)
    heron = declaration_of(parse_rig_file(choose_rig("heron").definition, "Heron"))
    knob = heron.knobs[0]
    return Beforehand(words, tuple(map(_missing, filter(_lacks, families))), knob, heron.ceilings.get(knob.id))


def _lacks(family: FamilyView) -> bool:
    return not (family.there and family.readable)


def _missing(family: FamilyView) -> str:
    return f"{family.name}: {family.good_for}. {family.if_missing}"
