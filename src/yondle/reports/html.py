"""A report as one HTML file: no script, nothing fetched, light and dark as the reader's desktop has it, and fit to print."""

from __future__ import annotations

from jinja2 import Environment, PackageLoader
from markupsafe import Markup

from yondle.language.saying import LANGUAGE
from yondle.model.marks import NIGHT, PAPER, Palette
from yondle.reports.cleaning import cleaned
from yondle.reports.content import Cell, Chart, File, Pairs, Report, Table, Words
from yondle.reports.svg import BY_NAME, chart_svg, colours_of, mark_svg

_KINDS = {Words: "words", Table: "table", Pairs: "pairs", Chart: "chart", File: "file"}


def html(report: Report) -> str:
    """Write a report as HTML5; everything in it is escaped."""
    environment = Environment(
        loader=PackageLoader("yondle.reports"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True,
    )  # fmt: skip
    environment.globals.update(
        kind=lambda block: _KINDS[type(block)], svg=lambda chart: chart_svg(chart, BY_NAME), mark=_cell_mark
    )
    environment.filters["clean"] = cleaned
    template = environment.get_template("report.html")
    return template.render(report=report, language=LANGUAGE, light=_variables(PAPER), dark=_variables(NIGHT))


def _variables(palette: Palette) -> Markup:
    """Give a palette as custom properties of CSS; the palette is the program's own."""
    return Markup(" ".join(f"--{name}: {value};" for name, value in colours_of(palette).items()))


def _cell_mark(cell: Cell) -> Markup:
    """Draw a verdict's mark as wide as a letter."""
    return mark_svg(cell.verdict, BY_NAME) if cell.verdict is not None else Markup("")
