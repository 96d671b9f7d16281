"""Compare: steps, profiles, samples and rigs side by side, in figures, along one knob, and by what they cost."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFileDialog, QMenu, QSplitter, QWidget

from yondle.app.books.columns import AddReference, CompareThese, Shelf, books_nearby, compared, offers
from yondle.app.machine.typed import figure
from yondle.desktop.charts.beside import StepLinks
from yondle.desktop.charts.chart_place import ChartPlace, ShownChart
from yondle.desktop.compare.charts import CompareCharts
from yondle.desktop.compare.column_list import ColumnList
from yondle.desktop.compare.reference import ReferenceCard
from yondle.desktop.compare.table import CompareTable
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, Eliding, button, clear, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.side import Side
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.tables.writing import OutTable
from yondle.views.compare.compare import CompareView, best_first, compare_in_pieces
from yondle.views.compare.efficiency import battery_of
from yondle.views.kept import ViewCache
from yondle.views.out import compare_table

_SIDE_WIDTH = 300
LEGEND = later(
    "dot and line: gain with its 95 % range, all columns of a row together; grey: within noise · "
    "№: the places its passes leave open"
)
_LIST_HEIGHT = 200
_TABLE_SHARE = 0.56
NOTHING = later(
    "Nothing is measured yet.\nRun the baseline in Tune first; then steps, profiles and other "
    "logbooks stand side by side here."
)


class ComparePlace(ChartPlace):
    """The Compare place for one logbook."""

    sketch = "compare"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        super().__init__(theme, book, say("Compare"), named(NOTHING), self._shown)
        self._views = views
        self._shelf = Shelf(lambda: book.now)
        self._addresses: tuple[str, ...] = ()
        self._against = 0
        self._moved = False
        self._battery: float | None = None
        self.view: CompareView | None = None
        self.table = CompareTable(theme)
        self.table.against_wanted.connect(self.compare_with)
        self.against = Choice([], say("Compared with"))
        self.against.setMinimumContentsLength(20)
        self.against.activated.connect(self.compare_with)
        self.best_button = button(say("Best first"), "", say("Order the columns by their mean, best first"))
        self.best_button.clicked.connect(self.order_columns)
        self.list = ColumnList(self._read)
        self.list.chosen.connect(self.choose)
        self.list.setMinimumHeight(_LIST_HEIGHT)
        self.add_book = button(say("Logbook …"), "flat", say("Read another logbook"))
        self.add_book.clicked.connect(self._ask_for_book)
        self.add_reference = button(say("Reference …"), "flat", say("Type in a reference"))
        self.add_reference.clicked.connect(self._ask_for_reference)
        self.charts = CompareCharts(theme)
        self.charts.told.connect(self._tell_chart)
        self.table.currentItemChanged.connect(lambda *_: self._show_charts())
        self._chart_says, self._chart_lines = label("", "strong", wrap=True), label("", "", wrap=True)
        self._chart_steps = StepLinks(self.wants_step.emit)
        self.charts.drawn.connect(self.renew_table)
        self._says = label("", "title", wrap=True)
        self._caveats = label("", "warning", wrap=True)
        self._lay_out()
        self.add_action("best", say("order the columns by their mean"), "O", self.order_columns)
        self.add_action("book", say("read another logbook …"), "Ctrl+B", self._ask_for_book)
        self.add_action("reference", say("type in a reference …"), "Ctrl+T", self._ask_for_reference)

    def pieces(self) -> Iterator[None]:
        """Work out everything again."""
        if not self._addresses:
            self._addresses = compared(self._book.now)
        yield from self._showing()

    def compare_with(self, place: int) -> None:
        """Tell all gains over another column."""
        if self.view is not None and 0 <= place < len(self.view.columns):
            self._against = place
            self._show()

    def order_columns(self) -> None:
        """Put the column compared with first, and the others by their means."""
        if self.view is None or not self.view.columns:
            return
        self._addresses = tuple(self.view.columns[i].address for i in best_first(self.view))
        self._against = 0
        self.ask(CompareThese(self._addresses))
        self._show()

    def compare_steps(self, steps: tuple[int, ...]) -> None:
        """Put these steps side by side, and nothing else."""
        self.ask(CompareThese(tuple(map(str, steps))))
        self._addresses, self._against = tuple(map(str, steps)), 0
        self._show()

    def read(self, path: Path) -> None:
        """Read another logbook, and put its stock beside the columns; raises KnownError."""
        book = self._shelf.book(path.resolve())
        if book.baseline_step is not None:
            self.choose(f"{path.resolve()}#stock", True)
        else:
            self._show()

    def out_table(self) -> OutTable | None:
        """Give the comparison with gains beside the figures; other charts have their own lines."""
        shows = self.view is not None and self._shown_chart() is self.table
        return compare_table(self.view) if shows and self.view is not None else None

    def caption(self) -> str:
        """Say what the chart shows."""
        return f"{self._book.now.declaration.info.name}: {self.view.sentence}" if self.view is not None else ""

    # -- showing -------------------------------------------------------------------------------------------------------

    def _show(self) -> None:
        self._turns.finish()
        for _ in self._showing():
            pass

    def _showing(self) -> Iterator[None]:
        """Show the table, then the charts of its current row."""
        columns, missing = self._shelf.columns(self._addresses)
        read = {book.path.resolve() for book in self._shelf.books} | {self._book.now.path.resolve()}
        near = dict.fromkeys((*self._book.beside(), *books_nearby(self._book.now)))
        unread = tuple(path for path in near if path.resolve() not in read)
        self.list.show_offers(offers(self._book.now, self._shelf.books), self._addresses, unread)
        view = self.view = yield from compare_in_pieces(columns, self._against)
        self._against = view.against
        self.against.clear()
        self.against.addItems([say("against {column}", column=column.name) for column in columns])
        self.against.setCurrentIndex(view.against)
        self.against.setEnabled(len(columns) > 1)
        try:
            self._battery = battery_of(self._book.now.conditions)
        except KnownError as error:
            self._battery = None
            missing = (*missing, error)
        self.table.show_view(view)
        self._says.setText(view.sentence)
        words = [*view.caveats, *(f"{e.problem} {e.remedy}" for e in missing)]
        words += [f"{row.benchmark.name}: {row.caveat}." for row in view.rows if row.caveat]
        self._caveats.setText("\n".join(words))
        self._caveats.setVisible(bool(words))
        self.show_whole(bool(self._book.now.steps))
        yield
        self.charts.make()
        yield
        self._show_charts()

    def _show_charts(self) -> None:
        """Show the benchmark of the current row below; the first one without."""
        rows = self.view.rows if self.view is not None else ()
        if not rows:
            self.charts.hide()
            return
        row = self.table.row or rows[0]
        books = self._shelf.with_settings(self._views.settings, self._addresses)
        self.charts.show_benchmark(books, row.benchmark, self._battery)
        self.charts.show()
        self._share_height()

    def _share_height(self) -> None:
        """Give the table what it takes, up to a share of the height, until the tuner shares it otherwise."""
        if not self._moved:
            whole = self._split.height()
            wanted = min(self.table.sizeHint().height(), int(_TABLE_SHARE * whole))
            self._split.setSizes([wanted, whole - wanted])

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Share the height anew."""
        super().resizeEvent(event)
        QTimer.singleShot(0, self, self._share_height)

    def _tell_chart(self, sentence: str, lines: list[str], steps: tuple[int, ...]) -> None:
        self._chart_says.setText(sentence)
        self._chart_lines.setText("\n".join(lines))
        self._chart_steps.show_steps(steps)

    def _shown(self) -> ShownChart | None:
        """The chart that has the focus, else the table."""
        chart = self.charts.chart
        if chart is not None and chart.hasFocus():
            return chart
        return self.table if self.view is not None and self.view.rows else None

    def shown_for_table(self) -> ShownChart | None:
        """Give the chart below: the table above has its figures in sight."""
        return self.charts.chart

    # -- doing ---------------------------------------------------------------------------------------------------------

    def choose(self, address: str, wanted: bool) -> None:
        """Make something a column, or no longer."""
        self.refresh()
        without = tuple(a for a in self._addresses if a != address)
        chosen = (*without, address) if wanted else without

        def kept(_: None) -> None:
            self._addresses = chosen

        self.ask(CompareThese(chosen), kept)
        self._show()

    def _read(self, path: Path) -> None:
        self._shelf.book(path)
        self._show()

    def _ask_for_book(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, say("Read another logbook"), "", say("Logbooks (*.yondle)"))
        if name:
            self._change(lambda: self.read(Path(name)))

    def _ask_for_reference(self) -> None:
        clear(self._cards)
        benchmarks = [(b.id, f"{b.name}, {b.metric.unit}") for b in self._book.now.declaration.benchmarks]
        card = ReferenceCard(self._theme, benchmarks, lambda: clear(self._cards))
        card.told.connect(self._keep_reference)
        self._cards.addWidget(card)
        card.name.setFocus()
        QTimer.singleShot(0, self, lambda: self._panel.ensureWidgetVisible(card))

    def _keep_reference(self, name: str, benchmark: str, scores: str) -> None:
        def kept(_: None) -> None:
            clear(self._cards)
            self.choose(name.strip(), True)

        try:
            figures = tuple(figure(each) for each in scores.split())
        except KnownError as error:
            self.say_trouble(error)
        else:
            self.ask(AddReference(name, benchmark, figures), kept)

    def offer_under(self, menu: QMenu, under: QWidget | None, at: QPoint) -> None:
        """Offer what can be done with the column under the pointer."""
        columns = self.view.columns if self.view is not None else ()
        place = self.table.columnAt(self.table.viewport().mapFromGlobal(at).x()) - 1
        inside = under in (self.table.viewport(), self.table.header().viewport())
        if not inside or not 0 <= place < len(columns):
            return
        column = columns[place]
        compare = menu.addAction(say("Compare with {column}", column=column.name))
        compare.triggered.connect(lambda _=False: self.compare_with(place))
        out = menu.addAction(say("Take {column} out", column=column.name))
        out.triggered.connect(lambda _=False: self.choose(column.address, False))
        for name in ("best", "book", "reference"):
            menu.addAction(self.actions_by_name[name])

    # -- building ------------------------------------------------------------------------------------------------------

    def _lay_out(self) -> None:
        head = abreast()
        head.addWidget(self.against)
        head.addWidget(self.best_button)
        head.addWidget(Eliding(named(LEGEND), "small", right=True), 1)
        self._split = split = QSplitter(Qt.Orientation.Vertical)
        split.setChildrenCollapsible(False)
        split.addWidget(self.table)
        split.addWidget(self.with_table(self.charts))
        split.splitterMoved.connect(lambda *_: setattr(self, "_moved", True))
        self.put_together(head, split, self._side())

    def _side(self) -> QWidget:
        self._panel = side = Side(_SIDE_WIDTH, say("What it says"))
        side.heading(say("What it says"))
        side.box.addWidget(self._says)
        side.box.addWidget(self._caveats)
        side.box.addWidget(self._chart_says)
        side.box.addWidget(self._chart_lines)
        side.box.addWidget(self._chart_steps)
        row = abreast()
        row.addWidget(label(say("Columns"), "heading"))
        row.addStretch(1)
        row.addWidget(self.add_book)
        row.addWidget(self.add_reference)
        side.box.addLayout(row)
        self._cards = stacked()
        side.box.addLayout(self._cards)
        side.box.addWidget(self.list, 1)
        return side
