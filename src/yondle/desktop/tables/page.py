"""A table on its way in: what each of its columns was taken for, what would be made of it, and what stands against it."""

from __future__ import annotations

import re

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QColor, QFont
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLineEdit,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from yondle.app.session.importing import ImportTable, TableLook, look_at_table
from yondle.app.session.recording import Recorded
from yondle.app.session.tables import Column, Role, Shape, Sheet, Wish, Wishes, cell_name
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, button, clear, label, tip
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.theme import MARGIN, Theme, faded
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction

MOST_SHOWN = 200
"""Rows of a sheet that are shown; all of them are read."""
MOST_NAMED = 60
_IS, _CALLED, _UNIT, _ABOVE = 0, 1, 2, 3
_ROLES = tuple(Role)
_SHAPES = tuple(Shape)
_DECIMALS = ("", ".", ",")
_CELL = re.compile(r"\b([A-Z]{1,3})(\d{1,6})\b")


class TablePage(QWidget):
    """Shows a sheet with what was found out about it, takes corrections, and brings it in."""

    left = Signal()
    brought = Signal(object)

    def __init__(self, theme: Theme, book: OpenBook, sheets: tuple[Sheet, ...]) -> None:
        super().__init__()
        self.setObjectName("page")
        self._theme, self._book, self._sheets = theme, book, sheets
        self._sheet = sheets[0]
        self._wishes: dict[int, Wish] = {}
        self._units: dict[str, str] = {}
        self._lower: dict[str, bool] = {}
        self._stock: dict[str, str] = {}
        self._filling = False
        self.look: TableLook | None = None
        self._looks = QTimer(self)
        self._looks.setSingleShot(True)
        self._looks.timeout.connect(self.look_again)
        self._build()
        self.look_again()

    # -- building ------------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        box = stacked(self)
        box.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        top = abreast()
        top.addWidget(label(self._sheet.source or say("From the clipboard"), "title"))
        self.sheet_choice = Choice([sheet.name for sheet in self._sheets], say("Sheet"))
        self.sheet_choice.setVisible(len(self._sheets) > 1)
        self.sheet_choice.currentIndexChanged.connect(self._turn_to)
        top.addWidget(self.sheet_choice)
        top.addStretch(1)
        self.bring_button = button(say("Bring it in  Ctrl+\u23ce"), "main", say("Bring it in"))
        leave = button(say("Leave it  Esc"), "", say("Leave it"))
        self.bring_button.setShortcut("Ctrl+Return")
        leave.setShortcut("Esc")
        self.bring_button.clicked.connect(self.bring_in)
        leave.clicked.connect(self.left)
        top.addWidget(leave)
        top.addWidget(self.bring_button)
        box.addLayout(top)
        self.words = label("", "large", wrap=True)
        box.addWidget(self.words)
        how = abreast()
        self.shape = Choice([named(shape) for shape in _SHAPES], say("What a row is"))
        self.shape.currentIndexChanged.connect(self._again)
        self.decimal = Choice([say("as written"), say("a point"), say("a comma")], say("What stands before decimals"))
        self.decimal.currentIndexChanged.connect(self._again)
        self.benchmark, self.setting = QLineEdit(), QLineEdit()
        for field, name in ((self.benchmark, say("What was measured")), (self.setting, say("Columns are values of"))):
            field.setAccessibleName(name)
            field.setMaximumWidth(180)
            field.editingFinished.connect(self._again)
        self._setting_label = label(say("Columns are values of"), "muted")
        self._benchmark_label = label(say("What was measured"), "muted")
        shape, decimal = label(say("Laid out as"), "muted"), label(say("Decimals behind"), "muted")
        asked = (self._setting_label, self.setting, self._benchmark_label, self.benchmark)
        for each in (shape, self.shape, decimal, self.decimal, *asked):
            how.addWidget(each)
        how.addStretch(1)
        box.addLayout(how)
        self.trouble = label("", "warning", wrap=True)
        box.addWidget(self.trouble)
        self.table = QTableWidget()
        self.table.setAccessibleName(say("The table, with what its columns are"))
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.itemChanged.connect(self._typed)
        box.addWidget(self.table, 3)
        self._more = QWidget()
        self._more_grid = form_rows(self._more)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self._more)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setMaximumHeight(190)
        box.addWidget(area, 1)
        self.told = label("", "small", wrap=True)
        box.addWidget(self.told)

    # -- showing -------------------------------------------------------------------------------------------------------

    def _asked(self) -> Wishes:
        chosen = self.shape.currentIndex()
        told = self.shape.property("told")
        shape = _SHAPES[chosen] if told else None
        return Wishes(
            dict(self._wishes), shape, _DECIMALS[self.decimal.currentIndex()], None, self.benchmark.text().strip(),
            self.setting.text().strip(), dict(self._units), dict(self._lower),
        )  # fmt: skip

    def _again(self) -> None:
        if self._filling:
            return
        if self.sender() is self.shape:
            self.shape.setProperty("told", True)
        self._looks.start(0)

    def look_again(self) -> None:
        """Find out anew what the sheet would make, and show it."""
        look = self.look = look_at_table(self._book.now, self._sheet, self._asked(), self._stock)
        self._filling = True
        found, gathered = look.found, look.gathered
        self.shape.setCurrentIndex(_SHAPES.index(found.shape))
        across = found.shape is Shape.BY_BENCHMARK
        for widget in (self.setting, self._setting_label):
            widget.setVisible(across)
        unnamed = found.shape is Shape.BY_SETTING and any(c.head.only for c in found.of(Role.FIGURE))
        for widget in (self.benchmark, self._benchmark_label):
            widget.setVisible(unnamed or bool(self.benchmark.text()))
        self.words.setText(look.words if gathered.steps else say("Nothing would be made of it."))
        self.trouble.setText("\n".join(gathered.problems[:4]))
        self.trouble.setVisible(bool(gathered.problems))
        left = say("Left out: {left}.", left="; ".join(gathered.left)) if gathered.left else ""
        self.told.setText("\n".join(part for part in ("  ".join(gathered.told), left) if part))
        self.bring_button.setEnabled(look.may and bool(gathered.steps))
        self._fill_table(look)
        self._fill_more(look)
        self._filling = False

    def _fill_table(self, look: TableLook) -> None:
        found, sheet, table = look.found, self._sheet, self.table
        rows = sheet.rows[:MOST_SHOWN]
        table.setColumnCount(len(found.columns))
        table.setRowCount(_ABOVE + len(rows))
        table.setHorizontalHeaderLabels([cell_name(0, i).rstrip("1") for i in range(len(found.columns))])
        table.setVerticalHeaderLabels([say("is"), say("called"), say("unit"), *(str(i + 1) for i in range(len(rows)))])
        bad = {f"{letters}{number}" for words in look.gathered.problems for letters, number in _CELL.findall(words)}
        c = self._theme.colours
        for i, column in enumerate(found.columns):
            self._role(i, column)
            self._item(_CALLED, i, self._called(column), True)
            self._item(_UNIT, i, column.unit, True)
            faint = column.role is Role.LEFT
            for k, row in enumerate(rows):
                cell = row[i] if i < len(row) else None
                text = "" if cell is None else f"{cell:g}" if isinstance(cell, float) else str(cell)
                item = self._item(_ABOVE + k, i, text, False)
                head = k < found.head_rows
                item.setForeground(c.muted if faint or head else c.ink)
                font = QFont(item.font())
                font.setBold(head and not faint)
                item.setFont(font)
                wrong = cell_name(k, i) in bad
                item.setBackground(faded(c.verdicts[Verdict.DOWN], 0.25) if wrong else QColor(0, 0, 0, 0))
        table.resizeColumnsToContents()
        for i in range(table.columnCount()):
            table.setColumnWidth(i, min(max(table.columnWidth(i), 118), 240))

    @staticmethod
    def _called(column: Column) -> str:
        if column.role in (Role.LEFT, Role.BENCHMARK, Role.UNIT, Role.BETTER, Role.GROUP, Role.OUTCOME, Role.NOTE):
            return ""
        return column.part or column.value or column.name.strip()

    def _role(self, i: int, column: Column) -> None:
        box = self.table.cellWidget(_IS, i)
        if not isinstance(box, Choice):
            box = Choice(
                [named(role) for role in _ROLES], say("What column {column} is", column=cell_name(0, i).rstrip("1"))
            )
            box.activated.connect(lambda at, i=i: self._choose(i, _ROLES[at]))
            self.table.setCellWidget(_IS, i, box)
        box.setCurrentIndex(_ROLES.index(column.role))
        box.setToolTip(named(column.why))

    def _item(self, row: int, column: int, text: str, editable: bool) -> QTableWidgetItem:
        item = self.table.item(row, column)
        if item is None:
            item = QTableWidgetItem()
            self.table.setItem(row, column, item)
        if item.text() != text:
            item.setText(text)
            item.setToolTip(tip(text))
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        item.setFlags(flags | Qt.ItemFlag.ItemIsEditable if editable else flags)
        return item

    def _fill_more(self, look: TableLook) -> None:
        """Show every benchmark with its unit and direction, and the stock of what is new."""
        grid, gathered = self._more_grid, look.gathered
        clear(grid)
        measured = list(gathered.measured_in.items())[:MOST_NAMED]
        for k, (name, (unit, lower)) in enumerate(measured):
            row, column = k // 3, 3 * (k % 3)
            grid.addWidget(label(name, "strong"), row, column)
            grid.addWidget(self._field(unit, say("Unit of {name}", name=name), self._units, name), row, column + 1)
            way = Choice([named(each) for each in Direction], say("Which way is better for {name}", name=name))
            way.setCurrentIndex(1 if lower else 0)
            way.activated.connect(lambda chosen, n=name: self._turn(n, chosen == 1))
            grid.addWidget(way, row, column + 2)
        at = (len(measured) + 2) // 3
        stocks = {
            next((n for n, meant in gathered.names.items() if meant == id_), knob.name): (
                knob.choices[int(knob.stock)] if knob.choices else f"{knob.stock:g}"
            )
            for id_, knob in gathered.knobs.items()
        }
        stocks |= dict.fromkeys(gathered.asks_stock_of, "")
        for i, (name, stock) in enumerate(stocks.items(), at):
            asked = say("Stock of {knob}", knob=name)
            grid.addWidget(label(asked, "muted"), i, 0)
            grid.addWidget(self._field(stock, asked, self._stock, name), i, 1)
        grid.setColumnStretch(8, 1)

    def _field(self, text: str, name: str, into: dict[str, str], key: str) -> QLineEdit:
        field = QLineEdit(text)
        field.setAccessibleName(name)
        field.setMaximumWidth(110)
        field.setPlaceholderText(say("none"))

        def tell() -> None:
            if field.text().strip() != text:
                into[key] = field.text().strip()
                self._looks.start(0)

        field.editingFinished.connect(tell)
        return field

    # -- doing ---------------------------------------------------------------------------------------------------------

    def _turn_to(self, which: int) -> None:
        self._sheet = self._sheets[which]
        self._wishes.clear()
        self.shape.setProperty("told", False)
        self.table.clear()
        self.look_again()

    def _choose(self, i: int, role: Role) -> None:
        before = self._wishes.get(i, Wish())
        self._wishes[i] = Wish(role, before.name, before.unit, before.lower)
        self.look_again()

    def _typed(self, item: QTableWidgetItem) -> None:
        if self._filling or item.row() not in (_CALLED, _UNIT):
            return
        before = self._wishes.get(item.column(), Wish())
        name = item.text().strip() if item.row() == _CALLED else before.name
        unit = item.text().strip() if item.row() == _UNIT else before.unit
        self._wishes[item.column()] = Wish(before.role, name, unit, before.lower)
        self._looks.start(0)

    def _turn(self, benchmark: str, lower: bool) -> None:
        self._lower[benchmark] = lower
        self._looks.start(0)

    def bring_in(self) -> None:
        """Bring it in; what stands against it is shown."""
        self.bring_button.setEnabled(False)
        self._book.ask(ImportTable(self._sheet, self._asked(), dict(self._stock)), self._done, self._refused)

    def _done(self, made: Recorded) -> None:
        self.brought.emit(made)

    def _refused(self, error: KnownError) -> None:
        self.trouble.setText(f"{error.problem} {error.remedy}")
        self.trouble.show()
        self.bring_button.setEnabled(True)
