"""What charts share: an axis that writes numbers as the program does, and failures marked where they happened."""

from __future__ import annotations

import math
from collections.abc import Callable
from html import escape

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QGraphicsSceneHoverEvent, QGraphicsSceneMouseEvent, QStyleOptionGraphicsItem, QWidget

from yondle.desktop.look.basics import tip
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.model.knobs import Knob
from yondle.model.quantities import figure
from yondle.views.shared.failures import ChartFailure

MARK_PX = 11
MOST_TOLD = 5
"""With more failures than this only their marks are shown; the words are told on hover."""
_FAILURE_ROW_PX = 15
FAILURES_PX = 20.0
"""So much of the height their lowest row takes."""
_TICK_PX, _OFF = 70, 1e-6
"""How much room a tick takes that isn't at a round number; and how far off a round number is none."""


class NumberAxis(pg.AxisItem):
    """An axis that writes numbers as the rest of the program does; `least` is the closest its ticks may stand.

    Where `first` is no multiple of that, as with a knob from 2 666 on in steps of 267, they are counted from it. With `names`
    its ticks are the choices of a switch or mode.
    """

    least = first = 0.0
    names: tuple[str, ...] = ()
    unit = ""
    """Of the values, which may be shown in another."""

    def along(self, knob: Knob) -> None:
        """Have ticks at values that a knob takes, called as it calls them."""
        self.least, self.first, self.names = knob.step, knob.low, knob.choices

    def tickSpacing(self, low: float, high: float, size: float) -> list[tuple[float, float]]:
        """Leave out ticks between the values a knob takes."""
        spacings = super().tickSpacing(low, high, size)
        if self.least and abs(self.first / self.least - round(self.first / self.least)) > _OFF:
            every = max(1, math.ceil((high - low) / self.least / max(size / _TICK_PX, 1.0)))
            return [(every * self.least, self.first)]
        return [pair for pair in spacings if pair[0] >= self.least * (1 - 1e-9)] or [(self.least, 0.0)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Write the ticks."""
        if self.names:
            return [self.names[round(v)] if 0 <= round(v) < len(self.names) else "" for v in values]
        digits = max(0, -math.floor(math.log10(spacing) + 1e-9)) if spacing > 0 else 0
        return [figure(value * scale, self.unit, digits) for value in values]


def dress(plot: pg.PlotWidget, theme: Theme, left_px: int, left_level: int = 0, bottom_level: int = 1) -> None:
    """Give a chart the colours of the scheme; levels say how fine the ticks of either axis may get."""
    c = theme.colours
    plot.setBackground(c.ground)
    for side, level in (("bottom", bottom_level), ("left", left_level)):
        axis = plot.getPlotItem().getAxis(side)
        axis.setPen(pg.mkPen(c.rule))
        axis.setTextPen(pg.mkPen(c.muted))
        axis.setStyle(tickFont=font(SMALL_PX), tickLength=4, maxTickLevel=level)
    plot.getPlotItem().getAxis("left").setWidth(left_px)


def title(plot: pg.PlotWidget, side: str, words: str, theme: Theme) -> None:
    """Write beside an axis what it shows and its unit; nothing where `words` are empty."""
    axis = plot.getPlotItem().getAxis(side)
    if words:
        axis.setLabel(escape(words), **{"color": theme.colours.muted.name(), "font-size": f"{SMALL_PX}px"})
    else:
        axis.showLabel(False)


class InPixels(pg.GraphicsObject):
    """Something painted over the whole view that keeps its size in pixels."""

    def boundingRect(self) -> QRectF:
        """The whole view."""
        box = self.getViewBox()
        return QRectF(box.viewRect()) if box is not None else QRectF()

    def viewRangeChanged(self) -> None:
        """Follow the view."""
        self.prepareGeometryChange()


class FailureMarks(InPixels):
    """Failures that left no figure, at the foot of the chart where they happened."""

    def __init__(self, failures: tuple[ChartFailure, ...], theme: Theme, choose: Callable[[int], None]) -> None:
        super().__init__()
        self._failures = failures
        self._theme = theme
        self._choose = choose
        self._places: list[tuple[QRectF, ChartFailure]] = []
        self.setAcceptHoverEvents(True)

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint marks and their words."""
        c = self._theme.colours
        box = self.getViewBox()
        transform = painter.transform()
        foot = max(transform.map(QPointF(0, y)).y() for y in box.viewRange()[1]) - 12
        painter.resetTransform()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL_PX))
        right = transform.map(QPointF(box.viewRange()[0][1], 0)).x()
        left = transform.map(QPointF(box.viewRange()[0][0], 0)).x()
        taken: list[tuple[float, float, int]] = []
        self._places = []
        for failure in self._failures:
            x = transform.map(QPointF(failure.value, 0)).x()
            if not left <= x <= right:
                continue
            words = failure.words if len(self._failures) <= MOST_TOLD else ""
            beside = max(right - x - 14.0, x - left - 14.0)
            words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(beside))
            width = painter.fontMetrics().horizontalAdvance(words)
            start = x + 10 if x + 14 + width <= right else x - 12 - width
            span = (min(start, x) - 8, max(start + width, x) + 8)
            used = {row for a, b, row in taken if a < span[1] and span[0] < b}
            row = next(r for r in range(len(self._failures) + 1) if r not in used)
            taken.append((*span, row))
            y = foot - _FAILURE_ROW_PX * row
            colour = c.verdicts[failure.verdict]
            radius = MARK_PX / 2 - 0.5
            paint_mark(
                painter, QPointF(x, y), radius, failure.verdict, colour if failure.strong else faded(colour, 0.5)
            )
            if words:
                painter.fillRect(
                    QRectF(start - 2, y - _FAILURE_ROW_PX / 2, width + 4, _FAILURE_ROW_PX), faded(c.ground, 0.85)
                )
            painter.setPen(QPen(c.muted))
            painter.drawText(QPointF(start, y + 4), words)
            room = QRectF(span[0] + 2, y - _FAILURE_ROW_PX / 2, span[1] - span[0] - 4, _FAILURE_ROW_PX)
            self._places.append((transform.inverted()[0].mapRect(room), failure))

    def _under(self, at: QPointF) -> ChartFailure | None:
        return next((failure for place, failure in self._places if place.contains(at)), None)

    def hoverMoveEvent(self, event: QGraphicsSceneHoverEvent) -> None:
        """Name the failure under the pointer."""
        under = self._under(event.pos())
        self.setToolTip(tip(under.words) if under is not None else "")

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        """Choose the step of the failure under the pointer."""
        under = self._under(event.pos())
        if under is None:
            event.ignore()
            return
        event.accept()
        self._choose(under.step)
