"""Tables out: CSV, Excel with real numbers and formats, Markdown, and cells that paste into a spreadsheet."""

from __future__ import annotations

import csv
import io
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yondle.formats.whole_files import write_whole, written_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError

Value = float | int | str | None
PERCENT = "%"
_NUMBER = re.compile(r"[-+\N{MINUS SIGN}]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")
_DIGITS = re.compile(r"\.(\d+)$")
_FORMULAS = ("=", "+", "-", "@", "\t", "\r")
KINDS = (".csv", ".xlsx", ".md")
_WIDEST, _NARROWEST = 60, 9


@dataclass(frozen=True, slots=True)
class OutColumn:
    """A column: its head, and for numbers how many digits it shows, or that its fractions are per cent."""

    head: str
    digits: int | None = None
    percent: bool = False


@dataclass(frozen=True, slots=True)
class OutTable:
    """A table as it is written; cells are numbers wherever they can be, those of a per-cent column 0.043 for 4.3 %."""

    title: str
    columns: tuple[OutColumn, ...]
    rows: tuple[tuple[Value, ...], ...]
    notes: tuple[str, ...] = ()


def table_of_lines(text: str, title: str) -> OutTable:
    """Take tab-separated lines with a head for a table; cells that are nothing but a number are numbers."""
    lines = [line.split("\t") for line in text.splitlines()]
    if not lines:
        return OutTable(title, (), ())
    width = len(lines[0])
    rows = tuple(tuple(_valued(cell) for cell in (*line, *("",) * (width - len(line)))[:width]) for line in lines[1:])
    return OutTable(title, tuple(OutColumn(head) for head in lines[0]), rows)


def write_table(path: Path, table: OutTable, more: OutTable | None = None) -> None:
    """Write a table as its name says; a workbook takes `more` on another sheet.

    Raises KnownError for another kind, and where it can't be written.
    """
    kinds: dict[str, Callable[[], None]] = {
        ".csv": lambda: write_whole(path, as_csv(table)),
        ".md": lambda: write_whole(path, as_markdown(table)),
        ".xlsx": lambda: _write_book(path, (table, more) if more is not None else (table,)),
    }
    write = kinds.get(path.suffix.lower())
    if write is None:
        raise KnownError(
            say("A table isn't written as '{kind}'.", kind=path.suffix), say("End the name in .csv, .xlsx or .md.")
        )
    write()


def as_csv(table: OutTable) -> str:
    """Give it as CSV (RFC 4180) with a point before decimals, per cent as 4.3; words that look like a formula are defused."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([_defused(_head(c)) for c in table.columns])
    for row in table.rows:
        writer.writerow([_plain(value, c) for value, c in zip(row, table.columns, strict=True)])
    return out.getvalue()


def as_cells(table: OutTable) -> str:
    """Give it as tab-separated lines, as a spreadsheet takes them from the clipboard."""
    lines = ["\t".join(_flat(_head(c)) for c in table.columns)]
    lines += ["\t".join(_flat(_plain(v, c)) for v, c in zip(row, table.columns, strict=True)) for row in table.rows]
    return "\n".join(lines)


def as_markdown(table: OutTable) -> str:
    """Give it as a Markdown table, numbers to the right, with its title and notes."""
    heads = [_escaped(_head(c)) for c in table.columns]
    numeric = [all(not isinstance(row[i], str) for row in table.rows) for i in range(len(heads))]
    lines = [f"# {_escaped(table.title)}", "", f"| {' | '.join(heads)} |"]
    lines.append("| " + " | ".join("---:" if right else "---" for right in numeric) + " |")
    for row in table.rows:
        lines.append("| " + " | ".join(_escaped(_plain(v, c)) for v, c in zip(row, table.columns, strict=True)) + " |")
    return "\n".join([*lines, "", *(f"{_escaped(note)}  " for note in table.notes)]).rstrip() + "\n"


def _write_book(path: Path, tables: Sequence[OutTable]) -> None:
    import xlsxwriter  # type: ignore[import-untyped]

    with written_whole(path) as new:
        book = xlsxwriter.Workbook(
            str(new), {"strings_to_formulas": False, "strings_to_urls": False, "in_memory": True}
        )
        for i, table in enumerate(tables):
            title = re.sub(r"[\[\]:*?/\\]", " ", table.title)[:28].strip("' ") or "Yondle"
            _fill(book, book.add_worksheet(title if i == 0 or title != tables[0].title else f"{title} {i + 1}"), table)
        book.close()


def _fill(book: Any, sheet: Any, table: OutTable) -> None:
    if table.columns:
        bold = book.add_format({"bold": True, "text_wrap": True, "valign": "top"})
        formats = [book.add_format({"num_format": _format(c, table, i)}) for i, c in enumerate(table.columns)]
        for i, column in enumerate(table.columns):
            sheet.write_string(0, i, column.head, bold)
            longest = max((len(_plain(row[i], column)) for row in table.rows), default=0)
            sheet.set_column(i, i, min(max(longest + 2, min(len(column.head), 18), _NARROWEST), _WIDEST))
        for k, row in enumerate(table.rows, 1):
            for i, value in enumerate(row):
                if isinstance(value, str):
                    sheet.write_string(k, i, value)
                elif value is not None and math.isfinite(value):
                    sheet.write_number(k, i, value, formats[i])
        sheet.freeze_panes(1, 0)
        for k, note in enumerate(table.notes, len(table.rows) + 2):
            sheet.write_string(k, 0, note)


def _format(column: OutColumn, table: OutTable, i: int) -> str:
    if column.percent:
        return "+0.0 %;-0.0 %;0.0 %"
    digits = column.digits
    if digits is None:
        told = [f"{row[i]:.6g}" for row in table.rows if isinstance(row[i], float)]
        digits = max((len(found[1]) for text in told if (found := _DIGITS.search(text))), default=0)
    return "0" if not digits else "0." + "0" * digits


def _head(column: OutColumn) -> str:
    return f"{column.head} (%)" if column.percent else column.head


def _plain(value: Value, column: OutColumn) -> str:
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return ""
    if isinstance(value, str):
        return _defused(value)
    if column.percent:
        return f"{100.0 * value:.2f}"
    if column.digits is not None:
        return f"{value:.{column.digits}f}"
    return f"{value:.10g}"


def _defused(text: str) -> str:
    return f"'{text}" if text.startswith(_FORMULAS) and not _NUMBER.fullmatch(text) else text


def _flat(text: str) -> str:
    return " ".join(text.split()) if any(c in text for c in "\t\r\n") else text


def _escaped(text: str) -> str:
    return re.sub(r"([\\|<>*_`\[\]])", r"\\\1", _flat(text))


def _valued(cell: str) -> Value:
    text = cell.strip()
    if not text:
        return None
    return float(text.replace("\N{MINUS SIGN}", "-")) if _NUMBER.fullmatch(text) else text


def columns_of(heads: Sequence[str]) -> tuple[OutColumn, ...]:
    """Give plain columns."""
    return tuple(OutColumn(head) for head in heads)
