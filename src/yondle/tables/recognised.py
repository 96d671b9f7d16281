"""What a sheet was taken for: its shape and its columns, what the tuner says of them, and what a logbook knows already."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from yondle.model.knobs import Knob
from yondle.model.workloads import Workload
from yondle.tables.cells import Cell, Sheet
from yondle.tables.heads import Head, Role, same, within


class Shape(StrEnum):
    """How figures are laid out."""

    BY_FIGURE = "a row a figure"
    BY_SETTING = "a row a setting"
    BY_BENCHMARK = "a row a benchmark"


@dataclass(frozen=True, slots=True)
class Column:
    """One column: its head, what it is taken for and called, its unit, and why. `part` names the sub-score it holds.

    A setting is called by the id of its knob, or by the name that a new one gets; of the shape with a column a setting,
    `value` is the one this column stands for.
    """

    index: int
    head: Head
    role: Role
    name: str = ""
    unit: str = ""
    lower: bool | None = None
    part: str = ""
    value: str = ""
    why: str = ""


@dataclass(frozen=True, slots=True)
class Wish:
    """What the tuner says of a column; what is None stays as it was found."""

    role: Role | None = None
    name: str | None = None
    unit: str | None = None
    lower: bool | None = None


@dataclass(frozen=True, slots=True)
class Wishes:
    """What the tuner says of a sheet: of its columns by index, its shape, its decimal mark, how many rows its head has."""

    columns: Mapping[int, Wish] = field(default_factory=dict)
    shape: Shape | None = None
    decimal: str = ""
    head_rows: int | None = None
    benchmark: str = ""
    """What is measured, where no column says so."""
    setting: str = ""
    """The knob that the columns of a sheet with a column a setting are values of."""
    units: Mapping[str, str] = field(default_factory=dict)
    lower: Mapping[str, bool] = field(default_factory=dict)
    """Units of benchmarks, and of which less is better, by their names."""


AS_FOUND = Wishes()
"""Nothing is said of it."""


@dataclass(frozen=True, slots=True)
class Known:
    """What a logbook knows already: its knobs and its benchmarks. `open_` tells that new knobs may be described."""

    knobs: tuple[Knob, ...] = ()
    benchmarks: tuple[Workload, ...] = ()
    open_: bool = True

    def knob(self, head: Head) -> Knob | None:
        """Find the knob a head speaks of: by its id or name, or by all its words where the units agree."""
        named = [k for k in self.knobs if same(head.name, k.id) or same(head.name, k.name)]
        if not named and head.name:
            near = [k for k in self.knobs if within(head.name, k.name) or within(k.name, head.name)]
            named = [k for k in near if not head.unit or head.unit == k.unit]
        return named[0] if len(named) == 1 else None

    def benchmark(self, name: str) -> Workload | None:
        """Find a benchmark by its name."""
        return next((w for w in self.benchmarks if same(w.name, name)), None)


@dataclass(frozen=True, slots=True)
class Recognised:
    """A sheet with what its columns are taken for. `problems` stand against bringing it in, each naming a cell or a column."""

    sheet: Sheet
    shape: Shape
    columns: tuple[Column, ...]
    head_rows: int
    decimal: str
    problems: tuple[str, ...] = ()

    @property
    def body(self) -> tuple[tuple[Cell, ...], ...]:
        """The rows below the head."""
        return self.sheet.rows[self.head_rows :]

    def of(self, *roles: Role) -> tuple[Column, ...]:
        """Give the columns that are taken for these."""
        return tuple(c for c in self.columns if c.role in roles)
