"""Strips: the last minutes of the most telling sensors, each with the line it is held against."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import takewhile

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPaintEvent, QPen, QPolygonF, QTransform
from PySide6.QtWidgets import QSizePolicy, QWidget

from yondle.app.session.progress import Progress
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.knobs import Setup
from yondle.model.quantities import figure, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import NATURES, Quantity, Reading
from yondle.model.verdicts import Verdict
from yondle.views.shared.lines import lines_of

SHORTEST_SPAN_S, LONGEST_SPAN_S = 60.0, 180.0
STRIP_HEIGHT = 66
MOST_STRIPS = 4
_FORGOTTEN_AT_ONCE = 60
_ORDER = tuple(sorted((q for q, nature in NATURES.items() if nature.strip), key=lambda q: NATURES[q].strip))


@dataclass(frozen=True, slots=True)
class Strip:
    """One sensor to show: its place in a sample, and the line it is held against, with its word."""

    index: int
    name: str
    unit: str
    digits: int
    quantity: Quantity
    line: float | None
    line_words: str


def strips_of(declaration: RigDeclaration, setup: Setup) -> list[Strip]:
    """Choose the sensors to show: one of each kind, guarded and followed ones first."""
    found: dict[Quantity, Strip] = {}
    for i, channel in enumerate(declaration.channels):
        if channel.core is not None:
            continue
        words, line = next(iter(lines_of(declaration, channel, setup)), ("", None))
        strip = Strip(i, channel.name, channel.unit, channel.digits, channel.quantity, line, words)
        before = found.get(channel.quantity)
        if before is None or (before.line is None and line is not None):
            found[channel.quantity] = strip
    return [found[kind] for kind in _ORDER if kind in found][:MOST_STRIPS]


class _Line:
    """One sensor's readings as polylines in seconds and its own unit; a missing reading ends one and begins another."""

    def __init__(self) -> None:
        self.runs: list[QPolygonF] = [QPolygonF()]
        self.latest: Reading = None

    def add(self, t_s: float, value: Reading) -> None:
        """Add a reading."""
        self.latest = value
        if value is not None:
            self.runs[-1].append(QPointF(t_s, value))
        elif not self.runs[-1].isEmpty():
            self.runs.append(QPolygonF())

    def forget_before(self, t_s: float) -> None:
        """Drop what is no longer shown."""
        while len(self.runs) > 1 and self.runs[0].boundingRect().right() < t_s:
            self.runs.pop(0)
        first = self.runs[0]
        old = 0
        while old < first.size() and first.at(old).x() < t_s:
            old += 1
        if old > _FORGOTTEN_AT_ONCE:
            first.remove(0, old)

    def span(self) -> tuple[float, float] | None:
        """Give the lowest and the highest reading, None without any."""
        boxes = [run.boundingRect() for run in self.runs if not run.isEmpty()]
        return (min(b.top() for b in boxes), max(b.bottom() for b in boxes)) if boxes else None


class StripsView(QWidget):
    """The strips of a running test; each new sample costs a point per strip, whatever is on show already."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._strips: list[Strip] = []
        self._lines: list[_Line] = []
        self._first_s = self._last_s = -math.inf
        self._starts: tuple[float, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(say("Live readings"))
        theme.changed.connect(self.update)

    def show_strips(self, strips: list[Strip]) -> None:
        """Show other sensors, with nothing read yet."""
        self._strips = strips
        self._lines = [_Line() for _ in strips]
        self._first_s = self._last_s = -math.inf
        self.updateGeometry()
        self.update()

    def take(self, progress: Progress) -> None:
        """Take in the samples that have come since."""
        fresh = list(takewhile(lambda sample: sample[0] > self._last_s, reversed(progress.samples)))
        for t, row in reversed(fresh):
            if not math.isfinite(self._first_s):
                self._first_s = t
            for strip, line in zip(self._strips, self._lines, strict=True):
                line.add(t, row[strip.index])
            self._last_s = t
        self._starts = tuple(progress.pass_starts)
        if fresh:
            for line in self._lines:
                line.forget_before(self._last_s - LONGEST_SPAN_S)
            self.update()

    def sizeHint(self) -> QSize:
        """Room for all strips."""
        return QSize(240, STRIP_HEIGHT * max(1, len(self._strips)))

    def minimumSizeHint(self) -> QSize:
        """The same: strips that overlap would tell nothing."""
        return QSize(120, self.sizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint every strip."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        c = self._theme.colours
        colours = (c.in_play, c.verdicts[Verdict.HELD], c.verdicts[Verdict.HELD_BACK], c.verdicts[Verdict.UNPROVEN])
        for i, (strip, line) in enumerate(zip(self._strips, self._lines, strict=True)):
            box = QRectF(0, i * STRIP_HEIGHT, self.width(), STRIP_HEIGHT - 8)
            self._paint_head(painter, box, strip, line)
            self._paint_plot(painter, box.adjusted(0, 17, 0, 0), strip, line, colours[i % len(colours)])

    def _paint_head(self, painter: QPainter, box: QRectF, strip: Strip, line: _Line) -> None:
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold))
        painter.setPen(self._theme.colours.ink)
        head = QRectF(box.left(), box.top(), box.width(), 15)
        painter.drawText(head, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, strip.name)
        told = say("no reading") if line.latest is None else quantity(line.latest, strip.unit, strip.digits)
        if not math.isfinite(self._last_s):
            told = say("waiting")
        painter.drawText(head, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)

    def _paint_plot(self, painter: QPainter, plot: QRectF, strip: Strip, line: _Line, colour: QColor) -> None:
        c = self._theme.colours
        painter.fillRect(plot, faded(c.rule, 0.33))
        low, high = _range(strip, line.span())
        up = (plot.height() - 6) / (high - low)
        if math.isfinite(self._last_s):
            span = min(max(self._last_s - self._first_s, SHORTEST_SPAN_S), LONGEST_SPAN_S)
            along = plot.width() / span
            painter.save()
            painter.setClipRect(plot)
            painter.setPen(QPen(faded(c.muted, 0.35), 1, Qt.PenStyle.DotLine))
            for start in self._starts:
                x = plot.right() - (self._last_s - start) * along
                if x >= plot.left():
                    painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setTransform(
                QTransform(along, 0, 0, -up, plot.right() - self._last_s * along, plot.bottom() - 3 + low * up), True
            )
            pen = QPen(colour, 1.5)
            pen.setCosmetic(True)
            painter.setPen(pen)
            for run in line.runs:
                painter.drawPolyline(run)
            painter.restore()
        if strip.line is not None:
            self._paint_limit(painter, plot, strip, strip.line, plot.bottom() - 3 - (strip.line - low) * up)

    def _paint_limit(self, painter: QPainter, plot: QRectF, strip: Strip, limit: float, at: float) -> None:
        c = self._theme.colours
        painter.setPen(QPen(faded(c.ink, 0.75), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), at), QPointF(plot.right(), at))
        painter.setFont(font(9))
        painter.setPen(c.muted)
        digits = NATURES[strip.quantity].digits
        words = f"{strip.line_words} {figure(limit, strip.unit, digits)}"
        room = QRectF(plot.left() + 3, at + 1 if at - plot.top() < 12 else at - 13, plot.width() - 6, 12)
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)


def _range(strip: Strip, span: tuple[float, float] | None) -> tuple[float, float]:
    nature = NATURES[strip.quantity]
    if nature.share:
        return 0.0, nature.least_span
    known = [*(span or ()), *([strip.line] if strip.line is not None else [])]
    if not known:
        return 0.0, 1.0
    low, high = min(known), max(known)
    least = nature.least_span
    if high - low < least:
        middle = (high + low) / 2
        low, high = middle - least / 2, middle + least / 2
    return low, high
