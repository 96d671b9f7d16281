"""What a sheet would make: settings with their figures and how they went, and the knobs they are settings of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yondle.formats.knob_table import DescribedKnob
from yondle.model.knobs import Knob, Setup, Subsystem
from yondle.model.verdicts import Failure

Value = float | str
STOCK = "\x00stock"
"""What stands for the stock value of a knob that isn't described yet."""


@dataclass(frozen=True, slots=True)
class GatheredFigure:
    """One figure, or one that only has sub-scores or sensors so far."""

    benchmark: str
    score: float
    unit: str
    lower: bool | None
    parts: tuple[tuple[str, float], ...] = ()
    sensors: tuple[tuple[str, float], ...] = ()
    preset: str = ""
    passage: str = ""
    group: Subsystem | None = None


@dataclass(frozen=True, slots=True)
class GatheredStep:
    """Settings by the names of their columns, with what the sheet tells of them."""

    values: tuple[tuple[str, Value], ...]
    figures: tuple[GatheredFigure, ...]
    went: Failure | bool | None = None
    note: str = ""
    conditions: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Gathered:
    """All that a sheet would make: `knobs` are those that would be described anew, by id, `told` says what was made of it."""

    steps: tuple[GatheredStep, ...]
    knobs: Mapping[str, DescribedKnob]
    names: Mapping[str, str]
    """The knob each column of settings means, by the column's name."""
    told: tuple[str, ...]
    left: tuple[str, ...]
    problems: tuple[str, ...]
    asks_stock_of: tuple[str, ...] = ()
    """The new settings of which stock isn't told as a number."""

    @property
    def settings(self) -> int:
        """How many settings differ."""
        return len({step.values for step in self.steps})

    @property
    def benchmarks(self) -> tuple[str, ...]:
        """The benchmarks in their order."""
        return tuple(dict.fromkeys(f.benchmark for step in self.steps for f in step.figures))

    @property
    def measured_in(self) -> dict[str, tuple[str, bool]]:
        """Give the unit of every benchmark, and whether less of it is better."""
        return {f.benchmark: (f.unit, bool(f.lower)) for step in self.steps for f in step.figures}

    @property
    def figures(self) -> int:
        """How many figures there are."""
        return sum(len(step.figures) for step in self.steps)


def setup_of(step: GatheredStep, names: Mapping[str, str], knobs: Sequence[Knob]) -> Setup:
    """Give the whole setup of a gathered step, of all the knobs there are then; those without a column are at stock."""
    by_id = {knob.id: knob for knob in knobs}
    values = {knob.id: knob.stock for knob in knobs}
    for name, value in step.values:
        knob = by_id[names[name]]
        if value != STOCK:
            values[knob.id] = knob.parsed(value) if isinstance(value, str) else value
    return Setup.of(values)
