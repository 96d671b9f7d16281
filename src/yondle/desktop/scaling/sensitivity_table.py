"""Which benchmark answers to which knob: a bar for the strength, a line for the 95 % range, and the figure beside it."""

from __future__ import annotations

import math

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from yondle.desktop.look.basics import tip
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.verdicts import Verdict
from yondle.views.scaling.sensitivities import Sensitivities, SensitivityCell

_ROW, _HEAD, _NAMES, _LEAST_COLUMN = 26, 22, 150, 130
_BAR_SHARE = 0.42


class SensitivityTable(QWidget):
    """The table; `chosen` is sent with the ids of a knob and a benchmark when a cell is clicked."""

    chosen = Signal(str, str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._told = Sensitivities((), (), ())
        self.setMouseTracking(True)
        theme.changed.connect(self.update)

    def show_told(self, told: Sensitivities) -> None:
        """Show another table."""
        self._told = told
        self.setMinimumSize(self.sizeHint())
        rows = (
            f"{b.name}: " + ", ".join(f"{k.name} {c.words}" for k, c in zip(told.knobs, cells, strict=True))
            for b, cells in zip(told.benchmarks, told.cells, strict=True)
        )
        self.setAccessibleName(say("What each benchmark answers to. ") + ". ".join(rows))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """Room for every row, and columns that can be read."""
        told = self._told
        return QSize(_NAMES + _LEAST_COLUMN * len(told.knobs), _HEAD + _ROW * len(told.benchmarks) + 4)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the heads, the names and every cell."""
        painter, c, told = QPainter(self), self._theme.colours, self._told
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        strongest = max((abs(cell.slope) for row in told.cells for cell in row if cell.sure), default=1.0) or 1.0
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold))
        painter.setPen(c.ink)
        for i, knob in enumerate(told.knobs):
            self._write(painter, self._box(-1, i), knob.name)
        for row, (benchmark, cells) in enumerate(zip(told.benchmarks, told.cells, strict=True)):
            top = _HEAD + _ROW * row
            painter.setPen(QPen(c.rule, 1))
            painter.drawLine(QPointF(0, top), QPointF(self.width(), top))
            painter.setFont(font(SMALL_PX + 1))
            painter.setPen(c.ink)
            self._write(painter, QRectF(0, top, _NAMES - 8, _ROW), benchmark.name)
            for i, cell in enumerate(cells):
                self._paint_cell(painter, self._box(row, i), cell, strongest)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose the cell under the pointer."""
        row, column = self._at(event.position())
        if row is not None and column is not None:
            self.chosen.emit(self._told.knobs[column].id, self._told.benchmarks[row].id)

    def event(self, event: QEvent) -> bool:
        """Tell the cell under the pointer with its range, and the whole of a name."""
        if event.type() is not QEvent.Type.ToolTip or not isinstance(event, QHelpEvent):
            return super().event(event)
        QToolTip.showText(event.globalPos(), tip(self._told_at(QPointF(event.pos()))), self)
        return True

    def _told_at(self, where: QPointF) -> str:
        row, column = self._at(where)
        if row is None or column is None:
            row, column = self._at(QPointF(max(where.x(), _NAMES + 1.0), max(where.y(), _HEAD + 1.0)))
            if row is None or column is None:
                return ""
            return self._told.knobs[column].name if where.y() < _HEAD else self._told.benchmarks[row].name
        cell = self._told.cells[row][column]
        if cell is None:
            return ""
        within = say(" ({low:+.2f} to {high:+.2f})", low=cell.low, high=cell.high) if math.isfinite(cell.low) else ""
        return f"{cell.words}{within}\n{cell.how}".strip()

    def _paint_cell(self, painter: QPainter, box: QRectF, cell: SensitivityCell, strongest: float) -> None:
        c = self._theme.colours
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold if cell.sure else QFont.Weight.Normal))
        if not cell.sure:
            painter.setPen(c.muted)
            self._write(painter, box, cell.words)
            return
        longest = box.width() * _BAR_SHARE
        colour = c.verdicts[Verdict.HELD] if cell.slope > 0 else c.in_play
        length = longest * abs(cell.slope) / strongest
        middle = box.center().y()
        painter.fillRect(QRectF(box.left(), middle - 5, max(length, 2.0), 10), faded(colour, 0.85))
        ends = sorted(min(max(abs(v), 0.0), 1.3 * strongest) * longest / strongest for v in (cell.low, cell.high))
        painter.setPen(QPen(c.ink, 1.2))
        painter.drawLine(QPointF(box.left() + ends[0], middle), QPointF(box.left() + ends[1], middle))
        painter.setPen(c.ink)
        words = QRectF(box)
        words.setLeft(box.left() + max(length, ends[1]) + 7)
        self._write(painter, words, cell.words)

    def _write(self, painter: QPainter, box: QRectF, words: str) -> None:
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, shown)

    def _box(self, row: int, column: int) -> QRectF:
        """The place of a cell; row -1 are the heads."""
        width = (self.width() - _NAMES) / max(len(self._told.knobs), 1)
        top, height = (0, _HEAD) if row < 0 else (_HEAD + _ROW * row, _ROW)
        return QRectF(_NAMES + width * column, top, width - 10, height)

    def _at(self, where: QPointF) -> tuple[int | None, int | None]:
        told = self._told
        row = int((where.y() - _HEAD) // _ROW)
        width = (self.width() - _NAMES) / max(len(told.knobs), 1)
        column = int((where.x() - _NAMES) // width)
        inside = 0 <= row < len(told.benchmarks) and 0 <= column < len(told.knobs)
        return (row, column) if inside else (None, None)
