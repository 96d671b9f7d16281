"""Columns side by side, a row a benchmark: its gain, the 95 % range drawn, its score, and the places it may hold."""

from __future__ import annotations

import math
from statistics import median

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QMouseEvent, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTreeWidget, QTreeWidgetItem

from yondle.analysis.margins import Gain, GainWord
from yondle.desktop.look.basics import children, tip, top_items
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import BODY_PX, SMALL_PX, Theme, font
from yondle.language.saying import later, named, say
from yondle.model.quantities import THIN, count
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction
from yondle.views.compare.compare import (
    ComparedCell,
    CompareView,
    Row,
    cell_words,
    details,
    mean_words,
    ordered,
    rank_words,
    score_words,
)
from yondle.views.shared.gains import figure_words, how_gained

_NAMES, _LEAST_COLUMN = 158, 186
_HEAD, _ROW, _GROUP, _LINE = 46, 42, 28, 20
_STRIP_SHARE, _MOST_STRIP = 0.25, 90
_PAD = 8
_ROOM = 1.15
"""How much wider the scale of the ranges is than what most columns gain."""
_DETAIL = Qt.ItemDataRole.UserRole + 1
Index = QModelIndex | QPersistentModelIndex


class CompareTable(QTreeWidget):
    """The table. `against_wanted` is sent with the place of a column when its head is double-clicked."""

    against_wanted = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.view: CompareView | None = None
        self.order: tuple[int, bool] | None = None
        """The column whose gain rows stand in order of, and whether they rise."""
        self.setAccessibleName(say("Columns side by side"))
        self.setItemDelegate(_Cells(theme, self))
        self.setHeader(_Head(theme, self))
        self.setIndentation(14)
        self.setUniformRowHeights(False)
        self.setVerticalScrollMode(QTreeWidget.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollMode(QTreeWidget.ScrollMode.ScrollPerPixel)
        self.header().setSectionsClickable(True)
        self.header().sectionClicked.connect(self._sort)
        self.header().sectionDoubleClicked.connect(lambda section: self.against_wanted.emit(section - 1))
        self.itemExpanded.connect(self._fill)
        theme.changed.connect(self.viewport().update)

    def show_view(self, view: CompareView) -> None:
        """Show another comparison; what was open stays open."""
        opened = self._opened()
        known = self.view.columns if self.view is not None else ()
        if self.order is not None and known != view.columns:
            self.order = None
        self.view = view
        self.clear()
        self.setColumnCount(len(view.columns) + 1)
        self.setHeaderLabels(["", *(column.name for column in view.columns)])
        for i, column in enumerate(view.columns):
            self.headerItem().setToolTip(i + 1, tip(f"{column.name}\n{column.setup}"))
        rows = dict(ordered(view, *(self.order or (None, False))))
        for group in view.groups:
            item = QTreeWidgetItem([group.name, *(mean_words(m) for m in group.means)])
            item.setData(0, Qt.ItemDataRole.UserRole, group)
            self.addTopLevelItem(item)
            for row in rows[group.name]:
                item.addChild(_row_item(row, view))
            item.setExpanded(True)
            for row_item in children(item):
                row_item.setExpanded(row_item.text(0) in opened)
        if len(view.rows) > 1:
            self.addTopLevelItem(QTreeWidgetItem([say("all"), *(mean_words(m) for m in view.means)]))
        self._widths()

    @property
    def row(self) -> Row | None:
        """The row that is chosen, or that what is chosen belongs to."""
        item = self.currentItem()
        while item is not None:
            row = item.data(0, Qt.ItemDataRole.UserRole)
            if isinstance(row, Row):
                return row
            item = item.parent()
        return None

    def sizeHint(self) -> QSize:
        """Room for every row as it stands when nothing is open."""
        view = self.view
        lines = _HEAD + 2 * self.frameWidth() + 4
        if view is not None:
            lines += _GROUP * (len(view.groups) + 1) + _ROW * len(view.rows)
        return QSize(600, lines)

    def table(self) -> str:
        """Give every figure as tab-separated lines, for copying: what each row expands to, too."""
        view = self.view
        if view is None:
            return ""
        lines = ["\t".join(["benchmark", "unit", "figure", *(column.name for column in view.columns)])]
        for row in view.rows:
            unit, name = row.benchmark.metric.unit, row.benchmark.name
            for figure, values in (("gain, %", _gains(row)), ("low, %", _ends(row, 0)), ("high, %", _ends(row, 1))):
                lines.append("\t".join([name, "%", figure.removesuffix(", %"), *values]))
            lines += ["\t".join([name, unit, what, *values]) for what, values in details(view, row)]
        return "\n".join(lines)

    def draw(self, painter: QPainter) -> None:
        """Draw the part that is shown onto something else."""
        self.render(painter, QPoint())

    def scale(self) -> float:
        """Give the gain that fills half a strip: what most columns gain at most, so that one far off doesn't hide them."""
        view = self.view
        if view is None:
            return 1.0
        most = [
            max((abs(v) for row in view.rows if (v := _furthest(row.cells[i])) is not None), default=0.0)
            for i in range(len(view.columns))
            if i != view.against
        ]
        return _ROOM * median(most) if most and median(most) > 0.0 else 1.0

    def _opened(self) -> set[str]:
        return {row.text(0) for group in top_items(self) for row in children(group) if row.isExpanded()}

    def _fill(self, item: QTreeWidgetItem) -> None:
        """Write what a row expands to, when it is first opened."""
        row = item.data(0, Qt.ItemDataRole.UserRole)
        if not isinstance(row, Row) or item.childCount() or self.view is None:
            return
        for name, values in details(self.view, row):
            child = QTreeWidgetItem([name, *values])
            child.setData(0, _DETAIL, True)
            item.addChild(child)

    def _sort(self, section: int) -> None:
        """Order rows by a column's gain: falling, then rising, then as they are listed."""
        if self.view is None or section - 1 == self.view.against:
            return
        by = section - 1
        if section == 0 or self.order == (by, True):
            self.order = None
        else:
            self.order = (by, self.order == (by, False))
        self.show_view(self.view)

    def _widths(self) -> None:
        columns = max(self.columnCount() - 1, 1)
        self.setColumnWidth(0, _NAMES)
        width = max(_LEAST_COLUMN, (self.viewport().width() - _NAMES) // columns)
        for i in range(1, columns + 1):
            self.setColumnWidth(i, width)

    def drawRow(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        """Rule a line above every row but what one expands to."""
        super().drawRow(painter, option, index)
        if not self.itemFromIndex(index).data(0, _DETAIL):
            painter.setPen(QPen(self._theme.colours.rule, 1))
            painter.drawLine(0, option.rect.top(), self.viewport().width(), option.rect.top())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Share the width among the columns."""
        super().resizeEvent(event)
        self._widths()


_SPREAD = later("geometric mean of {}, with half its 95\u202f% range")


def _row_item(row: Row, view: CompareView) -> QTreeWidgetItem:
    words = [cell_words(cell, row.benchmark, i == view.against) for i, cell in enumerate(row.cells)]
    item = QTreeWidgetItem([row.benchmark.name, *words])
    item.setData(0, Qt.ItemDataRole.UserRole, row)
    if row.caveat:
        item.setToolTip(0, tip(row.caveat))
    for i, cell in enumerate(row.cells):
        if cell is not None:
            spread = (
                f"{score_words(cell, row.benchmark)}: {named(_SPREAD).format(count(cell.spread.n, 'pass', 'passes'))}"
            )
            together = (
                say(
                    "\nThe range holds for all columns of the row together. {how_gained}",
                    how_gained=how_gained(cell.gain),
                )
                if cell.gain
                else ""
            )
            item.setToolTip(i + 1, tip(spread + together))
    item.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
    return item


def _gains(row: Row) -> list[str]:
    return [f"{100.0 * c.gain.fraction:.4g}" if c is not None and c.gain is not None else "" for c in row.cells]


def _ends(row: Row, end: int) -> list[str]:
    told = [(c.gain.low, c.gain.high)[end] if c is not None and c.gain is not None else math.nan for c in row.cells]
    return [f"{100.0 * v:.4g}" if math.isfinite(v) else "" for v in told]


def _furthest(cell: ComparedCell | None) -> float | None:
    if cell is None or cell.gain is None or cell.capped:
        return None
    return cell.gain.fraction


def _two_lines(box: QRectF) -> tuple[QRectF, QRectF]:
    inner = box.adjusted(0, 3, 0, -3)
    first, second = QRectF(inner), QRectF(inner)
    first.setBottom(inner.center().y() + 1)
    second.setTop(inner.center().y() + 1)
    return first, second


class _Cells(QStyledItemDelegate):
    """Paints a cell: words on the left, on the right its range on one scale for the whole table."""

    def __init__(self, theme: Theme, table: CompareTable) -> None:
        super().__init__(table)
        self._theme, self._table = theme, table

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """Give a row of figures two lines, all else one."""
        item = self._table.itemFromIndex(index)
        data = item.data(0, Qt.ItemDataRole.UserRole)
        return QSize(10, _LINE if item.data(0, _DETAIL) else _ROW if isinstance(data, Row) else _GROUP)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        """Paint one cell."""
        c, view = self._theme.colours, self._table.view
        item = self._table.itemFromIndex(index)
        row, detail = item.data(0, Qt.ItemDataRole.UserRole), bool(item.data(0, _DETAIL))
        box = QRectF(option.rect).adjusted(_PAD if index.column() else 2, 0, -_PAD, 0)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not isinstance(row, Row) or view is None:
            weight = QFont.Weight.Normal if detail else QFont.Weight.DemiBold
            painter.setFont(font(SMALL_PX if detail else BODY_PX, weight))
            painter.setPen(c.muted if detail and index.column() == 0 else c.ink)
            self._write(painter, box, item.text(index.column()))
        elif index.column() == 0:
            self._paint_name(painter, box, row)
        elif (cell := row.cells[index.column() - 1]) is not None:
            self._paint_cell(painter, box, row, cell, index.column() - 1 == view.against)
        painter.restore()

    def _paint_name(self, painter: QPainter, box: QRectF, row: Row) -> None:
        c, metric = self._theme.colours, row.benchmark.metric
        first, second = _two_lines(box)
        painter.setFont(font(BODY_PX))
        painter.setPen(c.ink)
        self._write(painter, first, row.benchmark.name + (" *" if row.caveat else ""))
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        self._write(
            painter, second, metric.unit + (say(", lower is better") if metric.direction is Direction.LOWER else "")
        )

    def _paint_cell(self, painter: QPainter, box: QRectF, row: Row, cell: ComparedCell, against: bool) -> None:
        c = self._theme.colours
        strip = min(box.width() * _STRIP_SHARE, _MOST_STRIP)
        first, second = _two_lines(box.adjusted(0, 0, 0 if against else -strip - 4, 0))
        told = cell.gain
        sure = told is not None and told.word in (GainWord.GAIN, GainWord.LOSS) and not cell.capped
        painter.setFont(font(BODY_PX, QFont.Weight.DemiBold if sure else QFont.Weight.Normal))
        painter.setPen(c.ink if sure or against else c.muted)
        score = score_words(cell, row.benchmark).removesuffix(f"{THIN}{row.benchmark.metric.unit}")
        noise = told is not None and told.word is GainWord.WITHIN_NOISE and not cell.capped
        words = figure_words(told) if noise and told is not None else cell_words(cell, row.benchmark, against)
        self._write(painter, first, score if against else words)
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        place = f"№ {rank_words(cell)}" if cell.rank is not None else ""
        self._write(painter, second, " · ".join(each for each in ("" if against else score, place) if each))
        if not against and told is not None and not cell.capped:
            self._paint_range(painter, QRectF(box.right() - strip, box.top(), strip, box.height()), told, sure)

    def _paint_range(self, painter: QPainter, box: QRectF, told: Gain, sure: bool) -> None:
        """Paint the 95 % range from the middle, which is no gain; what lies beyond the scale gets an arrow.

        A single told figure has no range: an open dot.
        """
        c, scale = self._theme.colours, self._table.scale()
        middle, y, half = box.center().x(), box.center().y(), box.width() / 2.0
        painter.setPen(QPen(c.rule, 1))
        painter.drawLine(QPointF(middle, box.top() + 6), QPointF(middle, box.bottom() - 6))
        colour = c.muted if not sure else c.verdicts[Verdict.HELD] if told.word is GainWord.GAIN else c.in_play
        at = told.fraction / scale
        if not math.isfinite(told.low):
            if told.told:
                painter.setPen(QPen(c.muted, 1.4))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(QPointF(middle + half * min(max(at, -1.0), 1.0), y), 3.5, 3.5)
            return
        if abs(at) > 1.0:
            sign = math.copysign(1.0, at)
            tip = middle + sign * half
            painter.setPen(QPen(colour, 1.6))
            painter.drawLine(QPointF(middle, y), QPointF(tip, y))
            painter.drawPolyline([QPointF(tip - sign * 5, y - 4), QPointF(tip, y), QPointF(tip - sign * 5, y + 4)])
            return
        ends = [middle + half * min(max(v / scale, -1.0), 1.0) for v in (told.low, told.high)]
        painter.setPen(QPen(colour, 1.6))
        painter.drawLine(QPointF(ends[0], y), QPointF(ends[1], y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawEllipse(QPointF(middle + half * at, y), 3.5, 3.5)

    def _write(self, painter: QPainter, box: QRectF, words: str) -> None:
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, shown)


class _Head(QHeaderView):
    """The heads of the columns: the verdict and the name, and below what differs from stock there."""

    def __init__(self, theme: Theme, table: CompareTable) -> None:
        super().__init__(Qt.Orientation.Horizontal, table)
        self._theme, self._table = theme, table
        self.setSectionsClickable(True)
        self.setStretchLastSection(False)
        self.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.setMouseTracking(True)

    def sizeHint(self) -> QSize:
        """Two lines."""
        return QSize(super().sizeHint().width(), _HEAD)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Tell the whole of what differs from stock."""
        super().mouseMoveEvent(event)
        at, view = self.logicalIndexAt(event.position().toPoint()) - 1, self._table.view
        inside = view is not None and 0 <= at < len(view.columns)
        self.setToolTip(
            tip(
                say(
                    "{columns}: {setup}\nClick to order rows by it, double-click to compare with it",
                    columns=view.columns[at].name,
                    setup=view.columns[at].setup,
                )
            )
            if view is not None and inside
            else ""
        )

    def paintSection(self, painter: QPainter, rect: QRect, section: int) -> None:
        """Paint one head."""
        view, at = self._table.view, section - 1
        c = self._theme.colours
        painter.fillRect(rect, c.ground)
        if view is None or not 0 <= at < len(view.columns):
            return
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        column = view.columns[at]
        box = QRectF(rect).adjusted(_PAD, 3, -_PAD, -3)
        left = box.left()
        if column.step is not None:
            verdict = column.step.verdict
            paint_mark(
                painter, QPointF(left + 5, box.top() + 10), 5.0, verdict, c.verdicts[verdict], column.step.recorded
            )
            left += 16
        order = self._table.order
        arrow = "" if order is None or order[0] != at else " ↑" if order[1] else " ↓"
        painter.setFont(font(BODY_PX, QFont.Weight.DemiBold))
        painter.setPen(c.in_play if at == view.against else c.ink)
        first = QRectF(left, box.top(), box.right() - left, 20)
        self._write(painter, first, column.name + arrow)
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        words = say("compared with · ") if at == view.against else ""
        self._write(painter, QRectF(box.left(), box.top() + 20, box.width(), 18), words + column.setup)
        painter.restore()

    def _write(self, painter: QPainter, box: QRectF, words: str) -> None:
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, shown)
