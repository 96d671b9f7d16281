"""Verdict marks as paths: the same six shapes on trail, rulers and charts."""

from __future__ import annotations

from functools import cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPainterPathStroker, QPolygonF, QTransform

from yondle.model.marks import SHAPES, Shape
from yondle.model.verdicts import Verdict

_BOX = QRectF(-1.0, -1.0, 2.0, 2.0)


@cache
def mark_path(verdict: Verdict) -> QPainterPath:
    """Give a verdict's mark as a path to fill, in a box from -1 to 1."""
    return _shape_path(SHAPES[verdict])


@cache
def recorded_path(verdict: Verdict) -> QPainterPath:
    """Give the mark of a step that is only a record: the verdict's, smaller, standing on a line."""
    path = QTransform().translate(0.0, -0.3).scale(0.74, 0.74).map(mark_path(verdict))
    path.addRect(QRectF(-1.0, 0.78, 2.0, 0.3))
    return path


def paint_mark(
    painter: QPainter, centre: QPointF, radius: float, verdict: Verdict, colour: QColor, recorded: bool = False
) -> None:
    """Paint the mark of a verdict, its radius in pixels of the painter; on a line where it is only recorded."""
    placed = QTransform().translate(centre.x(), centre.y()).scale(radius, radius)
    painter.fillPath(placed.map(recorded_path(verdict) if recorded else mark_path(verdict)), colour)


def symbol(verdict: Verdict, recorded: bool = False) -> QPainterPath:
    """Give a mark as a chart symbol, in a box from -0.5 to 0.5."""
    return QTransform().scale(0.5, 0.5).map(recorded_path(verdict) if recorded else mark_path(verdict))


def _shape_path(shape: Shape) -> QPainterPath:
    path = QPainterPath()
    match shape:
        case Shape.DISC:
            path.addEllipse(_BOX)
        case Shape.RING:
            path = _ring(0.36)
        case Shape.HALF_DISC:
            half = QPainterPath()
            half.moveTo(0.0, -1.0)
            half.arcTo(_BOX, 90.0, -180.0)
            half.closeSubpath()
            path = _ring(0.26).united(half)
        case Shape.TRIANGLE:
            path.addPolygon(QPolygonF([QPointF(0, -1.1), QPointF(1.1, 0.95), QPointF(-1.1, 0.95)]))
            path.closeSubpath()
        case Shape.DIAMOND:
            path.addPolygon(QPolygonF([QPointF(0, -1.2), QPointF(1.2, 0), QPointF(0, 1.2), QPointF(-1.2, 0)]))
            path.closeSubpath()
        case Shape.CROSSED_SQUARE:
            path.addRect(_BOX)
            path = path.subtracted(_cross())
    return path


def _ring(width: float) -> QPainterPath:
    outer, inner = QPainterPath(), QPainterPath()
    outer.addEllipse(_BOX)
    inner.addEllipse(_BOX.adjusted(width, width, -width, -width))
    return outer.subtracted(inner)


def _cross() -> QPainterPath:
    lines = QPainterPath()
    lines.moveTo(-0.5, -0.5)
    lines.lineTo(0.5, 0.5)
    lines.moveTo(0.5, -0.5)
    lines.lineTo(-0.5, 0.5)
    stroker = QPainterPathStroker()
    stroker.setWidth(0.34)
    stroker.setCapStyle(Qt.PenCapStyle.RoundCap)
    return stroker.createStroke(lines).simplified()
