"""Where the head of a sheet is, of one line or two, and what it says of each column."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from yondle.language.saying import say
from yondle.tables.cells import Cell, Sheet
from yondle.tables.column_cells import cell_text
from yondle.tables.heads import Head, head_of, unit_of, word_outcome
from yondle.tables.numbers import written

MOST_HEAD_ROWS = 2
LOOKED_FOR_HEAD = 30


@dataclass(frozen=True, slots=True)
class ColumnHead:
    """The head of one column: taken apart, the name above it where there are two lines, its lines, and its first row."""

    head: Head
    upper: str
    lines: tuple[str, ...]
    first: int


def heads_of(sheet: Sheet, told: int | None) -> list[ColumnHead]:
    """Give the head of every column: the first row that is all words above one with numbers, and a second such row, if any."""
    width = max((len(row) for row in sheet.rows), default=0)
    first = next((i for i, row in enumerate(sheet.rows[:LOOKED_FOR_HEAD]) if _is_head(row, width)), None)
    if told == 0 or (first is None and told is None):
        return [ColumnHead(head_of(say("column {i}", i=i + 1)), "", (), 0) for i in range(width)]
    first = first or 0
    second = first + 1 < len(sheet.rows) and _is_head(sheet.rows[first + 1], width) and first + 2 < len(sheet.rows)
    rows = told if told is not None else MOST_HEAD_ROWS if second and _completes(sheet, first) else 1
    lines = [["" if c is None else cell_text(c) for c in row] for row in sheet.rows[first : first + rows]]
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
            ColumnHead(replace(head, text=whole), "" if alone else upper, tuple(line[i] for line in lines), first)
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
