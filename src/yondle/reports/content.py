"""What a report is made of: sections of paragraphs, tables, lists, charts and files, whatever it is written as."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.parts import Part
from yondle.model.verdicts import Verdict


@dataclass(frozen=True, slots=True)
class Words:
    """A paragraph; a strong one says what matters most."""

    text: str
    strong: bool = False


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell of a table: its words, a verdict's mark before them, and whether they are struck through."""

    text: str
    verdict: Verdict | None = None
    struck: bool = False


@dataclass(frozen=True, slots=True)
class Table:
    """A table; columns in `figures` are right-aligned. `empty` stands where there are no rows."""

    head: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]
    figures: frozenset[int] = frozenset()
    empty: str = ""


@dataclass(frozen=True, slots=True)
class Pairs:
    """Names with what belongs to each, as of a machine's parts or the settings of a profile."""

    rows: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class ChartPoint:
    """One value along a knob: the mean with its range (nan without one), every pass, and the verdict."""

    value: float
    mean: float
    low: float
    high: float
    passes: tuple[float, ...]
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class ChartCurve:
    """One benchmark along a knob."""

    name: str
    points: tuple[ChartPoint, ...]
    capped: bool = False


@dataclass(frozen=True, slots=True)
class Chart:
    """Curves along a knob, with the baseline's noise band, the place where the first bends, and failures where they happened.

    `names` are the words of the values 0, 1, 2 and so on of a switch or mode.
    """

    title: str
    along: str
    up: str
    curves: tuple[ChartCurve, ...]
    noise: float | None = None
    place: tuple[float, str] | None = None
    failures: tuple[tuple[float, Verdict], ...] = ()
    names: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class File:
    """The text of a file that belongs to the report, such as the plan that repeats it."""

    name: str
    text: str


Block = Words | Table | Pairs | Chart | File


@dataclass(frozen=True, slots=True)
class Section:
    """One section with its heading."""

    part: Part
    heading: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True, slots=True)
class Report:
    """A whole report. Nothing in it depends on when or where it is written: `made` is the date of the latest record."""

    title: str
    subtitle: str
    made: str
    sections: tuple[Section, ...]
