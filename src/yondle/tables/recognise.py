"""What the columns of a sheet are for: found out from heads and cells, corrected by the tuner, never guessed silently.

A sheet has one of three shapes: a row a figure (a column names the benchmark), a row a setting (a column a benchmark), or a row a
benchmark (a column a setting). Each column is taken for something, with the reason; what can't be read names its cell.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from yondle.language.saying import later, say
from yondle.model.workloads import Direction
from yondle.tables.cells import Sheet, cell_name
from yondle.tables.column_cells import ColumnCells, Kind, cells_of
from yondle.tables.head_rows import heads_of
from yondle.tables.heads import LOWER_UNITS, SENSORS, SETTING_UNITS, Head, Role, head_of, unit_of, word_outcome
from yondle.tables.numbers import Written, decimal_of, written
from yondle.tables.recognised import AS_FOUND, Column, Known, Recognised, Shape, Wish, Wishes


def recognise(sheet: Sheet, known: Known, wishes: Wishes = AS_FOUND) -> Recognised:
    """Find out what a sheet holds; what the tuner says goes before what it looks like."""
    heads = heads_of(sheet, wishes.head_rows)
    rows = len(heads[0].lines) if heads else 0
    start = (heads[0].first if heads else 0) + rows
    told = [
        w for row in sheet.rows[start:] for cell in row if isinstance(cell, str) and (w := written(cell)) is not None
    ]
    decimal, mixed = decimal_of(told)
    problems = []
    if mixed and not wishes.decimal:
        problems.append(_mixed(sheet, start))
    decimal = wishes.decimal or decimal
    cells = [cells_of(sheet, start, i, decimal or ".") for i in range(len(heads))]
    columns = _Columns(known, wishes, [h.head for h in heads], [h.upper for h in heads], cells)
    shape, found = columns.found()
    return Recognised(sheet, shape, tuple(found), start, decimal, tuple(problems))


def _mixed(sheet: Sheet, start: int) -> str:
    marks: dict[str, str] = {}
    for i, row in enumerate(sheet.rows[start:], start):
        for k, cell in enumerate(row):
            told = written(cell).told_decimal if isinstance(cell, str) and written(cell) is not None else ""  # type: ignore[union-attr]
            if told and told not in marks:
                marks[told] = cell_name(i, k)
    return say(
        "Decimals stand behind a point in cell {dot} and behind a comma in cell {comma}: say which it is.",
        dot=marks.get(".", "?"),
        comma=marks.get(",", "?"),
    )


WHY_HEAD, WHY_KNOB = later("by its head"), later("a knob of this logbook")
WHY_PERCENT, WHY_GAIN = later("per cent of something else"), later("a gain over another column")
WHY_TOLD = later("you said so")


class _Columns:
    """Finds what every column is for."""

    def __init__(
        self, known: Known, wishes: Wishes, heads: list[Head], uppers: list[str], cells: list[ColumnCells]
    ) -> None:
        self._known, self._wishes = known, wishes
        self._heads, self._uppers, self._cells = heads, uppers, cells
        self._found: dict[int, Column] = {}

    def found(self) -> tuple[Shape, list[Column]]:
        """Give the shape, and what every column is taken for."""
        for i in range(len(self._heads)):
            if (plain := self._plain(i)) is not None:
                self._found[i] = plain
        for i, wish in self._wishes.columns.items():
            if i < len(self._heads) and wish.role is not None:
                self._found[i] = self._as_wished(i, wish)
        self._find_benchmarks()
        shape = self._wishes.shape or self._shape()
        for i in range(len(self._heads)):
            if i not in self._found:
                self._found[i] = self._open(i, shape)
        self._settle(shape)
        for i, wish in self._wishes.columns.items():
            if i in self._found and wish.role is None:
                self._found[i] = self._as_wished(i, replace(wish, role=self._found[i].role))
        return shape, [self._found[i] for i in range(len(self._heads))]

    def _made(self, i: int, role: Role, why: str, name: str = "", **more: object) -> Column:
        head = self._heads[i]
        unit = head.unit or next(iter(self._cells[i].units), "")
        called = name or head.name or head.text or say("column {i}", i=i + 1)
        return Column(i, head, role, called, unit, why=why, **more)  # type: ignore[arg-type]

    def _as_wished(self, i: int, wish: Wish) -> Column:
        before = self._found.get(i) or self._made(i, Role.LEFT, WHY_TOLD)
        role = wish.role or before.role
        name = wish.name if wish.name is not None else before.name or self._heads[i].name or self._heads[i].text
        if role is Role.SETTING:
            knob = self._known.knob(head_of(name))
            name = knob.id if knob is not None else name
        return replace(
            before, role=role, name=name, unit=wish.unit if wish.unit is not None else before.unit,
            lower=wish.lower if wish.lower is not None else before.lower, why=WHY_TOLD,
        )  # fmt: skip

    def _plain(self, i: int) -> Column | None:
        """Tell what a column is by its own head and cells alone; None where that takes a look at the others."""
        head, cells = self._heads[i], self._cells[i]
        if cells.kind is Kind.EMPTY:
            return self._made(i, Role.LEFT, later("empty"))
        knob = self._known.knob(head)
        if knob is not None and not self._uppers[i] and (knob.choices or cells.kind is Kind.NUMBERS):
            return self._made(i, Role.SETTING, WHY_KNOB, knob.id)
        if cells.kind is Kind.DATES or (head.says("date") and cells.kind is Kind.WORDS):
            return self._made(i, Role.LEFT, later("a date"))
        if cells.kind is Kind.WORDS:
            return self._plain_words(i)
        if head.says("gain") or ("%" in cells.units and not head.says("setting") and not head.says("battery")):
            return self._made(i, Role.LEFT, WHY_PERCENT)
        if "\u00b1" in cells.signs or head.says("spread"):
            return self._made(i, Role.LEFT, later("a spread, which follows from the runs"))
        if head.unit == "%" and not head.says("setting") and not head.says("battery") and not self._known.open_:
            return self._made(i, Role.LEFT, WHY_PERCENT)
        if head.says("number") and all(n.is_integer() for n in cells.numbers) and not head.unit:
            return self._made(i, Role.LEFT, later("the number of the row"))
        for role in (Role.NOTE, Role.CONDITION):
            if head.says(role) and not head.unit:
                return self._made(i, role, WHY_HEAD)
        if self._is_gain(i):
            return self._made(i, Role.LEFT, WHY_GAIN)
        return None

    def _plain_words(self, i: int) -> Column | None:
        head, cells = self._heads[i], self._cells[i]
        told = sum(word_outcome(word) is not None for word in cells.words)
        if (
            told
            and told >= 0.6 * len(cells.words)
            and not head.says(Role.NOTE)
            and (head.says(Role.OUTCOME) or not head.says(Role.BENCHMARK))
        ):
            return self._made(i, Role.OUTCOME, WHY_HEAD)
        for role in (
            Role.NOTE, Role.OUTCOME, Role.BENCHMARK, Role.UNIT, Role.BETTER, Role.GROUP, Role.PRESET, Role.PASSAGE,
            Role.CONDITION,
        ):  # fmt: skip
            if head.says(role):
                return self._made(i, role, WHY_HEAD)
        return None

    def _is_gain(self, i: int) -> bool:
        """Tell whether a column is the gain of the one to its left over that one's first figure."""
        before, here = self._cells[i - 1].numbers if i else (), self._cells[i].numbers
        if len(here) < 3 or not before or before[0] == 0.0 or len(before) - len(here) not in (0, 1):
            return False
        pairs = list(zip(before[len(before) - len(here) :], here, strict=True))
        for scale in (1.0, 100.0):
            if any(abs(n) > 1e-9 for _, n in pairs) and all(
                abs((b / before[0] - 1.0) * scale - n) <= 0.006 * scale * max(1.0, abs(n) / scale) for b, n in pairs
            ):
                return True
        return False

    def _find_benchmarks(self) -> None:
        """Find the column that names benchmarks: by its head, by names that are known, or the first words of all."""
        if any(c.role is Role.BENCHMARK for c in self._found.values()):
            return
        words = [i for i, cells in enumerate(self._cells) if cells.kind is Kind.WORDS and i not in self._found]
        for i in words:
            names = self._cells[i].words
            if sum(self._known.benchmark(name) is not None for name in names) >= 0.5 * len(names):
                self._found[i] = self._made(i, Role.BENCHMARK, later("it names benchmarks of this logbook"))
                return
        if any(self._heads[i].only or self._heads[i].run is not None for i in self._numbers()) and words:
            other = [i for i in words if not self._heads[i].says("setting")]
            if other:
                self._found[other[0]] = self._made(other[0], Role.BENCHMARK, later("words beside figures"))
                return
        columns = [self._heads[i] for i in self._numbers()]
        if words and len(columns) > 1 and self._are_settings(columns):
            self._found[words[0]] = self._made(words[0], Role.BENCHMARK, later("words beside a column a setting"))

    def _numbers(self) -> list[int]:
        return [i for i, cells in enumerate(self._cells) if cells.kind is Kind.NUMBERS and i not in self._found]

    def _are_settings(self, heads: Sequence[Head]) -> bool:
        """Tell whether heads are values of one knob: numbers of one unit, or stock beside such."""
        told = [head for head in heads if self._value_of(head) is not None]
        stock = [head for head in heads if is_stock(head.text)]
        return len(told) + len(stock) >= 2 and len(told) + len(stock) >= 0.75 * len(heads)

    @staticmethod
    def _value_of(head: Head) -> Written | None:
        found = written(head.text)
        return found if found is not None and (not found.unit or unit_of(found.unit) or len(found.unit) <= 6) else None

    def _shape(self) -> Shape:
        named = [c for c in self._found.values() if c.role is Role.BENCHMARK]
        if not named:
            return Shape.BY_SETTING
        heads = [self._heads[i] for i in self._numbers()]
        names = self._cells[named[0].index].words
        if len(heads) >= 2 and self._are_settings(heads):
            return Shape.BY_BENCHMARK
        figures = [h for h in heads if h.only or h.run is not None or h.says("value") or h.says("ends")]
        settings = [c for c in self._found.values() if c.role is Role.SETTING]
        once = len(set(names)) == len(names)
        if len(heads) >= 2 and not figures and not settings and once and not any(h.unit for h in heads):
            return Shape.BY_BENCHMARK
        return Shape.BY_FIGURE

    def _open(self, i: int, shape: Shape) -> Column:
        """Tell what a column is that isn't told by itself, in a sheet of a shape."""
        head, cells = self._heads[i], self._cells[i]
        if cells.kind is not Kind.NUMBERS:
            others = [c for c in self._found.values() if c.role is Role.SETTING]
            named = head.says("setting") or (shape is Shape.BY_SETTING and not others and not self._setting_numbers())
            if named and self._known.open_:
                return self._made(i, Role.SETTING, later("words that tell settings apart"))
            return self._made(i, Role.CONDITION, later("words that no column is known by"))
        if shape is Shape.BY_BENCHMARK:
            return replace(self._made(i, Role.FIGURE, later("a column a setting"), value=head.text), unit="")
        if self._uppers[i]:
            return self._under(i)
        if self._known.open_ and self._is_setting(i, shape):
            return self._made(i, Role.SETTING, later("by its head and unit"))
        sensor = self._sensor(i, shape)
        if sensor:
            return self._made(i, Role.SENSOR, WHY_HEAD, sensor)
        if shape is Shape.BY_FIGURE:
            return self._figure_of_row(i)
        name = head.name or self._wishes.benchmark
        if head.only and self._wishes.benchmark:
            name = self._wishes.benchmark
        return self._made(i, Role.FIGURE, later("a column a benchmark"), name or head.text, lower=self._lower(head, i))

    def _under(self, i: int) -> Column:
        """Tell what a column is under an upper head: a figure of the benchmark named there, or one of its sub-scores."""
        upper, head = head_of(self._uppers[i]), self._heads[i]
        unit = head.unit or upper.unit
        main = head.only or head.run is not None
        made = self._made(
            i, Role.FIGURE if main else Role.PART, later("below the name of a benchmark"), upper.name,
            part="" if main else head.name, lower=self._lower(upper, i),
        )  # fmt: skip
        return replace(made, unit=unit)

    def _figure_of_row(self, i: int) -> Column:
        head = self._heads[i]
        every = [k for k, each in enumerate(self._cells) if each.kind is Kind.NUMBERS]
        named = [k for k in every if self._heads[k].only or self._heads[k].run is not None]
        runs = [k for k in every if self._heads[k].run is not None]
        if head.run is not None or (head.only and not runs):
            return self._made(
                i,
                Role.FIGURE,
                later("a figure of the benchmark of its row"),
                " ",
                lower=head.direction is Direction.LOWER or None,
            )
        if head.only:
            return self._made(i, Role.LEFT, later("the mean of the runs beside it"))
        if head.says("ends") and (named or runs):
            return self._made(i, Role.LEFT, later("a spread, which follows from the runs"))
        if not named and i == self._numbers()[0]:
            return self._made(i, Role.FIGURE, later("a figure of the benchmark of its row"), " ")
        return self._made(i, Role.PART, later("beside the figure of its row"), part=head.name)

    def _setting_numbers(self) -> bool:
        return any(self._is_setting(i, Shape.BY_SETTING) for i in self._numbers())

    def _is_setting(self, i: int, shape: Shape) -> bool:
        """Tell whether a column of numbers looks like a setting: by its unit, by its words, and to the left of figures."""
        head = self._heads[i]
        if self._wishes.columns.get(i, Wish()).role not in (None, Role.SETTING):
            return False
        if head.unit in SETTING_UNITS:
            return True
        return head.says("setting") and (not head.says("value") or (shape is Shape.BY_FIGURE and not head.unit))

    def _sensor(self, i: int, shape: Shape) -> str:
        head = self._heads[i]
        for name in ("power", "temperature", "noise", "battery", "price"):
            if head.says(name):
                return name
        return SENSORS.get(head.unit, "") if shape is not Shape.BY_BENCHMARK else ""

    def _lower(self, head: Head, i: int) -> bool | None:
        known = self._known.benchmark(head.name)
        if known is not None:
            return known.metric.direction is Direction.LOWER
        if head.direction is not None:
            return head.direction is Direction.LOWER
        unit = head.unit or next(iter(self._cells[i].units), "")
        return unit in LOWER_UNITS if unit else None

    def _settle(self, shape: Shape) -> None:
        """See that runs of a benchmark go together, and that one with runs leaves its own mean out."""
        if shape is not Shape.BY_SETTING:
            return
        figures = [c for c in self._found.values() if c.role is Role.FIGURE]
        for column in figures:
            runs = [c for c in figures if c.head.run is not None and c.name == column.name]
            if runs and column.head.run is None and column.why is not WHY_TOLD:
                self._found[column.index] = replace(column, role=Role.LEFT, why=later("the mean of the runs beside it"))


def is_stock(text: str) -> bool:
    """Tell whether a word names the settings a machine comes with."""
    return text.strip().casefold() in (
        "stock",
        "default",
        "defaults",
        "baseline",
        "base",
        "serie",
        "standard",
        "werkszustand",
    )
