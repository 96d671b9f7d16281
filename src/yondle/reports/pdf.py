"""A report as PDF pages (A4), drawn with the fonts that come with the library, so that the same input gives the same bytes."""

from __future__ import annotations

import io
from pathlib import Path
from xml.sax.saxutils import escape

import reportlab
from reportlab.graphics.shapes import Circle, Drawing, Group, Line, Polygon, PolyLine, Rect, String
from reportlab.lib.colors import Color, HexColor, white
from reportlab.lib.enums import TA_RIGHT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, KeepTogether, Paragraph, Preformatted, SimpleDocTemplate, Spacer
from reportlab.platypus import Table as PdfTable

from yondle.model.marks import PAPER, SHAPES
from yondle.model.marks import Shape as MarkShape
from yondle.model.quantities import MINUS, THIN
from yondle.model.verdicts import Verdict
from yondle.reports.cleaning import cleaned
from yondle.reports.content import Cell, Chart, File, Pairs, Report, Table, Words
from yondle.reports.drawing import HEIGHT, WIDTH, strokes
from yondle.reports.shapes import Box, Dot, Mark, Shape, Stroke, Text

_REGULAR, _STRONG = "Yondle", "Yondle-Strong"
_MARGIN = 18 * mm
_CODE_LETTERS = 96
_GAP, _MARK_WIDTH, _WIDEST = 9.0, 12.0, 190.0
"""Points between two columns, those a verdict's mark takes, and the most a cell asks for in one line."""
_SUBSTITUTES = {THIN: "\u00a0", "\u2009": "\u00a0", "\u2060": "", "\u2116": "No.", "\u2192": "->", "\u2026": "..."}
"""What the font doesn't hold, and what stands for it."""


def pdf(report: Report) -> bytes:
    """Write a report as PDF."""
    _know_fonts()
    target = io.BytesIO()
    pages = SimpleDocTemplate(
        target, pagesize=A4, leftMargin=_MARGIN, rightMargin=_MARGIN, topMargin=_MARGIN, bottomMargin=_MARGIN,
        title=_plain(report.title), author="", creator="Yondle", subject=_plain(report.subtitle), invariant=1,
    )  # fmt: skip
    styles = _Styles()
    story: list[Flowable] = [
        Paragraph(_marked(report.title), styles.title), Paragraph(_marked(report.subtitle), styles.muted),
        Paragraph(_marked(report.made), styles.muted),
    ]  # fmt: skip
    width = A4[0] - 2 * _MARGIN
    for section in report.sections:
        story.append(Spacer(1, 5 * mm))
        heading = Paragraph(_marked(section.heading), styles.heading)
        made = [_block(block, styles, width) for block in section.blocks]
        whole = isinstance(section.blocks[0], Chart)
        first, rest = (made[0], []) if whole else (made[0][:1], made[0][1:])
        story.append(KeepTogether([heading, *first]))
        story += rest
        for block, flowables in zip(section.blocks[1:], made[1:], strict=True):
            story += [KeepTogether(flowables)] if isinstance(block, Chart) else flowables
    pages.build(story, onFirstPage=_footed, onLaterPages=_footed)
    return target.getvalue()


class _Styles:
    """The styles of paragraphs."""

    def __init__(self) -> None:
        ink, muted = HexColor(PAPER.ink), HexColor(PAPER.muted)
        self.body = ParagraphStyle("body", fontName=_REGULAR, fontSize=9, leading=13, textColor=ink, splitLongWords=1)
        self.strong = ParagraphStyle("strong", self.body, fontName=_STRONG, fontSize=10, spaceBefore=3)
        self.muted = ParagraphStyle("muted", self.body, textColor=muted)
        self.title = ParagraphStyle("title", self.body, fontName=_STRONG, fontSize=17, leading=21, spaceAfter=3)
        self.heading = ParagraphStyle("heading", self.body, fontName=_STRONG, fontSize=12.5, leading=16, spaceAfter=3)
        self.cell = ParagraphStyle("cell", self.body, fontSize=8, leading=10.5)
        self.figure = ParagraphStyle("figure", self.cell, alignment=TA_RIGHT)
        self.head = ParagraphStyle("head", self.cell, textColor=muted, fontSize=7.5)
        self.head_figure = ParagraphStyle("head_figure", self.head, alignment=TA_RIGHT)
        self.code = ParagraphStyle("code", self.body, fontName="Courier", fontSize=7.5, leading=9.5)


def _block(block: Words | Table | Pairs | Chart | File, styles: _Styles, width: float) -> list[Flowable]:
    match block:
        case Words():
            return [Paragraph(_marked(block.text), styles.strong if block.strong else styles.body), Spacer(1, 1.5 * mm)]
        case Pairs():
            rows = [[Paragraph(_marked(n), styles.head), Paragraph(_marked(v), styles.cell)] for n, v in block.rows]
            if not rows:
                return [Spacer(1, 1)]
            return [
                PdfTable(rows, colWidths=[0.3 * width, 0.7 * width], style=_TIGHT, hAlign="LEFT"),
                Spacer(1, 2 * mm),
            ]
        case Table():
            return _table(block, styles, width)
        case Chart():
            caption = Paragraph(f"{_marked(block.title)} · {_marked(block.up)}", styles.muted)
            return [caption, _drawing(block, width), Spacer(1, 2 * mm)]
        case File():
            lines = [line for long in cleaned(block.text).splitlines() for line in _broken(long)]
            name = Paragraph(_marked(block.name), styles.strong)
            return [name, Preformatted(_latin("\n".join(lines)), styles.code), Spacer(1, 2 * mm)]


_TIGHT = [
    ("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 1),
    ("BOTTOMPADDING", (0, 0), (-1, -1), 1),
]  # fmt: skip
_RULED = [*_TIGHT, ("LINEABOVE", (0, 1), (-1, -1), 0.4, HexColor(PAPER.rule))]


def _table(block: Table, styles: _Styles, width: float) -> list[Flowable]:
    if not block.rows:
        return [Paragraph(_marked(block.empty), styles.muted)]
    widths = _column_widths(block, styles, width)
    head: list[Flowable] = [
        Paragraph(_marked(words), styles.head_figure if i in block.figures else styles.head)
        for i, words in enumerate(block.head)
    ]
    rows = [[_cell(cell, i in block.figures, styles) for i, cell in enumerate(row)] for row in block.rows]
    return [PdfTable([head, *rows], colWidths=widths, style=_RULED, repeatRows=1, hAlign="LEFT"), Spacer(1, 2 * mm)]


def _column_widths(block: Table, styles: _Styles, width: float) -> list[float]:
    """Give every column its longest word, and share out what is left by what its cells would take in one line."""
    least, whole = [], []
    for i, head in enumerate(block.head):
        cells = [(_plain(row[i].text), styles.cell, _MARK_WIDTH if row[i].verdict else 0.0) for row in block.rows]
        each = [(_plain(head), styles.head, 0.0), *cells]
        least.append(max(_width(word, style) + more for text, style, more in each for word in text.split(" ")) + _GAP)
        whole.append(max(min(_width(text, style) + more, _WIDEST) for text, style, more in each) + _GAP)
    spare = width - sum(least)
    if spare <= 0.0:
        return [width * each / sum(least) for each in least]
    more = [max(w - n, 0.0) for w, n in zip(whole, least, strict=True)]
    shares = [each / sum(more) for each in more] if sum(more) > 0.0 else [1.0 / len(more)] * len(more)
    return [n + spare * share for n, share in zip(least, shares, strict=True)]


def _width(text: str, style: ParagraphStyle) -> float:
    return float(pdfmetrics.stringWidth(text, style.fontName, style.fontSize))


def _cell(cell: Cell, figure: bool, styles: _Styles) -> Flowable:
    words = f"<strike>{_marked(cell.text)}</strike>" if cell.struck else _marked(cell.text)
    made = Paragraph(words, styles.figure if figure else styles.cell)
    return _Marked(made, cell.verdict) if cell.verdict is not None else made


class _Marked(Flowable):
    """Words with a verdict's mark before them."""

    def __init__(self, words: Paragraph, verdict: Verdict) -> None:
        super().__init__()
        self._words, self._verdict = words, verdict

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Ask the words for their room beside the mark."""
        _, self._height = self._words.wrap(width - 11, height)
        return width, self._height

    def draw(self) -> None:
        """Draw the mark on the first line, and the words."""
        picture = Drawing(10, 10)
        picture.add(_mark(4, 5, 3.2, self._verdict))
        picture.drawOn(self.canv, 0, self._height - 10)
        self._words.drawOn(self.canv, 11, 0)


def _drawing(chart: Chart, width: float) -> Drawing:
    scale = width / WIDTH
    picture = Drawing(width, HEIGHT * scale)
    group = Group(transform=(scale, 0, 0, scale, 0, 0))
    for shape in strokes(chart):
        group.add(_shape(shape))
    picture.add(group)
    return picture


def _shape(shape: Shape) -> Group | Line | PolyLine | Rect | Circle | String:
    match shape:
        case Stroke():
            points = [v for x, y in shape.points for v in (x, HEIGHT - y)]
            dashes = [float(n) for n in shape.dashes.split()] or None
            return PolyLine(
                points,
                strokeColor=_colour(shape.colour),
                strokeWidth=shape.width,
                strokeDashArray=dashes,
                fillColor=None,
            )
        case Box():
            colour = _colour(shape.colour)
            faded = Color(colour.red, colour.green, colour.blue, alpha=shape.opacity)
            return Rect(
                shape.x, HEIGHT - shape.y - shape.height, shape.width, shape.height, fillColor=faded, strokeColor=None
            )
        case Dot():
            return Circle(shape.x, HEIGHT - shape.y, 1.4, fillColor=_colour(shape.colour), strokeColor=None)
        case Mark():
            return _mark(shape.x, HEIGHT - shape.y, shape.size, shape.verdict)
        case Text():
            return String(
                shape.x, HEIGHT - shape.y, _plain(shape.words), textAnchor=shape.anchor, fontSize=11,
                fontName=_STRONG if shape.strong else _REGULAR, fillColor=_colour(shape.colour),
            )  # fmt: skip


def _mark(x: float, y: float, r: float, verdict: Verdict) -> Group:
    """Draw a verdict's mark, upward."""
    colour = HexColor(PAPER.verdicts[verdict])
    full = {"fillColor": colour, "strokeColor": colour, "strokeWidth": 0.6}
    hollow = {**full, "fillColor": None, "strokeWidth": 1.2}
    match SHAPES[verdict]:
        case MarkShape.DISC:
            return Group(Circle(x, y, r, **full))
        case MarkShape.RING:
            return Group(Circle(x, y, r, **hollow))
        case MarkShape.HALF_DISC:
            half = Group(Circle(x, y, r, **hollow))
            half.add(
                Polygon([x, y + r, x + 0.7 * r, y + 0.7 * r, x + r, y, x + 0.7 * r, y - 0.7 * r, x, y - r], **full)
            )
            return half
        case MarkShape.TRIANGLE:
            return Group(Polygon([x, y + r, x + r, y - r, x - r, y - r], **full))
        case MarkShape.DIAMOND:
            return Group(Polygon([x, y + 1.2 * r, x + 1.2 * r, y, x, y - 1.2 * r, x - 1.2 * r, y], **full))
        case MarkShape.CROSSED_SQUARE:
            s = 0.5 * r
            crossed = Group(Rect(x - r, y - r, 2 * r, 2 * r, **full))
            for end in (1, -1):
                crossed.add(Line(x - s, y - end * s, x + s, y + end * s, strokeColor=white, strokeWidth=0.9))
            return crossed


def _colour(name: str) -> Color:
    named = {"accent": PAPER.in_play, "ink": PAPER.ink, "muted": PAPER.muted, "rule": PAPER.rule}
    return HexColor(named.get(name, PAPER.verdicts[Verdict.HELD]))


def _know_fonts() -> None:
    folder = Path(reportlab.__file__).parent / "fonts"
    if _REGULAR not in pdfmetrics.getRegisteredFontNames():
        pdfmetrics.registerFont(TTFont(_REGULAR, folder / "Vera.ttf"))
        pdfmetrics.registerFont(TTFont(_STRONG, folder / "VeraBd.ttf"))


def _plain(text: str) -> str:
    """Write words with what the font holds; other characters become a box with their number."""
    glyphs = pdfmetrics.getFont(_REGULAR).face.charToGlyph
    made = "".join(_SUBSTITUTES.get(c, c) for c in cleaned(text))
    return "".join(c if ord(c) in glyphs or c == "\n" else f"[U+{ord(c):04X}]" for c in made)


def _marked(text: str) -> str:
    return escape(_plain(text)).replace("\n", "<br/>")


def _latin(text: str) -> str:
    """The font of files holds Latin letters only."""
    return text.replace(THIN, " ").replace(MINUS, "-").encode("latin-1", "backslashreplace").decode("latin-1")


def _broken(line: str) -> list[str]:
    return [line[i : i + _CODE_LETTERS] for i in range(0, len(line), _CODE_LETTERS)] or [""]


def _footed(canvas: Canvas, pages: SimpleDocTemplate) -> None:
    """Number the pages."""
    canvas.setFont(_REGULAR, 7.5)
    canvas.setFillColor(HexColor(PAPER.muted))
    canvas.drawRightString(A4[0] - _MARGIN, 10 * mm, str(pages.page))
