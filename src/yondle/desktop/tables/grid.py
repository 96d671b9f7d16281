"""The figures of one step as a grid: a row a benchmark, a column a run, with mean, spread and gain growing beside them."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QTableWidget, QTableWidgetItem, QWidget

from yondle.app.session.recording import Record, Recorded, ToldFigure, ToldStep, number_typed
from yondle.app.session.remarks import DiscardFigure
from yondle.app.session.tables import says_lower
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import button, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import MARGIN, Theme
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.steps import AddedResult
from yondle.model.workloads import Direction
from yondle.views.shared.figures_grid import GridRow, figures_grid
from yondle.views.shared.steps import step_title

_NAME, _UNIT, _WAY, _FIRST = 0, 1, 2, 3
LEAST_RUNS, FREE_ROWS = 3, 4
_AFTER = 3
"""Columns behind the runs: mean, spread, gain."""


class GridPage(QWidget):
    """Takes what is typed or pasted; each figure is written down as its cell is left, and can be undone."""

    left = Signal()

    def __init__(self, theme: Theme, book: OpenBook, step: int) -> None:
        super().__init__()
        self.setObjectName("page")
        self._theme, self._book, self._step = theme, book, step
        self._filling = False
        self._new: list[GridRow] = []
        self._undo: list[tuple[tuple[int, ...], tuple[int, ...]]] = []
        """What was written and what was left out by each change, by the ids of figures."""
        self._build()
        self.show_figures()

    def _build(self) -> None:
        box = stacked(self)
        box.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        record = self._book.now.step(self._step)
        top = abreast()
        title = say(
            "Figures of step {step}: {what}", step=self._step, what=step_title(self._book.now.declaration, record.step)
        )
        top.addWidget(label(title, "title"))
        top.addStretch(1)
        self.undo_button, done = (
            button(say("Undo  Ctrl+Z"), "", say("Undo")),
            button(say("Done  Esc"), "main", say("Done")),
        )
        self.undo_button.setShortcut("Ctrl+Z")
        done.setShortcut("Esc")
        self.undo_button.clicked.connect(self.undo)
        done.clicked.connect(self.left)
        top.addWidget(self.undo_button)
        top.addWidget(done)
        box.addLayout(top)
        about = say(
            "Type or paste, as into a spreadsheet: Tab goes on. Yondle ran none of these; a single figure has no margin."
        )
        box.addWidget(label(about, "muted", wrap=True))
        self.trouble = label("", "warning", wrap=True)
        self.trouble.hide()
        box.addWidget(self.trouble)
        self.table = _Grid()
        self.table.setAccessibleName(say("Figures"))
        self.table.itemChanged.connect(self._changed)
        self.table.pasted.connect(self.paste)
        box.addWidget(self.table, 1)

    @property
    def rows(self) -> list[GridRow]:
        """The benchmarks that are known, then those that are being named."""
        return [*figures_grid(self._book.now, self._step), *self._new]

    def show_figures(self) -> None:
        """Show all figures there are, with what they come to."""
        rows = self.rows
        runs = max(LEAST_RUNS, max((len(row.figures) for row in rows), default=0) + 1)
        table = self.table
        self._filling = True
        at = table.currentRow(), table.currentColumn()
        table.setColumnCount(_FIRST + runs + _AFTER)
        table.setRowCount(len(rows) + FREE_ROWS)
        heads = [say("benchmark"), say("unit"), say("better"), *(say("run {i}", i=i + 1) for i in range(runs))]
        table.setHorizontalHeaderLabels([*heads, say("mean"), say("spread"), say("gain")])
        for i in range(table.rowCount()):
            row = rows[i] if i < len(rows) else None
            known = row is not None and row.workload is not None
            self._item(i, _NAME, row.name if row else "", not known)
            self._item(i, _UNIT, row.unit if row else "", not known)
            self._item(i, _WAY, named(row.direction) if row else "", not known)
            for k in range(runs):
                text = row.texts[k] if row is not None and k < len(row.texts) else ""
                self._item(i, _FIRST + k, text, True, right=True)
            for k, text in enumerate((row.mean, row.spread, row.gain) if row is not None else ("", "", "")):
                self._item(i, _FIRST + runs + k, text, False, right=True)
        table.resizeColumnsToContents()
        table.setColumnWidth(_NAME, max(table.columnWidth(_NAME), 200))
        for k in range(_UNIT, table.columnCount()):
            least = {_WAY: 150, table.columnCount() - 1: 190}.get(k, 92)
            table.setColumnWidth(k, max(table.columnWidth(k), least))
        if at[0] >= 0:
            table.setCurrentCell(*at)
        else:
            table.setCurrentCell(0, _FIRST if rows else _NAME)
        self.undo_button.setEnabled(bool(self._undo))
        self._filling = False

    def _item(self, row: int, column: int, text: str, editable: bool, right: bool = False) -> None:
        item = self.table.item(row, column)
        if item is None:
            item = QTableWidgetItem()
            self.table.setItem(row, column, item)
        item.setText(text)
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        item.setFlags(flags | Qt.ItemFlag.ItemIsEditable if editable else flags)
        side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
        item.setForeground(self._theme.colours.ink if editable or right else self._theme.colours.muted)

    def _changed(self, item: QTableWidgetItem) -> None:
        if self._filling:
            return
        row, column, text = item.row(), item.column(), item.text().strip()
        rows = self.rows
        if column < _FIRST:
            self._describe(rows, row, column, text)
            return
        self._put({(row, column - _FIRST): text})

    def _describe(self, rows: list[GridRow], row: int, column: int, text: str) -> None:
        """Name a benchmark that isn't known yet, or say its unit or direction."""
        known = len(rows) - len(self._new)
        while row - known >= len(self._new):
            self._new.append(GridRow())
        new = self._new[row - known]
        if column == _NAME:
            new = replace(new, name=text)
        elif column == _UNIT:
            new = replace(new, unit=text)
        else:
            new = replace(new, direction=Direction.LOWER if says_lower(text) else Direction.HIGHER)
        self._new[row - known] = new
        self.show_figures()

    def paste(self) -> None:
        """Put what is on the clipboard from the current cell on, as a spreadsheet does: all of it, or nothing."""
        text = QGuiApplication.clipboard().text().rstrip("\n")
        at = self.table.currentRow(), self.table.currentColumn()
        if not text or at[0] < 0:
            return
        cells: dict[tuple[int, int], str] = {}
        for i, line in enumerate(text.split("\n")):
            for k, cell in enumerate(line.rstrip("\r").split("\t")):
                if at[1] + k < _FIRST:
                    self._describe(self.rows, at[0] + i, at[1] + k, cell.strip())
                else:
                    cells[at[0] + i, at[1] + k - _FIRST] = cell.strip()
        self._put(cells)

    def _put(self, cells: dict[tuple[int, int], str]) -> None:
        """Write figures down in place of those that stood there; an empty cell leaves the old one out."""
        rows, gone, made = self.rows, list[AddedResult](), list[ToldFigure]()
        try:
            for (i, k), text in cells.items():
                row = rows[i] if i < len(rows) else GridRow()
                old = row.figures[k] if k < len(row.figures) else None
                if old is not None and text == row.texts[k]:
                    continue
                if text and not row.name:
                    raise KnownError(say("Which benchmark is it?"), say("Name it in the first column of its row."))
                if text:
                    score = number_typed(text)
                    made.append(ToldFigure(row.name, score, row.unit, row.direction))
                gone += [old] if old is not None else []
        except KnownError as error:
            self._say(error)
            return
        if not made and not gone:
            self.show_figures()
            return
        setup = self._book.now.step(self._step).step.setup
        before = {a.id for a in self._book.now.step(self._step).added}

        def written(_: Recorded | None = None) -> None:
            for figure in gone:
                self._book.ask(DiscardFigure(self._step, figure.id, say("typed anew")), lambda _: None, self._say)
            now = {a.id for a in self._book.now.step(self._step).added}
            self._undo.append((tuple(now - before), tuple(figure.id for figure in gone)))
            names = {row.name.casefold() for row in figures_grid(self._book.now, self._step)}
            self._new = [row for row in self._new if row.name.casefold() not in names]
            self.trouble.hide()
            self.show_figures()

        if not made:
            written()
            return
        self._book.ask(Record((ToldStep(setup, figures=tuple(made)),)), written, self._say)

    def undo(self) -> None:
        """Take the last change back: what was written is left out, and what it replaced counts again."""
        if not self._undo:
            return
        made, gone = self._undo.pop()
        for figure in made:
            self._book.ask(DiscardFigure(self._step, figure, say("undone")), lambda _: None, self._say)
        for figure in gone:
            self._book.ask(DiscardFigure(self._step, figure, ""), lambda _: None, self._say)
        self.show_figures()

    def _say(self, error: KnownError) -> None:
        self.trouble.setText(f"{error.problem} {error.remedy}")
        self.trouble.show()
        self.show_figures()


class _Grid(QTableWidget):
    """A grid in which Tab goes on, Return goes down, Ctrl+V pastes, and Ctrl+C copies what is selected, or all with heads."""

    pasted = Signal()

    def _copy(self) -> None:
        ranges = self.selectedRanges()
        several = ranges and (ranges[0].rowCount() > 1 or ranges[0].columnCount() > 1)
        rows = range(ranges[0].topRow(), ranges[0].bottomRow() + 1) if several else range(self.rowCount())
        columns = range(ranges[0].leftColumn(), ranges[0].rightColumn() + 1) if several else range(self.columnCount())
        lines = [] if several else [[self._words(self.horizontalHeaderItem(k)) for k in columns]]
        lines += [[self._words(self.item(i, k)) for k in columns] for i in rows]
        QGuiApplication.clipboard().setText("\n".join("\t".join(line) for line in lines if any(line)))

    @staticmethod
    def _words(item: QTableWidgetItem | None) -> str:
        return item.text() if item is not None else ""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Paste, and go down."""
        if event.matches(QKeySequence.StandardKey.Paste):
            self.pasted.emit()
        elif event.matches(QKeySequence.StandardKey.Copy):
            self._copy()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.currentItem() is not None:
            self.currentItem().setText("")
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.setCurrentCell(min(self.currentRow() + 1, self.rowCount() - 1), self.currentColumn())
        else:
            super().keyPressEvent(event)
