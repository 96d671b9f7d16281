"""Benchmarks and loads: what they measure, in which unit, and which way is up."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from yondle.model.knobs import Subsystem
from yondle.model.measured import NOTHING_MEASURED, Measured


class Direction(StrEnum):
    """Whether a larger or a smaller figure is the better one."""

    HIGHER = "higher is better"
    LOWER = "lower is better"


@dataclass(frozen=True, slots=True)
class Metric:
    """The figure of merit of a workload; `cap` is a value it can't pass for reasons that aren't the machine's."""

    name: str
    unit: str
    direction: Direction = Direction.HIGHER
    digits: int = 1
    cap: float | None = None


@dataclass(frozen=True, slots=True)
class Workload:
    """One program to run: `pass_s` is how long a score pass lasts, `scored` whether it yields a figure at all."""

    id: str
    name: str
    about: str
    metric: Metric
    pass_s: float
    scored: bool = True
    load: str = ""
    clock_less: str = ""
    """A knob whose value is taken off the core clock while this runs, as for wide-vector work."""
    subsystem: Subsystem = Subsystem.PROCESSOR
    by_hand: bool = False
    """Whether its figures are measured elsewhere and typed in or imported; Yondle can't run it."""
    grouped: bool = False
    """Whether its part of the machine was told, though its figures come from elsewhere."""
    parts: tuple[Metric, ...] = ()
    """Its sub-scores; a pass keeps each by its name (`Measured.parts`)."""


@dataclass(frozen=True, slots=True)
class PassResult:
    """What one pass brought: its figure (None when it failed), how long it ran, and what was measured beside it."""

    ok: bool
    score: float | None
    duration_s: float
    failure: str = ""
    detail: str = ""
    measured: Measured = NOTHING_MEASURED
    frame_times_ms: Sequence[float] = ()
