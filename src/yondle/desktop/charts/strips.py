"""Strips: the last minutes of the most telling sensors, each with the line it is held against."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from yondle.app.progress import Progress
from yondle.desktop.theme import SMALL_PX, Theme, faded, font
from yondle.model.knobs import Setup
from yondle.model.quantities import quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity, Reading
from yondle.model.verdicts import Verdict

SHORTEST_SPAN_S, LONGEST_SPAN_S = 60.0, 180.0
STRIP_HEIGHT = 66
MOST_STRIPS = 4
_ORDER = (
    Quantity.TEMPERATURE,
    Quantity.CLOCK,
    Quantity.POWER,
    Quantity.VOLTAGE,
    Quantity.USE,
    Quantity.FAN,
    Quantity.OTHER,
)
_LEAST_SPAN: dict[Quantity, float] = {
    Quantity.TEMPERATURE: 10.0,
    Quantity.CLOCK: 100.0,
    Quantity.VOLTAGE: 0.03,
    Quantity.POWER: 10.0,
    Quantity.USE: 100.0,
}


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
    limits = {limit.channel: limit.most for limit in declaration.limits}
    found: dict[Quantity, Strip] = {}
    for i, channel in enumerate(declaration.channels):
        line, words = None, ""
        if channel.follows and channel.follows in setup:
            line, words = setup[channel.follows], "asked"
        elif channel.id in limits:
            line, words = limits[channel.id], "stop"
        if channel.quantity is Quantity.POWER and "power_limit" in setup:
            line, words = setup["power_limit"], "limit"
        if channel.quantity is Quantity.VOLTAGE and "core_voltage" in setup:
            line, words = setup["core_voltage"], "set"
        strip = Strip(i, channel.name, channel.unit, channel.digits, channel.quantity, line, words)
        before = found.get(channel.quantity)
        if before is None or (before.line is None and line is not None):
            found[channel.quantity] = strip
    return [found[kind] for kind in _ORDER if kind in found][:MOST_STRIPS]


class StripsView(QWidget):
    """The strips of a running test."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._strips: list[Strip] = []
        self._span_s = SHORTEST_SPAN_S
        self._samples: deque[tuple[float, tuple[Reading, ...]]] = deque()
        self._starts: deque[float] = deque()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Live readings")
        theme.changed.connect(self.update)

    def show_strips(self, strips: list[Strip], progress: Progress) -> None:
        """Show other sensors; the samples are looked at in place, not copied."""
        self._strips = strips
        self._samples = progress.samples
        self._starts = progress.pass_starts
        self.updateGeometry()
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
        first, end = (self._samples[0][0], self._samples[-1][0]) if self._samples else (0.0, 0.0)
        self._span_s = min(max(end - first, SHORTEST_SPAN_S), LONGEST_SPAN_S)
        recent = [(t, row) for t, row in self._samples if t >= end - self._span_s]
        for i, strip in enumerate(self._strips):
            box = QRectF(0, i * STRIP_HEIGHT, self.width(), STRIP_HEIGHT - 8)
            self._paint_strip(painter, box, strip, recent, end, colours[i % len(colours)])

    def _paint_strip(
        self, painter: QPainter, box: QRectF, strip: Strip, recent: list[tuple[float, tuple[Reading, ...]]], end: float,
        colour: QColor,
    ) -> None:  # fmt: skip
        c = self._theme.colours
        values = [(t, row[strip.index]) for t, row in recent]
        heard = [v for _, v in values if v is not None]
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold))
        painter.setPen(c.ink)
        head = QRectF(box.left(), box.top(), box.width(), 15)
        painter.drawText(head, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, strip.name)
        latest = values[-1][1] if values else None
        shown = "no reading" if latest is None else quantity(latest, strip.unit, strip.digits)
        if not values:
            shown = "waiting"
        painter.drawText(head, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, shown)
        plot = box.adjusted(0, 17, 0, 0)
        painter.fillRect(plot, faded(c.rule, 0.33))
        low, high = _range(strip, heard)

        def y(value: float) -> float:
            return plot.bottom() - 3 - (value - low) / (high - low) * (plot.height() - 6)

        def x(t: float) -> float:
            return plot.right() - (end - t) / self._span_s * plot.width()

        painter.setPen(QPen(faded(c.muted, 0.35), 1, Qt.PenStyle.DotLine))
        for start in self._starts:
            if end - self._span_s <= start <= end:
                painter.drawLine(QPointF(x(start), plot.top()), QPointF(x(start), plot.bottom()))
        self._paint_line(painter, plot, strip, y)
        painter.setPen(QPen(colour, 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        run: list[QPointF] = []
        for t, value in values:
            if value is None:
                painter.drawPolyline(QPolygonF(run))
                run = []
            else:
                run.append(QPointF(x(t), y(value)))
        painter.drawPolyline(QPolygonF(run))

    def _paint_line(self, painter: QPainter, plot: QRectF, strip: Strip, y: object) -> None:
        if strip.line is None or not callable(y):
            return
        c = self._theme.colours
        at = y(strip.line)
        painter.setPen(QPen(faded(c.ink, 0.75), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), at), QPointF(plot.right(), at))
        painter.setFont(font(9))
        painter.setPen(c.muted)
        digits = strip.digits if strip.quantity is Quantity.VOLTAGE else 0
        words = f"{strip.line_words} {quantity(strip.line, '', digits)}"
        room = QRectF(plot.left() + 3, at + 1 if at - plot.top() < 12 else at - 13, plot.width() - 6, 12)
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)


def _range(strip: Strip, heard: list[float]) -> tuple[float, float]:
    if strip.quantity is Quantity.USE:
        return 0.0, 100.0
    known = [*heard, *([strip.line] if strip.line is not None else [])]
    if not known:
        return 0.0, 1.0
    low, high = min(known), max(known)
    least = _LEAST_SPAN.get(strip.quantity, 1.0)
    if high - low < least:
        middle = (high + low) / 2
        low, high = middle - least / 2, middle + least / 2
    return low, high
