"""The trail: one row per step from the baseline up, newest on top, what was tried and left on side branches."""

from __future__ import annotations

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    QSize,
    Qt,
    Signal,
)  # fmt: skip
from PySide6.QtGui import QFont, QFontMetrics, QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from yondle.analysis.margins import GainWord
from yondle.desktop.look.basics import tip
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.quantities import count
from yondle.model.verdicts import Verdict
from yondle.views.shared.gains import how_gained
from yondle.views.tune.trail import TrailRow, TrailRows

ROW_HEIGHT = 47
PATH_X, SIDE_X, TEXT_X = 26.0, 48.0, 70.0
MARK_R = 5.5
_RIGHT = 12.0

Index = QModelIndex | QPersistentModelIndex


class TrailModel(QAbstractListModel):
    """The rows of the trail."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.rows: TrailRows | None = None

    def show_rows(self, rows: TrailRows) -> None:
        """Show other rows; those at the same place that changed are redrawn."""
        if self.rows is None or len(rows) != len(self.rows):
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()
        else:
            self.rows = rows
            if rows:
                self.dataChanged.emit(self.index(0), self.index(len(rows) - 1))

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's own signature
        """Count the rows."""
        return 0 if parent.isValid() or self.rows is None else len(self.rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Give a row's words, for screen readers and tooltips."""
        if self.rows is None or role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return None
        row = self.rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return say(
                "Step {number}: {row}, {verdict}, {detail}, {gain_text}",
                number=row.number,
                row=row.title,
                verdict=row.word,
                detail=row.detail,
                gain_text=row.gain_text,
            )
        gain = f"\n{row.gain_text}\n{how_gained(row.gain)}" if row.gain_text else ""
        words = say(
            "Step {number} · {row}\n{verdict}; {detail}{gain}",
            number=row.number,
            row=row.title,
            verdict=row.word,
            detail=row.detail,
            gain=gain,
        )
        return tip(words)


class TrailDelegate(QStyledItemDelegate):
    """Paints the rows."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self._theme = theme

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """Rows of one height."""
        return QSize(200, ROW_HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        """Paint one step."""
        model = index.model()
        assert isinstance(model, TrailModel)
        assert model.rows is not None
        row = model.rows[index.row()]
        box = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        self._paint_ground(painter, box, row, selected)
        self._paint_path(painter, box, row, index.row(), model.rows)
        self._paint_words(painter, box, row, selected)
        painter.restore()

    def _paint_ground(self, painter: QPainter, box: QRectF, row: TrailRow, selected: bool) -> None:
        c = self._theme.colours
        if selected:
            painter.fillRect(box, faded(c.rule, 0.55))
        if row.is_position:
            painter.fillRect(QRectF(box.left(), box.top() + 6, 3, box.height() - 12), c.in_play)

    def _paint_path(self, painter: QPainter, box: QRectF, row: TrailRow, i: int, rows: TrailRows) -> None:
        c = self._theme.colours
        middle = box.top() + box.height() / 2
        pen = QPen(faded(c.muted, 0.55), 1.6)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        last = i == len(rows) - 1
        if i > rows.top_of_path or (row.on_path and not last):
            top = middle if i == rows.top_of_path else box.top()
            painter.drawLine(
                QPointF(PATH_X, top), QPointF(PATH_X, middle if last and row.on_path else box.bottom() + 1)
            )
        pen.setStyle(Qt.PenStyle.DotLine)
        painter.setPen(pen)
        if 0 < i <= rows.top_of_path:
            painter.drawLine(QPointF(PATH_X, box.top()), QPointF(PATH_X, middle if row.on_path else box.bottom() + 1))
        if not row.on_path and not last:
            branch = QPainterPath(QPointF(SIDE_X, middle + MARK_R))
            branch.cubicTo(SIDE_X, box.bottom(), PATH_X, middle + 8, PATH_X, box.bottom() + 1)
            painter.drawPath(branch)
        centre = QPointF(PATH_X if row.on_path else SIDE_X, middle)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.panel)
        painter.drawEllipse(centre, MARK_R + 1.5, MARK_R + 1.5)
        colour = c.in_play if row.running else c.verdicts[row.verdict]
        paint_mark(painter, centre, MARK_R, row.verdict, colour, row.recorded)

    def _paint_words(self, painter: QPainter, box: QRectF, row: TrailRow, selected: bool) -> None:
        c = self._theme.colours
        # On the darker ground of the selected row what is muted, or red, would no longer stand out.
        muted, red = (c.ink, c.ink) if selected else (c.muted, c.verdicts[Verdict.DOWN])
        strong_gain = row.gain is not None and row.gain.sure and row.gain.word in (GainWord.GAIN, GainWord.LOSS)
        gain_font = font(SMALL_PX, QFont.Weight.DemiBold if strong_gain else QFont.Weight.Normal)
        painter.setFont(gain_font)
        painter.setPen(c.ink if strong_gain else muted)
        width = QFontMetrics(gain_font).horizontalAdvance(row.gain_text) if row.gain_text else 0
        right = box.right() - _RIGHT
        painter.drawText(
            QRectF(right - width - 2, box.top() + 7, width + 2, 18), Qt.AlignmentFlag.AlignVCenter, row.gain_text
        )
        title_font = font(12, QFont.Weight.DemiBold if row.is_position else QFont.Weight.Medium)
        painter.setFont(title_font)
        painter.setPen(c.ink if row.on_path or row.running else muted)
        room = right - TEXT_X - (width + 8 if width else 0)
        title = _shortened(row, QFontMetrics(title_font), int(room))
        painter.drawText(QRectF(TEXT_X, box.top() + 7, room, 18), Qt.AlignmentFlag.AlignVCenter, title)
        small = font(SMALL_PX)
        painter.setFont(small)
        failed = row.verdict in (Verdict.DOWN, Verdict.WRONG)
        painter.setPen(c.in_play if row.running and not selected else red if failed else muted)
        note = f" · {count(row.notes, 'note')}" if row.notes else ""
        words = f"{row.number} · {say('on trial') if row.running else row.detail}{note}"
        detail = QFontMetrics(small).elidedText(words, Qt.TextElideMode.ElideRight, int(right - TEXT_X))
        painter.drawText(QRectF(TEXT_X, box.top() + 24, right - TEXT_X, 16), Qt.AlignmentFlag.AlignVCenter, detail)


def _shortened(row: TrailRow, metrics: QFontMetrics, room: int) -> str:
    """Cut a title to the room there is, but never its value, which stands last."""
    value = f" {row.value}" if row.value else ""
    return metrics.elidedText(row.name, Qt.TextElideMode.ElideRight, room - metrics.horizontalAdvance(value)) + value


class TrailView(QListView):
    """The list of steps; `chosen` is sent with a step's number when the tuner selects it, `together` when others are selected
    with it, or no longer.
    """

    chosen = Signal(int)
    together = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._quiet = False
        self._model = TrailModel(self)
        self.setModel(self._model)
        self.setItemDelegate(TrailDelegate(theme, self))
        self.setUniformItemSizes(True)
        self.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        self.setMouseTracking(True)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(say("Trail of steps"))
        self.selectionModel().currentChanged.connect(self._tell)
        self.selectionModel().selectionChanged.connect(lambda *_: self.together.emit() if not self._quiet else None)
        theme.changed.connect(self.viewport().update)

    def show_rows(self, rows: TrailRows) -> None:
        """Show the trail and keep the selected step selected."""
        kept, together = self.selected(), self.all_selected()
        self._quiet = True
        self._model.show_rows(rows)
        self._select(kept)
        if len(together) > 1 and self.all_selected() != together:
            for number in together:
                if number in rows.numbers:
                    index = self._model.index(rows.numbers.index(number))
                    self.selectionModel().select(index, QItemSelectionModel.SelectionFlag.Select)
        self._quiet = False
        self.viewport().update()

    def selected(self) -> int | None:
        """Give the selected step's number."""
        index, rows = self.currentIndex(), self._model.rows
        return rows.numbers[index.row()] if rows is not None and index.isValid() and index.row() < len(rows) else None

    def all_selected(self) -> tuple[int, ...]:
        """Give the numbers of all steps that are selected together (with Shift or Ctrl), oldest first."""
        rows = self._model.rows
        chosen = self.selectedIndexes() if rows is not None else []
        return tuple(sorted(rows.numbers[i.row()] for i in chosen if i.row() < len(rows))) if rows is not None else ()

    def choose(self, number: int) -> None:
        """Select a step and bring it into view."""
        self._select(number)
        self.scrollTo(self.currentIndex())

    def _select(self, number: int | None) -> None:
        rows = self._model.rows
        if rows is not None and number in rows.numbers and self.all_selected() != (number,):
            index = self._model.index(rows.numbers.index(number))
            self.selectionModel().setCurrentIndex(index, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def _tell(self, current: QModelIndex) -> None:
        if current.isValid() and not self._quiet:
            self.chosen.emit(self.selected())
