"""A report as Markdown (CommonMark with tables): charts become tables of their points."""

from __future__ import annotations

import math
import re

from yondle.model.quantities import digits_for, number
from yondle.reports.cleaning import cleaned, one_line
from yondle.reports.content import Cell, Chart, File, Pairs, Report, Table, Words

_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~!$])")
_STARTS = re.compile(r"^(\s*)([-+=]|\d+[.)])", re.MULTILINE)


def markdown(report: Report) -> str:
    """Write a report as Markdown; nothing in names and notes is read as markup."""
    lines = [f"# {_line(report.title)}", "", _line(report.subtitle), "", _line(report.made), ""]
    for section in report.sections:
        lines += [f"## {_line(section.heading)}", ""]
        for block in section.blocks:
            lines += [*_block(block), ""]
    return "\n".join(lines).rstrip() + "\n"


def _block(block: Words | Table | Pairs | Chart | File) -> list[str]:
    match block:
        case Words():
            words = _STARTS.sub(r"\1\\\2", _escaped(cleaned(block.text)))
            return [f"**{_line(block.text)}**" if block.strong else words]
        case Pairs():
            return [f"- {_line(name)}: {_line(value)}" for name, value in block.rows]
        case Table():
            return _table(block) if block.rows else [_line(block.empty)]
        case Chart():
            return [f"**{_line(block.title)}** ({_line(block.up)})", "", *_table(_points(block))]
        case File():
            fence = "`" * max(3, 1 + max((len(run) for run in re.findall("`+", block.text)), default=0))
            return [f"`{_line(block.name)}`", "", f"{fence}toml", cleaned(block.text).rstrip("\n"), fence]


def _table(table: Table) -> list[str]:
    rules = ["---:" if i in table.figures else "---" for i in range(len(table.head))]
    rows = [[_cell(cell) for cell in row] for row in table.rows]
    return [f"| {' | '.join(cells)} |" for cells in ([_line(h) for h in table.head], rules, *rows)]


def _points(chart: Chart) -> Table:
    values = sorted({p.value for curve in chart.curves for p in curve.points})
    rows = []
    for value in values:
        cells = [Cell(chart.names[round(value)] if chart.names else f"{value:g}")]
        for curve in chart.curves:
            point = next((p for p in curve.points if p.value == value), None)
            if point is None:
                cells.append(Cell(""))
                continue
            half = (point.high - point.low) / 2.0
            digits = digits_for(half)
            margin = f" ± {number(half, digits)}" if math.isfinite(half) else ""
            cells.append(Cell(f"{number(point.mean, digits)}{margin}"))
        rows.append(tuple(cells))
    return Table(
        (chart.along, *(c.name for c in chart.curves)), tuple(rows), frozenset(range(1, len(chart.curves) + 1))
    )


def _cell(cell: Cell) -> str:
    words = _line(cell.text)
    return f"~~{words}~~" if cell.struck and words else words


def _line(text: str) -> str:
    return _escaped(one_line(text))


def _escaped(text: str) -> str:
    return _SPECIAL.sub(r"\\\1", text)
