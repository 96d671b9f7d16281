"""A report in the plain HTML that a text view understands, with its pictures beside it."""

from __future__ import annotations

from markupsafe import Markup, escape

from yondle.model.marks import Palette
from yondle.reports.cleaning import cleaned
from yondle.reports.content import Cell, Chart, File, Pairs, Report, Section, Table, Words
from yondle.reports.drawing import HEIGHT, WIDTH
from yondle.reports.svg import Colours, chart_svg, colours_of, mark_svg


def preview(report: Report, palette: Palette) -> tuple[str, dict[str, str]]:
    """Give the page, and its pictures as SVG by the names the page has for them."""
    return _Page(colours_of(palette)).page(report)


class _Page:
    def __init__(self, colours: Colours) -> None:
        self._colours = colours
        self._pictures: dict[str, str] = {}

    def page(self, report: Report) -> tuple[str, dict[str, str]]:
        parts = [
            Markup("<h1>{}</h1>").format(_told(report.title)),
            *(self._muted(words) for words in (report.subtitle, report.made)),
            *(part for section in report.sections for part in self._section(section)),
        ]
        return str(Markup("\n").join(parts)), self._pictures

    def _section(self, section: Section) -> list[Markup]:
        heading = Markup('<h2><a name="{}">{}</a></h2>').format(str(section.part), section.heading)
        return [heading, *(self._block(block) for block in section.blocks)]

    def _block(self, block: Words | Table | Pairs | Chart | File) -> Markup:
        match block:
            case Words():
                form = "<p><b>{}</b></p>" if block.strong else "<p>{}</p>"
                return Markup(form).format(_told(block.text))
            case Pairs():
                rows = [
                    Markup('<tr><td style="color: {}">{}</td><td>{}</td></tr>').format(
                        self._colours["muted"], _told(name), _told(value)
                    )
                    for name, value in block.rows
                ]
                return _table(rows)
            case Table():
                return self._rows(block) if block.rows else self._muted(block.empty)
            case Chart():
                picture = self._keep(chart_svg(block, self._colours))
                return Markup('<p><b>{}</b> {}<br><img src="{}" width="{:g}" height="{:g}"></p>').format(
                    _told(block.title), _told(block.up), picture, WIDTH, HEIGHT
                )
            case File():
                return Markup('<p><b>{}</b></p><pre style="white-space: pre-wrap">{}</pre>').format(
                    _told(block.name), cleaned(block.text)
                )

    def _rows(self, block: Table) -> Markup:
        heads = Markup("").join(
            Markup('<th align="{}" style="color: {}">{}</th>').format(
                "right" if i in block.figures else "left", self._colours["muted"], _told(head)
            )
            for i, head in enumerate(block.head)
        )
        rows = [
            Markup("<tr>{}</tr>").format(
                Markup("").join(
                    Markup('<td align="{}">{}</td>').format("right" if i in block.figures else "left", self._cell(cell))
                    for i, cell in enumerate(row)
                )
            )
            for row in block.rows
        ]
        return _table([Markup("<tr>{}</tr>").format(heads), *rows])

    def _cell(self, cell: Cell) -> Markup:
        words = Markup("<s>{}</s>").format(_told(cell.text)) if cell.struck else _told(cell.text)
        if cell.verdict is None:
            return words
        picture = self._keep(mark_svg(cell.verdict, self._colours))
        return Markup('<img src="{}" width="12" height="12">&nbsp;{}').format(picture, words)

    def _muted(self, words: str) -> Markup:
        return Markup('<p style="color: {}">{}</p>').format(self._colours["muted"], _told(words))

    def _keep(self, svg: str) -> str:
        known = next((name for name, drawn in self._pictures.items() if drawn == svg), None)
        name = known or f"picture-{len(self._pictures)}"
        self._pictures[name] = str(svg)
        return name


def _table(rows: list[Markup]) -> Markup:
    return Markup('<table width="100%" cellspacing="0" cellpadding="4">{}</table>').format(Markup("").join(rows))


def _told(text: str) -> Markup:
    return escape(cleaned(text)).replace("\n", Markup("<br>"))
