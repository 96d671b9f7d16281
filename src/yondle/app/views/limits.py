"""What holds each benchmark back at a step, from what was recorded there and from what was swept."""

from __future__ import annotations

import statistics
from dataclasses import dataclass

from yondle.analysis.limiting import Answer, Bound, Evidence, Finding, Flag, what_limits
from yondle.analysis.scaling import at_cap
from yondle.app.session import Session
from yondle.app.views.measured import Figure, Setting, Settings
from yondle.app.views.sensitivities import Sensitivities
from yondle.model.errors import KnownError
from yondle.model.knobs import Subsystem
from yondle.model.quantities import quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity
from yondle.model.workloads import Workload

PARTS = {Subsystem.PROCESSOR: Bound.PROCESSOR, Subsystem.MEMORY: Bound.MEMORY, Subsystem.GRAPHICS: Bound.GRAPHICS}


@dataclass(frozen=True, slots=True)
class Limited:
    """One benchmark and what holds it back."""

    benchmark: Workload
    finding: Finding


def limits(session: Session, settings: Settings, told: Sensitivities, number: int | None = None) -> tuple[Limited, ...]:
    """Say what holds every benchmark back at a step, the present one if none is named; raises KnownError without figures.

    `told` is what each benchmark answers to.
    """
    record = session.step(number) if number is not None else session.position
    if record is None:
        raise KnownError("The rig is at no step of the trail.", "Name a step, or go back to one.")
    setting = next((s for s in settings if record.step.number in s.steps), None)
    if setting is None or not setting.figures:
        raise KnownError(f"Step {record.step.number} has no figures.", "Name a step whose benchmarks ran.")
    return tuple(
        Limited(b, what_limits(_evidence(session.declaration, b, setting, told)))
        for b in session.declaration.benchmarks
        if b.id in setting.figures
    )


def _evidence(declaration: RigDeclaration, benchmark: Workload, setting: Setting, told: Sensitivities) -> Evidence:
    figures, cap = setting.figures[benchmark.id], benchmark.metric.cap
    capped = at_cap([(0.0, [f.score for f in figures])], cap)
    return Evidence(
        f"every pass at {quantity(cap or 0.0, benchmark.metric.unit)}" if capped else "",
        tuple(f for c in declaration.channels if (f := _flag(declaration, c, setting, figures)) is not None),
        _use(declaration, figures, Subsystem.PROCESSOR),
        _use(declaration, figures, Subsystem.GRAPHICS),
        _answers(benchmark, told),
    )


def _mean(figures: tuple[Figure, ...], channel: Channel) -> float | None:
    values = [float(f.facts[f"mean {channel.id}"]) for f in figures if f"mean {channel.id}" in f.facts]
    return statistics.fmean(values) if values else None


def _flag(declaration: RigDeclaration, channel: Channel, setting: Setting, figures: tuple[Figure, ...]) -> Flag | None:
    """Give how often a limit was reached, with the clock of the same part against the one asked for."""
    share = _mean(figures, channel) if channel.quantity is Quantity.FLAG else None
    if share is None:
        return None
    clocks = [
        (mean, asked)
        for c in declaration.channels
        if c.quantity is Quantity.CLOCK and c.subsystem is channel.subsystem
        if (mean := _mean(figures, c)) is not None and (asked := setting.setup.get(c.follows))
    ]
    held = min((mean / asked for mean, asked in clocks), default=None)
    return Flag(channel.name.removesuffix(" reached").lower(), share, held)


def _use(declaration: RigDeclaration, figures: tuple[Figure, ...], part: Subsystem) -> float | None:
    uses = [c for c in declaration.channels if c.quantity is Quantity.USE and c.subsystem is part]
    return max((v for c in uses if (v := _mean(figures, c)) is not None), default=None)


def _answers(benchmark: Workload, told: Sensitivities) -> tuple[Answer, ...]:
    """Give the slopes along clocks and rates: knobs a score can follow in proportion."""
    row = next((cells for b, cells in zip(told.benchmarks, told.cells, strict=True) if b.id == benchmark.id), ())
    return tuple(
        Answer(PARTS[knob.subsystem], knob.name.lower(), cell.slope, cell.low, cell.high)
        for knob, cell in zip(told.knobs, row, strict=True)
        if knob.proportional and knob.subsystem in PARTS and cell.low == cell.low
    )
