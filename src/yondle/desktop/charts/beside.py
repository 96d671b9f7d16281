"""The figures of a chart as a table beside it, for those who would rather read, and for the screen reader."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, QTimer
from PySide6.QtWidgets import QTableView, QWidget

from yondle.desktop.look.basics import button, clear, label
from yondle.desktop.look.layouts import abreast
from yondle.desktop.look.theme import MARGIN, SMALL_PX, font
from yondle.language.saying import say
from yondle.model.quantities import number

_CHART_PARTS, _TABLE_PARTS, _ROW_PX = 11, 9, 24
"""How chart and table share the width; and how high a row is."""
_SOON_MS = 150
_MEASURED_ROWS = 60
"""So many rows decide how wide a column is."""
_MOST_LINKS = 4
_DIGITS = 4
_NUMBER = re.compile(r"-?\d+(\.\d+)?(e[+-]?\d+)?")
_Index = QModelIndex | QPersistentModelIndex


class WithTable(Protocol):
    """A chart that can give its figures."""

    def table(self) -> str:
        """Give its figures as tab-separated lines, the first of them its head."""


class _Lines(QAbstractTableModel):
    """Tab-separated lines as a table; figures are written as everywhere else."""

    def __init__(self, lines: list[str]) -> None:
        super().__init__()
        self._head = lines[0].split("\t") if lines else []
        self._rows = lines[1:]

    def rowCount(self, parent: _Index = QModelIndex()) -> int:  # noqa: B008
        """Count the lines."""
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: _Index = QModelIndex()) -> int:  # noqa: B008
        """Count the cells of the head."""
        return 0 if parent.isValid() else len(self._head)

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Give a cell."""
        cells = self._rows[index.row()].split("\t")
        cell = cells[index.column()] if index.column() < len(cells) else ""
        figure = _NUMBER.fullmatch(cell)
        if role == Qt.ItemDataRole.DisplayRole:
            return _written(float(cell), figure[1] or "") if figure else cell
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if figure else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return cell if role == Qt.ItemDataRole.ToolTipRole else None

    def headerData(self, section: int, along: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Give what a column is."""
        if along is Qt.Orientation.Horizontal and role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return self._head[section]
        return None


def _written(value: float, decimals: str) -> str:
    """Write a figure with four digits that mean something, or as many as it has; the whole of it is told by its tool tip."""
    size = math.floor(math.log10(abs(value))) if value else 0
    return number(value, min(max(_DIGITS - 1 - size, 0), max(len(decimals) - 1, 0)))


class Beside(QWidget):
    """A chart, and where it is wanted the table of its figures to the right of it."""

    def __init__(self, inner: QWidget, chart: Callable[[], WithTable | None]) -> None:
        super().__init__()
        self._chart = chart
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_SOON_MS)
        self._soon.timeout.connect(self._fill)
        self.table = QTableView()
        self.table.setAccessibleName(say("Figures of the chart"))
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setTabKeyNavigation(False)
        self.table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(_ROW_PX)
        self.table.setFont(font(SMALL_PX))
        self.table.horizontalHeader().setFont(font(SMALL_PX))
        self.table.hide()
        box = abreast(self, MARGIN)
        box.addWidget(inner, _CHART_PARTS)
        box.addWidget(self.table, _TABLE_PARTS)

    @property
    def open(self) -> bool:
        """Tell whether the table is there."""
        return not self.table.isHidden()

    def turn(self) -> None:
        """Show the table, with the focus on it, or take it away."""
        chart = self._chart()
        self.table.setVisible(not self.open and chart is not None)
        self._fill()
        if self.open:
            self.table.setFocus()
        elif isinstance(chart, QWidget):
            chart.setFocus()

    def renew(self) -> None:
        """Show the figures that the chart has now, once it rests."""
        if self.open:
            self._soon.start()

    def _fill(self) -> None:
        chart = self._chart()
        if not self.open or chart is None:
            return
        before = self.table.model()
        self.table.setModel(_Lines(chart.table().splitlines()))
        if before is not None:
            before.deleteLater()
        self.table.horizontalHeader().setResizeContentsPrecision(_MEASURED_ROWS)
        self.table.resizeColumnsToContents()


class StepLinks(QWidget):
    """Leads to the steps that figures come from."""

    def __init__(self, lead: Callable[[int], object]) -> None:
        super().__init__()
        self._lead = lead
        self._row = abreast(self, 4)
        self.hide()

    def show_steps(self, steps: tuple[int, ...]) -> None:
        """Offer these; the latest of many."""
        clear(self._row)
        shown = steps[-_MOST_LINKS:]
        if len(shown) < len(steps):
            self._row.addWidget(label("…", "muted"))
        for step in shown:
            link = button(say("Step {step}", step=step), "flat", say("Show step {step} in Tune", step=step))
            link.clicked.connect(lambda _=False, step=step: self._lead(step))
            self._row.addWidget(link)
        self._row.addStretch(1)
        self.setVisible(bool(steps))
