"""What the columns of a sheet are for: found out from heads and cells, corrected by the tuner, never guessed silently.

A sheet has one of three shapes: a row a figure (a column names the benchmark), a row a setting (a column a benchmark), or a row a
benchmark (a column a setting). Each column is taken for something, with the reason; what can't be read names its cell.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum, StrEnum

from yondle.language.saying import later, say
from yondle.model.knobs import Knob
from yondle.model.workloads import Direction, Workload
from yondle.tables.cells import Cell, Sheet, cell_name
from yondle.tables.heads import (
    EMPTY,
    LOWER_UNITS,
    SENSORS,
    SETTING_UNITS,
    Head,
    Role,
    head_of,
    same,
    unit_of,
    within,
    word_outcome,
)
from yondle.tables.numbers import Written, decimal_of, written

MOST_HEAD_ROWS = 2
LOOKED_FOR_HEAD = 30


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


class _Kind(Enum):
    NUMBERS = "numbers"
    WORDS = "words"
    DATES = "dates"
    EMPTY = "empty"


@dataclass(frozen=True, slots=True)
class _Cells:
    """The cells of a column below the head."""

    kind: _Kind
    numbers: tuple[float, ...]
    words: tuple[str, ...]
    units: tuple[str, ...]
    """What stands behind the numbers, the commonest first."""
    signs: frozenset[str]


def recognise(sheet: Sheet, known: Known, wishes: Wishes = AS_FOUND) -> Recognised:
    """Find out what a sheet holds; what the tuner says goes before what it looks like."""
    heads = _heads(sheet, wishes.head_rows)
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
    cells = [_cells(sheet, start, i, decimal or ".") for i in range(len(heads))]
    columns = _Columns(sheet, known, wishes, [h.head for h in heads], [h.upper for h in heads], cells)
    shape, found = columns.found()
    return Recognised(sheet, shape, tuple(found), start, decimal, tuple(problems))


# -- the head ----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _ColumnHead:
    head: Head
    upper: str
    lines: tuple[str, ...]
    first: int


def _heads(sheet: Sheet, told: int | None) -> list[_ColumnHead]:
    """Give the head of every column: the first row that is all words above one with numbers, and a second such row, if any."""
    width = max((len(row) for row in sheet.rows), default=0)
    first = next((i for i, row in enumerate(sheet.rows[:LOOKED_FOR_HEAD]) if _is_head(row, width)), None)
    if told == 0 or (first is None and told is None):
        return [_ColumnHead(head_of(say("column {i}", i=i + 1)), "", (), 0) for i in range(width)]
    first = first or 0
    second = first + 1 < len(sheet.rows) and _is_head(sheet.rows[first + 1], width) and first + 2 < len(sheet.rows)
    rows = told if told is not None else MOST_HEAD_ROWS if second and _completes(sheet, first) else 1
    lines = [["" if c is None else _text(c) for c in row] for row in sheet.rows[first : first + rows]]
    if rows > 1:
        for i in range(1, width):
            if not lines[0][i] and lines[1][i]:
                lines[0][i] = lines[0][i - 1]
    made = []
    for i in range(width):
        each = [line[i] for line in lines if line[i]]
        whole = " ".join(dict.fromkeys(each))
        upper = each[0] if len(each) > 1 and each[0] != each[1] else ""
        lower = each[-1] if each else ""
        alone = upper and (unit_of(lower.strip("()[] ")) or head_of(lower).run is not None)
        head = head_of(whole if alone or not upper else lower)
        made.append(
            _ColumnHead(replace(head, text=whole), "" if alone else upper, tuple(line[i] for line in lines), first)
        )
    return made


def _is_head(row: Sequence[Cell], width: int) -> bool:
    filled = [cell for cell in row if cell is not None]
    words = [
        c for c in filled if isinstance(c, str) and ((w := written(c)) is None or w.unit) and word_outcome(c) is None
    ]
    return len(filled) >= max(2, width // 3) and len(words) >= max(2, round(0.6 * len(filled)))


def _completes(sheet: Sheet, first: int) -> bool:
    """Tell whether the second row goes on with the head: the upper one repeats, has gaps, or what is below is units."""
    upper, lower = sheet.rows[first], sheet.rows[first + 1]
    told = [str(c) for c in upper if c is not None]
    units = [c for c in lower if isinstance(c, str) and unit_of(c.strip("()[] "))]
    return len(set(told)) < len(told) or len(told) < sum(c is not None for c in lower) or len(units) >= 2


# -- cells -------------------------------------------------------------------------------------------------------------


def number_in(cell: Cell, decimal: str) -> tuple[float, str] | None:
    """Read the number of a cell and the unit behind it; None where there is none."""
    if isinstance(cell, bool) or cell is None:
        return None
    if isinstance(cell, int | float):
        return float(cell), ""
    found = written(cell)
    if found is None:
        return None
    try:
        return found.value(decimal), found.unit
    except ValueError:
        return None


def is_empty(cell: Cell) -> bool:
    """Tell whether a cell has nothing in it, or says so."""
    return cell is None or (isinstance(cell, str) and cell.strip().casefold() in EMPTY)


def _text(cell: Cell) -> str:
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return "" if cell is None else str(cell).strip()


def _cells(sheet: Sheet, start: int, column: int, decimal: str) -> _Cells:
    numbers, words, units, signs, dates = [], [], Counter[str](), set(), 0
    for i, row in enumerate(sheet.rows[start:], start):
        cell = row[column]
        if is_empty(cell):
            continue
        if (i, column) in sheet.dates:
            dates += 1
        elif (read := number_in(cell, decimal)) is not None:
            numbers.append(read[0])
            units[unit_of(read[1]) or read[1]] += 1
            if isinstance(cell, str) and (told := written(cell)) is not None:
                signs.add(told.sign)
        else:
            words.append(_text(cell))
    failing = sum(word_outcome(word) is not None for word in words)
    if not numbers and not words:
        kind = _Kind.DATES if dates else _Kind.EMPTY
    elif dates > len(numbers) + len(words):
        kind = _Kind.DATES
    else:
        kind = _Kind.NUMBERS if numbers and len(numbers) + failing >= 0.6 * (len(numbers) + len(words)) else _Kind.WORDS
    return _Cells(
        kind, tuple(numbers), tuple(words), tuple(unit for unit, _ in units.most_common() if unit), frozenset(signs)
    )


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


# -- the columns -------------------------------------------------------------------------------------------------------

WHY_HEAD, WHY_KNOB = later("by its head"), later("a knob of this logbook")
WHY_PERCENT, WHY_GAIN = later("per cent of something else"), later("a gain over another column")
WHY_TOLD = later("you said so")


class _Columns:
    """Finds what every column is for."""

    def __init__(
        self, sheet: Sheet, known: Known, wishes: Wishes, heads: list[Head], uppers: list[str], cells: list[_Cells]
    ) -> None:
        self._sheet, self._known, self._wishes = sheet, known, wishes
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
        if cells.kind is _Kind.EMPTY:
            return self._made(i, Role.LEFT, later("empty"))
        knob = self._known.knob(head)
        if (
            knob is not None
            and not self._uppers[i]
            and (cells.kind is _Kind.NUMBERS) != bool(knob.choices and cells.words)
        ):
            return self._made(i, Role.SETTING, WHY_KNOB, knob.id)
        if knob is not None and knob.choices and not self._uppers[i]:
            return self._made(i, Role.SETTING, WHY_KNOB, knob.id)
        if cells.kind is _Kind.DATES or (head.says("date") and cells.kind is _Kind.WORDS):
            return self._made(i, Role.LEFT, later("a date"))
        if cells.kind is _Kind.WORDS:
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
        words = [i for i, cells in enumerate(self._cells) if cells.kind is _Kind.WORDS and i not in self._found]
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
        return [i for i, cells in enumerate(self._cells) if cells.kind is _Kind.NUMBERS and i not in self._found]

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
        if cells.kind is not _Kind.NUMBERS:
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
        every = [k for k, each in enumerate(self._cells) if each.kind is _Kind.NUMBERS]
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
        limit = head.says("setting")
        if head.unit in SETTING_UNITS or (limit and not head.says("value")):
            return True
        return shape is Shape.BY_FIGURE and not head.unit and head.says("setting")

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
