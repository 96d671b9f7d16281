"""The names of curves at their right ends, instead of a legend."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QGraphicsSceneMouseEvent, QStyleOptionGraphicsItem, QWidget

from yondle.desktop.charts.parts import InPixels
from yondle.desktop.look.basics import tip
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say

NAMES_SHARE = 0.2
"""Share of the width kept free on the right for the names of the curves."""
_ROW_PX = 15.0
STOCK_PX = 30.0
"""So much of the height is kept free at the foot for the word that says where stock is."""


@dataclass(frozen=True, slots=True)
class EndName:
    """A name and where it is written, beside the end of a curve; with a `key` a click on it chooses something."""

    x: float
    y: float
    words: str
    colour: QColor
    strong: bool = False
    key: str = ""


class EndNames(InPixels):
    """Names beside the ends of curves, moved apart where they would overlap, and where stock is."""

    def __init__(
        self, names: list[EndName], stock: float | None, theme: Theme, choose: Callable[[str], None] | None = None
    ) -> None:
        super().__init__()
        self._names, self._stock, self._theme, self._choose = names, stock, theme, choose
        self._places: list[tuple[QRectF, EndName]] = []
        self._elided = ""

    def shape(self) -> QPainterPath:
        """Be where the names are: all else is the chart's."""
        path = QPainterPath()
        for place, _ in self._places:
            path.addRect(place)
        return path

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint the names, and where stock is."""
        c, transform = self._theme.colours, painter.transform()
        (left, right), (low, high) = self.getViewBox().viewRange()
        painter.resetTransform()
        edge = transform.map(QPointF(right, 0)).x()
        head, foot = sorted(transform.map(QPointF(0, y)).y() for y in (low, high))
        wanted = sorted(((transform.map(QPointF(0, n.y)).y(), n) for n in self._names), key=lambda pair: pair[0])
        if len(wanted) * _ROW_PX > foot - head:
            wanted = _clear_of_each_other(wanted)
        rows = _apart([y for y, _ in wanted], head + _ROW_PX / 2, foot - _ROW_PX / 2)
        self._places = []
        elided: list[str] = []
        for (_, name), y in zip(wanted, rows, strict=True):
            painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold if name.strong else QFont.Weight.Normal))
            painter.setPen(QPen(name.colour))
            x = transform.map(QPointF(name.x, 0)).x() + 10.0
            room = QRectF(x, y - _ROW_PX / 2, max(edge - x, 0.0), _ROW_PX)
            shown = painter.fontMetrics().elidedText(name.words, Qt.TextElideMode.ElideRight, int(room.width()))
            width = painter.fontMetrics().horizontalAdvance(shown)
            painter.fillRect(QRectF(x - 2, y - _ROW_PX / 2 + 1, width + 4, _ROW_PX - 2), faded(c.ground, 0.8))
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, shown)
            self._places.append((transform.inverted()[0].mapRect(room), name))
            elided += [name.words] if shown != name.words else []
        if "\n".join(elided) != self._elided:
            self._elided = "\n".join(elided)
            self.setToolTip(tip(self._elided))
        if self._stock is not None and left <= self._stock <= right:
            at = transform.map(QPointF(self._stock, 0)).x()
            painter.setFont(font(SMALL_PX))
            painter.setPen(QPen(c.muted))
            painter.drawLine(QPointF(at, foot), QPointF(at, foot - 6))
            painter.drawText(QRectF(at - 30, foot - 22, 60, 15), Qt.AlignmentFlag.AlignCenter, say("stock"))

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        """Choose the name under the pointer."""
        for place, name in self._places:
            if self._choose is not None and name.key and place.contains(event.pos()):
                self._choose(name.key)
                event.accept()
                return
        event.ignore()


def _clear_of_each_other(wanted: list[tuple[float, EndName]]) -> list[tuple[float, EndName]]:
    """Leave out names, where there are too many for all, that would stand on one another; the strong ones first."""
    kept: list[tuple[float, EndName]] = []
    for y, name in sorted(wanted, key=lambda pair: not pair[1].strong):
        if all(abs(y - other) >= _ROW_PX for other, _ in kept):
            kept.append((y, name))
    return sorted(kept, key=lambda pair: pair[0])


def _apart(wanted: list[float], top: float, bottom: float) -> list[float]:
    """Move heights, rising, so far apart that rows don't overlap, between top and bottom."""
    placed: list[float] = []
    for y in wanted:
        placed.append(max(y, top, placed[-1] + _ROW_PX if placed else y))
    over = placed[-1] - bottom if placed else 0.0
    for i in range(len(placed) - 1, -1, -1):
        if over <= 0.0:
            break
        limit = bottom - _ROW_PX * (len(placed) - 1 - i)
        placed[i] = min(placed[i], limit)
    return placed
