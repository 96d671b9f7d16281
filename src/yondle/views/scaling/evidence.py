"""What was recorded beside a benchmark that tells what holds it back, and what it answers to."""

from __future__ import annotations

import statistics
from collections.abc import Iterable

from yondle.analysis.caps import at_cap
from yondle.analysis.limiting import Answer, Bound, Evidence, Flag
from yondle.language.saying import in_sentence, say
from yondle.model.knobs import Knob, Subsystem
from yondle.model.quantities import quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity
from yondle.model.workloads import Workload
from yondle.views.shared.measured import Figure, Setting

PARTS = {Subsystem.PROCESSOR: Bound.PROCESSOR, Subsystem.MEMORY: Bound.MEMORY, Subsystem.GRAPHICS: Bound.GRAPHICS}


def evidence(
    declaration: RigDeclaration, benchmark: Workload, setting: Setting, answers: Iterable[Answer], knob: str = ""
) -> Evidence:
    """Gather what is known of a benchmark at a setting, leaving out the limit that is a knob's own."""
    figures, cap = setting.figures[benchmark.id], benchmark.metric.cap
    capped = at_cap([(0.0, [f.score for f in figures])], cap)
    flags = (
        _flag(declaration, channel, setting, figures)
        for channel in declaration.read_ever
        if not knob or channel.follows != knob
    )
    return Evidence(
        say("every pass at {cap}", cap=quantity(cap or 0.0, benchmark.metric.unit)) if capped else "",
        tuple(flag for flag in flags if flag is not None),
        _use(declaration, figures, Subsystem.PROCESSOR),
        _use(declaration, figures, Subsystem.GRAPHICS),
        tuple(answers),
        _sweeps(declaration),
    )


def _sweeps(declaration: RigDeclaration) -> tuple[tuple[Bound, str], ...]:
    """Name the rig's own knobs that tell what a benchmark answers to: the first clock or rate of processor and memory."""
    found: dict[Bound, str] = {}
    for knob in declaration.knobs:
        part = PARTS.get(knob.subsystem)
        if knob.proportional and part in (Bound.PROCESSOR, Bound.MEMORY):
            found.setdefault(part, in_sentence(knob.name))
    return tuple((part, found[part]) for part in (Bound.PROCESSOR, Bound.MEMORY) if part in found)


def _mean(figures: tuple[Figure, ...], channel: Channel) -> float | None:
    values = [f.measured.mean[channel.id] for f in figures if channel.id in f.measured.mean]
    return statistics.fmean(values) if values else None


def _flag(declaration: RigDeclaration, channel: Channel, setting: Setting, figures: tuple[Figure, ...]) -> Flag | None:
    """Give how often a limit was reached, with the clock of the same part against the one asked for."""
    share = _mean(figures, channel) if channel.quantity is Quantity.FLAG else None
    if share is None:
        return None
    clocks = [
        (mean, asked)
        for c in declaration.read_ever
        if c.quantity is Quantity.CLOCK and c.subsystem is channel.subsystem
        if (mean := _mean(figures, c)) is not None and (asked := setting.setup.get(c.follows))
    ]
    held = min((mean / asked for mean, asked in clocks), default=None)
    return Flag(channel.as_limit, share, held)


def _use(declaration: RigDeclaration, figures: tuple[Figure, ...], part: Subsystem) -> float | None:
    uses = [c for c in declaration.read_ever if c.quantity is Quantity.USE and c.subsystem is part]
    return max((v for c in uses if (v := _mean(figures, c)) is not None), default=None)


def answer(declaration: RigDeclaration, knob: Knob, slope: float, low: float, high: float) -> Answer | None:
    """Give what a slope along a knob says of a part: only clocks and rates, that a score can follow in proportion, do.

    A clock that others of another part follow from, as a bus clock that drives processor and memory, says of neither.
    """
    if not knob.proportional or knob.subsystem not in PARTS or low != low or len(_driven(declaration, knob)) > 1:
        return None
    return Answer(PARTS[knob.subsystem], in_sentence(knob.name), slope, low, high)


def _driven(declaration: RigDeclaration, knob: Knob) -> set[Subsystem]:
    """Name the parts whose clocks and rates follow from a knob, its own among them."""
    led = {d.needs[0] for d in declaration.derived_of if knob.plays in d.needs and d.unit in _RATES}
    return {knob.subsystem, *(k.subsystem for k in declaration.knobs if k.plays in led)}


_RATES = ("MHz", "MT/s")
