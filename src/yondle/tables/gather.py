"""What a recognised sheet would make: settings with figures and how they went; what can't be read names its cell."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import TypeVar

from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Subsystem
from yondle.model.quantities import count
from yondle.model.verdicts import Failure
from yondle.model.workloads import Direction
from yondle.tables.cells import Cell, cell_name
from yondle.tables.column_cells import is_empty, number_in
from yondle.tables.gathered import STOCK, Gathered, GatheredFigure, GatheredStep, Value
from yondle.tables.heads import LOWER_UNITS, Role, group_of, head_of, same, says_lower, unit_of, word_outcome
from yondle.tables.new_knobs import LONGEST_WORD, described, free_id, goes_further
from yondle.tables.numbers import typed, written
from yondle.tables.recognise import is_stock
from yondle.tables.recognised import AS_FOUND, Column, Known, Recognised, Shape, Wishes

MOST_PROBLEMS = 20
_TIMES = {
    ("GHz", "MHz"): 1000.0,
    ("MHz", "GHz"): 0.001,
    ("V", "mV"): 1000.0,
    ("mV", "V"): 0.001,
    ("GT/s", "MT/s"): 1000.0,
}


def gather(
    found: Recognised, known: Known, wishes: Wishes = AS_FOUND, stock: Mapping[str, str] | None = None
) -> Gathered:
    """Gather what a recognised sheet would make. `stock` says what a new knob's stock is, by the column's name."""
    return _Gathering(found, known, wishes, stock or {}).gathered()


@dataclass
class _Row:
    """What is put together for one setting."""

    values: tuple[tuple[str, Value], ...]
    figures: list[GatheredFigure] = field(default_factory=list)
    went: dict[Failure | bool, None] = field(default_factory=dict)
    notes: dict[str, None] = field(default_factory=dict)
    conditions: dict[str, str] = field(default_factory=dict)


class _Gathering:
    def __init__(self, found: Recognised, known: Known, wishes: Wishes, stock: Mapping[str, str]) -> None:
        self._found, self._known, self._wishes, self._stock = found, known, wishes, stock
        self._decimal = found.decimal or "."
        self._problems: list[str] = list(found.problems)
        self._told: list[str] = []
        self._rows: dict[tuple[object, ...], _Row] = {}
        self._ambiguous = not found.decimal
        self._as_stock = 0
        self._asks: list[str] = []

    def gathered(self) -> Gathered:
        """Gather it."""
        found = self._found
        twice = self._twice()
        if found.shape is Shape.BY_BENCHMARK:
            self._by_benchmark()
        else:
            self._by_rows()
        knobs, names = self._knobs()
        if not self._problems and not self._rows:
            self._problem(say("There is no figure, setting or outcome in it."))
        steps = tuple(
            GatheredStep(
                row.values,
                tuple(row.figures),
                went,
                "\n".join(row.notes) if first else "",
                tuple(row.conditions.items()),
            )
            if first
            else GatheredStep(row.values, (), went)
            for row in self._rows.values()
            for first, went in _each(row.went)
        )
        if self._as_stock:
            cells = count(self._as_stock, "empty cell")
            self._told.append(say("{cells} of settings: taken to be at stock.", cells=cells))
        self._told += twice
        return Gathered(
            steps,
            knobs,
            names,
            tuple(self._told),
            tuple(self._left()),
            tuple(self._problems[:MOST_PROBLEMS]),
            tuple(self._asks),
        )

    # -- rows ----------------------------------------------------------------------------------------------------------

    def _by_rows(self) -> None:
        found = self._found
        settings, figures = found.of(Role.SETTING), found.of(Role.FIGURE)
        for i, row in enumerate(found.body, found.head_rows):
            if all(is_empty(cell) for cell in row) or self._repeats_head(row):
                continue
            values = tuple((c.name, self._value(i, c, row[c.index])) for c in settings)
            if any(value is None for _, value in values):
                continue
            told = _conditions(found, row)
            made = self._row(tuple((n, v) for n, v in values if v is not None), told)
            self._went(made, i, row)
            name = self._word(row, Role.BENCHMARK)
            by_row = found.shape is Shape.BY_FIGURE
            if by_row and not name:
                if any(number_in(row[c.index], self._decimal) for c in figures) and found.of(Role.BENCHMARK):
                    column = found.of(Role.BENCHMARK)[0]
                    self._problem(
                        say(
                            "Cell {cell} names no benchmark, and its row has a figure.", cell=cell_name(i, column.index)
                        )
                    )
                continue
            self._figures(made, i, row, name if by_row else "")

    def _by_benchmark(self) -> None:
        found = self._found
        columns = [c for c in found.of(Role.FIGURE) if c.value]
        name = self._setting_name(columns)
        numbers = [written(c.value) for c in columns]
        stocks = [c for c in columns if is_stock(c.value)]
        as_numbers = all(n is not None or is_stock(c.value) for n, c in zip(numbers, columns, strict=True))
        told, knob = self._stock.get(name, ""), self._known_knob(name)
        as_numbers = as_numbers and not (knob is not None and knob.choices)
        if as_numbers and stocks and not told and knob is None:
            cell = cell_name(found.head_rows - 1, stocks[0].index)
            self._asks.append(name)
            self._problem(
                say("What is '{stock}' (cell {cell}) of {name} as a number? Say what stock is.", stock=stocks[0].value, cell=cell,
                    name=name)
            )  # fmt: skip
            return
        for column, number in zip(columns, numbers, strict=True):
            value: Value | None = column.value[:LONGEST_WORD].strip()
            if as_numbers and number is not None:
                value = self._value(found.head_rows - 1, _as_setting(column, name, number.unit), column.value)
            elif as_numbers:
                value = self._stock_number(name)
            if value is None:
                continue
            for i, row in enumerate(found.body, found.head_rows):
                benchmark = self._word(row, Role.BENCHMARK)
                if not benchmark or is_empty(row[column.index]):
                    continue
                made = self._row(((name, value),), {})
                self._figure(made, i, row, column, benchmark, (), ())

    def _setting_name(self, columns: list[Column]) -> str:
        """Name the knob of a sheet with a column a setting: as it was told, by the unit of a known knob, else plainly."""
        if self._wishes.setting:
            knob = self._known.knob(head_of(self._wishes.setting))
            return knob.id if knob is not None else self._wishes.setting
        units = {unit_of(n.unit) for c in columns if (n := written(c.value)) is not None} - {""}
        like = [k for k in self._known.knobs if k.unit in units]
        if len(like) == 1:
            return like[0].id
        unit = next(iter(units), "")
        name = {"MHz": say("Clock"), "GHz": say("Clock"), "V": say("Voltage"), "mV": say("Voltage"), "W": say("Power limit"),
                "MT/s": say("Memory speed")}.get(unit, say("Setting"))  # fmt: skip
        known = self._known.knob(head_of(name))
        return known.id if known is not None else name

    def _row(self, values: tuple[tuple[str, Value], ...], conditions: dict[str, str]) -> _Row:
        key = (values, tuple(sorted(conditions.items())))
        if key not in self._rows:
            self._rows[key] = _Row(values, conditions=dict(conditions))
        return self._rows[key]

    def _repeats_head(self, row: tuple[Cell, ...]) -> bool:
        """Tell whether a row is the head once more, as below each page of a printed table."""
        told = [c.head.text for c in self._found.columns]
        return all(cell is None or str(cell).strip() == text for cell, text in zip(row, told, strict=True))

    def _went(self, made: _Row, i: int, row: tuple[Cell, ...]) -> None:
        for column in self._found.of(Role.OUTCOME):
            cell = row[column.index]
            if is_empty(cell):
                continue
            went = word_outcome(str(cell)) if not isinstance(cell, bool) else cell or Failure.FAILED
            if went is None:
                self._problem(
                    say(
                        "Cell {cell} says '{text}', and not how it went.",
                        cell=cell_name(i, column.index),
                        text=_short(cell),
                    )
                )
            else:
                made.went[went] = None
        for column in self._found.of(Role.NOTE):
            if not is_empty(row[column.index]):
                made.notes[str(row[column.index]).strip()] = None

    def _figures(self, made: _Row, i: int, row: tuple[Cell, ...], benchmark: str) -> None:
        """Take the figures of a row; sub-scores and sensors go with that of their benchmark, or else the first of them is it."""
        found = self._found
        sensors = tuple(self._beside(i, row, found.of(Role.SENSOR)))
        parts_of: dict[str, list[tuple[str, float]]] = {}
        for column in found.of(Role.PART):
            value = self._number(i, column, row[column.index])
            if value is not None:
                parts_of.setdefault(benchmark or column.name, []).append((column.part or column.name, value))
        for column in found.of(Role.FIGURE):
            name = benchmark or column.name
            self._figure(made, i, row, column, name, tuple(parts_of.pop(name, ())), sensors)
        for name, parts in parts_of.items():
            column = next(c for c in found.of(Role.PART) if (benchmark or c.name) == name)
            if self._may_be_a_figure(i, column, parts[0][1]):
                made.figures.append(GatheredFigure(name, parts[0][1], column.unit, column.lower, tuple(parts), sensors))
        if not found.of(Role.FIGURE, Role.PART):
            made.figures += [GatheredFigure(n.capitalize(), v, "", True) for n, v in sensors if v >= 0.0]

    def _figure(
        self,
        made: _Row,
        i: int,
        row: tuple[Cell, ...],
        column: Column,
        benchmark: str,
        parts: tuple[tuple[str, float], ...],
        sensors: tuple[tuple[str, float], ...],
    ) -> None:
        cell = row[column.index]
        if is_empty(cell):
            return
        if (
            isinstance(cell, str)
            and (went := word_outcome(cell)) is not None
            and number_in(cell, self._decimal) is None
        ):
            if went is not True:
                made.went[went] = None
            return
        value = self._number(i, column, cell)
        if value is None:
            return
        if not self._may_be_a_figure(i, column, value):
            return
        read = number_in(cell, self._decimal)
        unit = (
            _told_of(self._wishes.units, benchmark)
            or self._word(row, Role.UNIT)
            or column.unit
            or (unit_of(read[1]) or read[1] if read is not None else "")
        )
        kept = self._known.benchmark(benchmark)
        group = group_of(self._word(row, Role.GROUP))
        if kept is not None and not unit:
            unit = kept.metric.unit
        preset, passage = self._word(row, Role.PRESET), self._word(row, Role.PASSAGE)
        lower, part = self._lower(row, column, benchmark, unit), Subsystem(group) if group else None
        made.figures.append(GatheredFigure(benchmark, value, unit, lower, parts, sensors, preset, passage, part))

    def _may_be_a_figure(self, i: int, column: Column, value: float) -> bool:
        if value < 0.0:
            cell = cell_name(i, column.index)
            self._problem(say("Cell {cell}: {value:g} is below 0, and no figure.", cell=cell, value=value))
        return value >= 0.0

    def _lower(self, row: tuple[Cell, ...], column: Column, benchmark: str, unit: str) -> bool | None:
        kept = self._known.benchmark(benchmark)
        if kept is not None:
            return kept.metric.direction is Direction.LOWER
        if (wished := _told_of(self._wishes.lower, benchmark)) is not None:
            return wished
        told = self._word(row, Role.BETTER)
        if told:
            return says_lower(told)
        return column.lower if column.lower is not None else unit in LOWER_UNITS

    def _beside(self, i: int, row: tuple[Cell, ...], columns: tuple[Column, ...]) -> Iterator[tuple[str, float]]:
        for column in columns:
            value = self._number(i, column, row[column.index])
            if value is not None:
                yield column.name, value

    # -- cells ---------------------------------------------------------------------------------------------------------

    def _word(self, row: tuple[Cell, ...], role: Role) -> str:
        return next((str(row[c.index]).strip() for c in self._found.of(role) if not is_empty(row[c.index])), "")

    def _number(self, i: int, column: Column, cell: Cell) -> float | None:
        """Read a number; one that could be read in two ways, a date, a word and another unit are problems."""
        where = cell_name(i, column.index)
        if is_empty(cell):
            return None
        if (i, column.index) in self._found.sheet.dates:
            self._problem(
                say("Cell {cell} holds a date ({text}), where a number should be.", cell=where, text=_short(cell))
            )
            return None
        if isinstance(cell, str) and self._ambiguous and (told := written(cell)) is not None and told.ambiguous:
            self._problem(
                say(
                    "Cell {cell}: '{text}' could be read in two ways; say what stands before decimals.",
                    cell=where,
                    text=_short(cell),
                )
            )
            return None
        read = number_in(cell, self._decimal)
        if read is None or not math.isfinite(read[0]) or abs(read[0]) > 1e15:
            self._problem(say("Cell {cell}: '{text}' is no number.", cell=where, text=_short(cell)))
            return None
        value, unit = read[0], unit_of(read[1]) or read[1]
        if unit and column.unit and unit != column.unit:
            times = _TIMES.get((unit, column.unit))
            if times is None:
                self._problem(
                    say("Cell {cell} is in {unit}, its column in {other}.", cell=where, unit=unit, other=column.unit)
                )
                return None
            value = round(value * times, 9)
        return value

    def _value(self, i: int, column: Column, cell: Cell) -> Value | None:
        """Read the value of a setting as its knob takes it; an empty cell is stock."""
        knob = self._known_knob(column.name)
        told = isinstance(cell, str) and is_stock(cell)
        if told and self._is_words(column, knob, str(cell)):
            return str(cell).strip() if knob is None else knob.parsed(str(cell))
        if is_empty(cell) or told:
            self._as_stock += is_empty(cell)
            return knob.stock if knob is not None else STOCK
        if knob is None:
            read = number_in(cell, self._decimal)
            if read is None or self._is_words(column, None, ""):
                return (
                    str(int(cell))
                    if isinstance(cell, float) and cell.is_integer()
                    else str(cell).strip()[:LONGEST_WORD]
                )
            return self._number(i, column, cell)
        where = cell_name(i, column.index)
        try:
            if knob.choices:
                text = str(int(cell)) if isinstance(cell, float) and cell.is_integer() else str(cell)
                return knob.checked(knob.parsed(text))
            value = self._number(i, column, cell)
            if value is None:
                return None
            unit = column.unit or knob.unit
            times = _TIMES.get((unit, knob.unit)) if unit != knob.unit and knob.unit else 1.0
            if times is None:
                raise KnownError(
                    say("{name} is in {unit} here, and not in {other}.", name=knob.name, unit=knob.unit, other=unit),
                    say("Say the unit of its column, or take it for something else."),
                )
            value = round(value * times, 9)
            return value if self._known.open_ else knob.checked(value)
        except KnownError as error:
            self._problem(f"{say('Cell {cell}:', cell=where)} {error.problem} {error.remedy}")
            return None

    def _is_words(self, column: Column, knob: Knob | None, word: str) -> bool:
        """Tell whether a setting has words for its values: a knob of which it is one, or a column with any that is no number."""
        if knob is not None:
            return any(word.strip().casefold() == choice.casefold() for choice in knob.choices)
        if column.value:
            return False
        cells = [row[column.index] for row in self._found.body]
        words = [c for c in cells if not is_empty(c) and number_in(c, self._decimal) is None]
        return any(not (isinstance(c, str) and is_stock(c)) for c in words)

    def _stock_number(self, name: str) -> float | None:
        """Give stock as a number: as it was told, else of a knob that is known."""
        knob, told = self._known_knob(name), self._stock.get(name, "")
        if not told:
            return knob.stock if knob is not None else None
        read = typed(told)
        return read[0] if read is not None else None

    def _known_knob(self, name: str) -> Knob | None:
        return next((k for k in self._known.knobs if k.id == name), None)

    # -- knobs ---------------------------------------------------------------------------------------------------------

    def _knobs(self) -> tuple[dict[str, DescribedKnob], dict[str, str]]:
        """Describe the knobs that the sheet has and the logbook hasn't, and widen those whose values go further."""
        made: dict[str, DescribedKnob] = {}
        names: dict[str, str] = {}
        taken = {k.id for k in self._known.knobs}
        for name in dict.fromkeys(n for row in self._rows.values() for n, _ in row.values):
            knob = self._known_knob(name)
            values = [v for row in self._rows.values() for n, v in row.values if n == name]
            if knob is not None:
                names[name] = knob.id
                if self._known.open_ and goes_further(knob, values):
                    self._told.append(say("{name} goes further than before.", name=knob.name))
                continue
            if not self._known.open_:
                self._problem(say("There is no knob '{name}' here: take its column for something else.", name=name))
                continue
            id_ = free_id(name, taken)
            taken.add(id_)
            unit = next((c.unit for c in self._found.columns if c.name == name and c.unit), self._unit_of_heads())
            stock = self._stock.get(name, "")
            new = described(name, unit, values, stock, self._stock_number(name) if stock else None)
            if new.asks:
                self._asks.append(name)
            if new.knob is None:
                self._problem(new.words)
                continue
            self._told.append(new.words)
            made[id_], names[name] = new.knob, id_
        return made, names

    def _unit_of_heads(self) -> str:
        units = [
            unit_of(n.unit) for c in self._found.of(Role.FIGURE) if c.value and (n := written(c.value)) is not None
        ]
        return next((unit for unit in units if unit), "")

    # -- words ---------------------------------------------------------------------------------------------------------

    def _twice(self) -> list[str]:
        """Say which columns stand for the same setting, or the same benchmark without being runs of it."""
        met: set[str] = set()
        said = []
        for column in self._found.columns:
            if column.role is not Role.FIGURE:
                continue
            told = column.value or (
                f"{column.name} {column.part}" if column.head.run is None and column.name.strip() else ""
            )
            if told and told in met:
                cell = cell_name(max(self._found.head_rows - 1, 0), column.index)
                said.append(
                    say("'{head}' stands twice ({cell}): both are taken as runs of it.", head=told.strip(), cell=cell)
                )
            met.add(told)
        return said

    def _left(self) -> Iterator[str]:
        for column in self._found.of(Role.LEFT):
            if column.head.text:
                yield say("'{head}': {why}", head=column.head.text, why=named(column.why))

    def _problem(self, words: str) -> None:
        if len(self._problems) < MOST_PROBLEMS:
            self._problems.append(words)


def _as_setting(column: Column, name: str, unit: str) -> Column:
    """Give a column of figures as one of settings: its head is a value of a knob."""
    return Column(column.index, column.head, Role.SETTING, name, unit_of(unit) or unit, value=column.value)


def _each(went: dict[Failure | bool, None]) -> Iterator[tuple[bool, Failure | bool | None]]:
    if not went:
        yield True, None
    for i, each in enumerate(went):
        yield i == 0, each


T = TypeVar("T")


def _told_of(told: Mapping[str, T], benchmark: str) -> T | None:
    return next((value for name, value in told.items() if same(name, benchmark)), None)


def _conditions(found: Recognised, row: tuple[Cell, ...]) -> dict[str, str]:
    return {c.name: str(row[c.index]).strip()[:200] for c in found.of(Role.CONDITION) if not is_empty(row[c.index])}


def _short(cell: Cell) -> str:
    text = str(cell)
    return text if len(text) <= 30 else f"{text[:29]}\u2026"
