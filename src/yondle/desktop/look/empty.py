"""What an empty place shows: a leaf of the field book, as on the icon, with what will stand there sketched in."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from yondle.desktop.look.theme import Colours, Theme
from yondle.model.verdicts import Verdict

_LEAF = QRectF(2, 2, 148, 108)
_FOLD_X, _ROUND = 24.0, 8.0
_RISE = ((38, 92), (66, 74), (94, 60), (126, 34))


class EmptyLeaf(QWidget):
    """The leaf; `sketch` is one of `SKETCHES`."""

    def __init__(self, theme: Theme, sketch: str) -> None:
        super().__init__()
        self._theme, self._sketch = theme, sketch
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """Give the size of a leaf."""
        return QSize(152, 112)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the leaf, then the sketch."""
        painter, colours = QPainter(self), self._theme.colours
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colours.rule, 2))
        painter.setBrush(colours.panel)
        painter.drawRoundedRect(_LEAF, _ROUND, _ROUND)
        painter.setPen(QPen(colours.rule, 1.5))
        painter.drawLine(QPointF(_FOLD_X, _LEAF.top() + 1), QPointF(_FOLD_X, _LEAF.bottom() - 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        SKETCHES[self._sketch](painter, colours)


def _line(painter: QPainter, colour: QColor, points: Sequence[tuple[float, float]], dashed: bool = False) -> None:
    pen = QPen(colour, 2, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
    if dashed:
        pen.setDashPattern([1.5, 3.0])
    painter.setPen(pen)
    painter.drawPolyline([QPointF(x, y) for x, y in points])


def _dot(painter: QPainter, colours: Colours, x: float, y: float, there: bool = True, other: bool = False) -> None:
    """Draw a point that is there as a disc, one that isn't yet as a ring."""
    colour = colours.in_play if other else colours.verdicts[Verdict.HELD]
    painter.setPen(QPen(colour, 2))
    painter.setBrush(colour if there else colours.panel)
    painter.drawEllipse(QPointF(x, y), 4, 4)
    painter.setBrush(Qt.BrushStyle.NoBrush)


def _scaling(painter: QPainter, colours: Colours) -> None:
    _line(painter, colours.in_play, _RISE, dashed=True)
    for i, (x, y) in enumerate(_RISE):
        _dot(painter, colours, x, y, i == 0)


def _map(painter: QPainter, colours: Colours) -> None:
    for row in range(3):
        for column in range(4):
            _dot(painter, colours, 42 + 28 * column, 28 + 28 * row, (row, column) == (2, 0))


def _compare(painter: QPainter, colours: Colours) -> None:
    for row in range(4):
        y = 26 + 20 * row
        _line(painter, colours.rule, ((36, y), (138, y)))
        _dot(painter, colours, 74, y)
        _dot(painter, colours, 96 + 9 * (row % 3), y, there=False, other=True)


def _traces(painter: QPainter, colours: Colours) -> None:
    for row, colour in enumerate((colours.in_play, colours.verdicts[Verdict.HELD])):
        y = 50 + 44 * row
        _line(painter, colours.rule, ((36, y), (138, y)))
        _line(
            painter,
            colour,
            ((38, y - 6), (52, y - 6), (54, y - 28), (92, y - 26), (94, y - 8), (138, y - 10)),
            dashed=row > 0,
        )


def _logbook(painter: QPainter, colours: Colours) -> None:
    for row in range(4):
        y = 26 + 20 * row
        _dot(painter, colours, 40, y, row == 3)
        _line(painter, colours.rule, ((54, y), (138 - 18 * (row % 2), y)))


def _report(painter: QPainter, colours: Colours) -> None:
    _line(painter, colours.ink, ((36, 24), (96, 24)))
    for y in (42, 54, 66):
        _line(painter, colours.rule, ((36, y), (138, y)))
    _line(painter, colours.in_play, ((38, 98), (66, 92), (98, 84), (134, 80)), dashed=True)


SKETCHES: dict[str, Callable[[QPainter, Colours], None]] = {
    "scaling": _scaling, "map": _map, "compare": _compare, "traces": _traces, "logbook": _logbook, "report": _report,
}  # fmt: skip
"""How each place is sketched."""
