"""The cells of one column below the head: numbers with their units, words, dates, or nothing."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from enum import Enum

from yondle.tables.cells import Cell, Sheet
from yondle.tables.heads import EMPTY, unit_of, word_outcome
from yondle.tables.numbers import written


class Kind(Enum):
    """What a column has below its head."""

    NUMBERS = "numbers"
    WORDS = "words"
    DATES = "dates"
    EMPTY = "empty"


@dataclass(frozen=True, slots=True)
class ColumnCells:
    """The cells of a column below the head."""

    kind: Kind
    numbers: tuple[float, ...]
    words: tuple[str, ...]
    units: tuple[str, ...]
    """What stands behind the numbers, the commonest first."""
    signs: frozenset[str]


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


def cell_text(cell: Cell) -> str:
    """Give a cell as words."""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return "" if cell is None else str(cell).strip()


def cells_of(sheet: Sheet, start: int, column: int, decimal: str) -> ColumnCells:
    """Gather what stands in a column below the head."""
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
            words.append(cell_text(cell))
    failing = sum(word_outcome(word) is not None for word in words)
    if not numbers and not words:
        kind = Kind.DATES if dates else Kind.EMPTY
    elif dates > len(numbers) + len(words):
        kind = Kind.DATES
    else:
        kind = Kind.NUMBERS if numbers and len(numbers) + failing >= 0.6 * (len(numbers) + len(words)) else Kind.WORDS
    return ColumnCells(
        kind, tuple(numbers), tuple(words), tuple(unit for unit, _ in units.most_common() if unit), frozenset(signs)
    )
