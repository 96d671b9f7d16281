"""The table of everything in a logbook: rows are made when they are looked at, so a hundred thousand of them scroll like ten."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, QPointF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QPainter, QPixmap
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from yondle.desktop.look.basics import tip
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import Theme, font
from yondle.language.saying import later, named, say
from yondle.model.verdicts import Verdict
from yondle.views.record.log import Kind, LogRow, when_words

Index = QModelIndex | QPersistentModelIndex
ROW_PX = 24
_MARK_PX = 14


@dataclass(frozen=True, slots=True)
class LogColumn:
    """One column: its head, what it writes, what it is sorted by, and how wide it is at first; 0 takes what is left."""

    head: str
    words: Callable[[LogRow], str]
    key: Callable[[LogRow], object]
    width: int
    shown: bool = True


COLUMNS = (
    LogColumn(later("when"), lambda r: when_words(r.at), lambda r: r.at, 132),
    LogColumn(later("book"), lambda r: r.book, lambda r: r.book.casefold(), 100, False),
    LogColumn(later("step"), lambda r: str(r.step), lambda r: r.step, 44),
    LogColumn(later("kind"), lambda r: named(r.kind), lambda r: list(Kind).index(r.kind), 70),
    LogColumn(later("what"), lambda r: r.what, lambda r: r.what.casefold(), 214),
    LogColumn(later("verdict"), lambda r: r.word, lambda r: r.word, 112),
    LogColumn(later("left out"), lambda r: r.left_out, lambda r: r.left_out, 96),
    LogColumn(
        later("figure"), lambda r: "" if r.value is None else f"{r.value:.6g}",
        lambda r: float("-inf") if r.value is None else r.value, 90, False,
    ),
    LogColumn(later("told"), lambda r: r.told, lambda r: r.told.casefold(), 0),
)  # fmt: skip


class LogModel(QAbstractTableModel):
    """The rows, sorted by one column."""

    def __init__(self, theme: Theme, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self.rows: list[LogRow] = []
        self._by, self._falling = 0, True
        self._marks: dict[tuple[Verdict, bool], QPixmap] = {}
        self._struck = font(13)
        self._struck.setStrikeOut(True)
        theme.changed.connect(self._marks.clear)

    def show_rows(self, rows: list[LogRow]) -> None:
        """Show other rows in the order chosen; they come with the latest first."""
        self.beginResetModel()
        self.rows = rows if (self._by, self._falling) == (0, True) else self._sorted(rows)
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Sort by what stands behind a column, not by its words."""
        self._by, self._falling = column, order is Qt.SortOrder.DescendingOrder
        self.beginResetModel()
        self.rows = self._sorted(self.rows)
        self.endResetModel()

    def rowCount(self, parent: Index | None = None) -> int:
        """Count the rows."""
        return 0 if parent is not None and parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index | None = None) -> int:
        """Count the columns."""
        return len(COLUMNS)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Give what a cell shows."""
        row, column = self.rows[index.row()], COLUMNS[index.column()]
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return column.words(row).replace("\n", " ")
            case Qt.ItemDataRole.ToolTipRole:
                return tip(column.words(row))
            case Qt.ItemDataRole.DecorationRole if column.head == "verdict" and row.verdict is not None:
                return self._mark(row.verdict, row.kind is Kind.RECORD)
            case Qt.ItemDataRole.FontRole if row.discarded and column.head in ("what", "figure"):
                return self._struck
            case Qt.ItemDataRole.ForegroundRole if row.left_out or column.head in (
                "when",
                "kind",
                "told",
                "left out",
            ):
                return self._theme.colours.muted
            case Qt.ItemDataRole.TextAlignmentRole if column.head in ("step", "figure"):
                return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def headerData(self, section: int, way: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Name the columns."""
        if way is Qt.Orientation.Horizontal and role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return named(COLUMNS[section].head)
        return None

    def _sorted(self, rows: list[LogRow]) -> list[LogRow]:
        return sorted(rows, key=COLUMNS[self._by].key, reverse=self._falling)  # type: ignore[arg-type]

    def _mark(self, verdict: Verdict, recorded: bool) -> QPixmap:
        if (verdict, recorded) not in self._marks:
            picture = QPixmap(_MARK_PX * 2, _MARK_PX * 2)
            picture.setDevicePixelRatio(2.0)
            picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(picture)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            middle = QPointF(_MARK_PX / 2, _MARK_PX / 2)
            paint_mark(painter, middle, 4.5, verdict, self._theme.colours.verdicts[verdict], recorded)
            painter.end()
            self._marks[verdict, recorded] = picture
        return self._marks[verdict, recorded]


class LogTable(QTableView):
    """The table; `chosen` is sent with a row when it is selected, `opened` when it is double-clicked or Return is pressed."""

    chosen = Signal(object)
    opened = Signal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model_ = LogModel(theme, self)
        self.setModel(self.model_)
        self.setAccessibleName(say("Everything in the logbook"))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setTabKeyNavigation(False)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW_PX)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        head = self.horizontalHeader()
        head.setHighlightSections(False)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setFont(font(11, QFont.Weight.DemiBold))
        for i, column in enumerate(COLUMNS):
            if column.width:
                self.setColumnWidth(i, max(column.width, head.sectionSizeHint(i)))
            self.setColumnHidden(i, not column.shown)
        head.setStretchLastSection(True)
        self.setSortingEnabled(True)
        head.setSortIndicator(0, Qt.SortOrder.DescendingOrder)
        self.selectionModel().currentRowChanged.connect(self._tell)
        self.doubleClicked.connect(lambda index: self.opened.emit(self.model_.rows[index.row()]))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Return opens the selected row."""
        row = self.selected()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and row is not None:
            self.opened.emit(row)
        else:
            super().keyPressEvent(event)

    def show_rows(self, rows: list[LogRow]) -> None:
        """Show other rows; the selected one stays selected where it still is among them."""
        kept = self.selected()
        self.model_.show_rows(rows)
        if kept is not None:
            self.choose(kept)

    def selected(self) -> LogRow | None:
        """Give the selected row."""
        index = self.currentIndex()
        return self.model_.rows[index.row()] if index.isValid() and index.row() < len(self.model_.rows) else None

    def choose(self, row: LogRow) -> None:
        """Select the row that stands for the same thing."""
        wanted = (row.book, row.step, row.kind, row.attempt, row.item)
        for i, each in enumerate(self.model_.rows):
            if (each.book, each.step, each.kind, each.attempt, each.item) == wanted:
                self.selectRow(i)
                return

    def show_column(self, column: int, shown: bool) -> None:
        """Show or hide a column."""
        self.setColumnHidden(column, not shown)

    def table(self) -> str:
        """Give the rows shown as tab-separated lines, for copying."""
        heads = [i for i in range(len(COLUMNS)) if not self.isColumnHidden(i)]
        lines = ["\t".join(COLUMNS[i].head for i in heads)]
        for row in self.model_.rows:
            lines.append("\t".join(_flat(COLUMNS[i].words(row)) for i in heads))
        return "\n".join(lines)

    def draw(self, painter: QPainter) -> None:
        """Draw the part in view onto something else."""
        self.render(painter, self.rect().topLeft())

    def _tell(self, current: QModelIndex) -> None:
        if current.isValid():
            self.chosen.emit(self.model_.rows[current.row()])


def _flat(words: str) -> str:
    return " ".join(words.split())
