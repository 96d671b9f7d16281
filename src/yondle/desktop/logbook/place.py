"""Logbook: every test, pass, incident, note, figure and file in one table, searched, filtered, and written about."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeVar

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog, QLineEdit, QMenu, QWidget

from yondle.app.books.export import logbook_text, merge, passes_csv, share, write
from yondle.app.books.reading import read_book
from yondle.app.session.commands import Command
from yondle.app.session.remarks import (
    AttachFile,
    DetachFile,
    DiscardFigure,
    DiscardPass,
    DropNote,
    EditNote,
    WriteNote,
    save_attachment,
)
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.logbook.log_table import COLUMNS, LogTable
from yondle.desktop.logbook.row_panel import RowPanel
from yondle.desktop.look.basics import Choice, Eliding, button, clearable, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say
from yondle.model.quantities import count, number
from yondle.model.verdicts import Verdict
from yondle.tables.writing import OutTable
from yondle.views.kept import ViewCache
from yondle.views.out import log_table
from yondle.views.record.log import Filter, Kind, LogRow, LogRows, book_title, matching, pass_facts
from yondle.views.shared.snapshot import Snapshot

_SEARCH_AFTER_MS = 120
T = TypeVar("T")
NOTHING = later(
    "Nothing is written yet.\nMeasure the baseline in Tune: every test, pass and note stands here from then on."
)
NO_MATCH = later("Nothing in the logbook is like this. Take a word out of the search, or widen the filter.")
_KINDS: tuple[tuple[str, frozenset[Kind]], ...] = (
    (later("everything"), frozenset()),
    (later("tests"), frozenset({Kind.TEST})),
    (later("passes"), frozenset({Kind.PASS})),
    (later("incidents"), frozenset({Kind.INCIDENT})),
    (later("notes and caveats"), frozenset({Kind.NOTE, Kind.CAVEAT})),
    (later("figures from elsewhere"), frozenset({Kind.FIGURE})),
    (later("files"), frozenset({Kind.FILE})),
)
_COUNTED = (
    (later("whether they count or not"), None),
    (later("that count"), True),
    (later("left out of figures"), False),
)
ANY_BENCHMARK, ANY_VERDICT = later("any benchmark"), later("any verdict")


class LogbookPlace(ChartPlace):
    """Everything that happened, found by words, kinds and days, in this logbook and in others beside it."""

    sketch = "logbook"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        self.table = LogTable(theme)
        super().__init__(theme, book, say("Logbook"), named(NOTHING), lambda: self.table)
        self._rows_of = LogRows()
        self._others: list[Snapshot] = []
        self._all: list[LogRow] = []
        self._row: LogRow | None = None
        self.search = QLineEdit()
        self.search.setPlaceholderText(say("Search everything written"))
        self.search.setAccessibleName(say("Search"))
        clearable(self.search)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SEARCH_AFTER_MS)
        self._later.timeout.connect(self._filter)
        self.search.textChanged.connect(lambda: self._later.start())
        self.kinds = Choice([named(words) for words, _ in _KINDS], say("What is shown"))
        self.kinds.setMinimumContentsLength(18)
        self.benchmark = Choice([named(ANY_BENCHMARK)], say("Of which benchmark"))
        self.benchmark.setMinimumContentsLength(14)
        self.verdict = Choice([named(ANY_VERDICT), *(named(v) for v in Verdict)], say("With which verdict"))
        self.counted = Choice([named(words) for words, _ in _COUNTED], say("Whether they count"))
        self.counted.setMinimumContentsLength(20)
        for box in (self.kinds, self.benchmark, self.verdict, self.counted):
            box.activated.connect(self._filter)
        self.sentence = Eliding("", "small")
        self._none = label(named(NO_MATCH), "muted", wrap=True)
        self._none.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.table.chosen.connect(self.show_row)
        self.table.opened.connect(lambda row: self._go_to_step())
        self.panel = RowPanel()
        self.undo_button = button(say("Undo"), "flat")
        book.undo.changed.connect(self._show_undo)
        self._connect()
        self._lay_out()
        self._show_undo()  # once it has its place: shown without one it would be a window of its own
        for name, text, keys, do in (
            ("search", say("search"), "Ctrl+F", self.search.setFocus),
            ("step", say("show the step in Tune (Return in the table)"), "", self._go_to_step),
            ("trace", say("show the trace"), "T", self._go_to_trace),
            ("discard", say("discard the pass, or count it again"), "Delete", self._discard),
            ("attach", say("attach a file to the step …"), "Ctrl+Shift+A", self._ask_for_file),
            ("result", say("type in a figure measured at the step …"), "R", self._go_to_figure),
            ("undo", say("undo the last change"), "Ctrl+Z", self.undo),
            ("merge", say("make one of this logbook and another …"), "", self._ask_to_merge),
            ("export", say("export everything as JSON, or every pass as CSV …"), "Ctrl+E", self._ask_to_export),
            ("share", say("make a copy to give away, without what is private …"), "", self._ask_to_share),
            ("columns", say("choose the columns"), "", self._offer_columns),
            ("book", say("show another logbook, too …"), "", self._ask_for_book),
        ):
            self.add_action(name, text, keys, do)

    # -- what is shown -------------------------------------------------------------------------------------------------

    def pieces(self) -> Iterator[None]:
        """Gather the rows again."""
        books: list[tuple[str, Snapshot]] = [(book_title(self._book.now), self._book.now)]
        books += [(book_title(other), other) for other in self._others]
        self._all = yield from self._rows_of.in_pieces(books)
        yield
        names = [b.name for b in self._book.now.declaration.workloads if any(r.benchmark == b.name for r in self._all)]
        if [self.benchmark.itemText(i) for i in range(1, self.benchmark.count())] != names:
            before = self.benchmark.currentText()
            self.benchmark.clear()
            self.benchmark.addItems([named(ANY_BENCHMARK), *names])
            self.benchmark.setCurrentText(before if before in names else named(ANY_BENCHMARK))
        self.table.show_column(1, len(books) > 1)
        self._filter()
        self.show_whole(bool(self._all))

    def out_table(self) -> OutTable | None:
        """Give the rows shown."""
        return log_table(self.table.model_.rows)

    def caption(self) -> str:
        """Say what the table shows."""
        return f"{self._book.now.declaration.info.name}: {self.sentence.text()}"

    @property
    def wanted(self) -> Filter:
        """What is to be shown."""
        benchmark, verdict = self.benchmark.currentText(), self.verdict.currentText()
        return Filter(
            self.search.text(),
            _KINDS[self.kinds.currentIndex()][1],
            "" if benchmark == named(ANY_BENCHMARK) else benchmark,
            None if verdict == named(ANY_VERDICT) else tuple(Verdict)[self.verdict.currentIndex() - 1],
            _COUNTED[self.counted.currentIndex()][1],
        )

    def show_only(self, kinds: int, words: str = "") -> None:
        """Show one kind of rows, by its place in the list, and search for words."""
        self.kinds.setCurrentIndex(kinds)
        self.search.setText(words)
        self._filter()

    def _filter(self) -> None:
        rows = matching(self._all, self.wanted)
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows))
        self._none.setVisible(not rows)
        self.sentence.set_text(
            say(
                "{sentence}: {rows} of {all} rows",
                sentence=self.wanted.sentence,
                rows=number(len(rows)),
                all=number(len(self._all)),
            )
        )
        before = self._row
        kept = next((r for r in rows if before is not None and _same(r, before)), None)
        if kept is None and rows:
            self.table.selectRow(0)
        self.show_row(kept or (rows[0] if rows else None))

    def read(self, path: Path) -> None:
        """Show another logbook, too; it is only read."""
        book = read_book(path)
        self._others = [b for b in self._others if b.path != path] + [book]
        self._seen = -1
        self.refresh()

    def _ask_for_book(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, say("Another logbook"), "", say("Logbooks (*.yondle)"))
        if name:
            self._change(lambda: self.read(Path(name)))

    def merge(self, other: Path, into: Path) -> None:
        """Make a third logbook of this one and another; both stay as they are."""
        steps = merge(self._book.now.path, other, into)
        self.sentence.set_text(
            say("{into} holds {steps} of both; open it with Ctrl+O", into=into.name, steps=count(steps, "step"))
        )

    def _ask_to_merge(self) -> None:
        kinds = say("Logbooks (*.yondle)")
        other, _ = QFileDialog.getOpenFileName(self, say("The other logbook"), "", kinds)
        into, _ = (
            QFileDialog.getSaveFileName(self, say("The logbook to make"), "both.yondle", kinds) if other else ("", "")
        )
        if into:
            self._change(lambda: self.merge(Path(other), Path(into)))

    def export(self, path: Path) -> None:
        """Write the whole logbook as JSON, or its passes as CSV, as the name ends."""
        write(path, passes_csv(self._book.now) if path.suffix.lower() == ".csv" else logbook_text(self._book.now))
        self.sentence.set_text(say("{path} is written", path=path.name))

    def share(self, path: Path) -> None:
        """Make a copy without serial numbers, host and user names, and files."""
        share(self._book.now, path)
        self.sentence.set_text(say("{path} is made; look through it before you give it away", path=path.name))

    def _ask_to_export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, say("Export"), "logbook.json", say("Everything (*.json);;Passes (*.csv)")
        )
        if name:
            self._change(lambda: self.export(Path(name)))

    def _ask_to_share(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, say("A copy to give away"), "shared.yondle", say("Logbooks (*.yondle)")
        )
        if name:
            self._change(lambda: self.share(Path(name)))

    def _offer_columns(self) -> None:
        menu = QMenu(self)
        menu.setAccessibleName(say("Columns shown"))
        for i, column in enumerate(COLUMNS):
            entry = QAction(named(column.head), menu)
            entry.setCheckable(True)
            entry.setChecked(not self.table.isColumnHidden(i))
            entry.toggled.connect(lambda on, i=i: self.table.show_column(i, on))
            menu.addAction(entry)
        menu.popup(self._columns_button.mapToGlobal(self._columns_button.rect().bottomLeft()))

    # -- one row -------------------------------------------------------------------------------------------------------

    def show_row(self, row: LogRow | None) -> None:
        """Show a row in full, with what can be written about it."""
        self._row = row
        own = row is not None and self._own(row)
        facts: tuple[tuple[str, str], ...] = ()
        if row is not None and own and row.kind is Kind.PASS:
            facts = pass_facts(self._book.now.declaration, self._book.now.step(row.step), row)
        self.panel.show_row(row, own, facts)

    def _own(self, row: LogRow) -> bool:
        return row.book == book_title(self._book.now)

    def undo(self) -> None:
        """Take the last change back."""
        self._book.undo.take_back(self._changed, self.say_trouble)

    def _do(self, what: str, command: Command[T], back: Callable[[T], Command[Any]]) -> None:
        """Change something; `back` makes of what came of it the command that takes it back."""

        def done(result: T) -> None:
            self._book.undo.remember(what, back(result))
            self._changed()

        self.ask(command, done)

    def _changed(self) -> None:
        self.wrote.emit()
        self.refresh()

    def _show_undo(self) -> None:
        what = self._book.undo.what
        self.undo_button.setVisible(bool(what))
        self.undo_button.setText(say("Undo: {undo}", undo=what))

    def _discard(self) -> None:
        row = self._row
        if row is None or not self.panel.discard_button.isVisible():
            return
        reason = "" if row.discarded else self.panel.reason.text()
        if not row.discarded and not reason.strip():
            self.trouble.setText(say("Say why the pass is discarded: the reason stays with it."))
            self.trouble.show()
            self.panel.reason.setFocus()
            return

        def put(words: str) -> Command[str]:
            if row.kind is Kind.PASS:
                return DiscardPass(row.step, row.attempt, row.item, words)
            return DiscardFigure(row.step, row.item, words)

        self._do(say("count it again") if row.discarded else say("discard"), put(reason), put)
        self.panel.reason.clear()

    def _keep_note(self) -> None:
        row = self._row
        if row is None:
            return
        step, text, caveat = row.step, self.panel.note.toPlainText(), self.panel.caveat.isChecked()
        if row.kind in (Kind.NOTE, Kind.CAVEAT):
            edit = EditNote(step, row.item, text, caveat)
            self._do(say("note"), edit, lambda before: EditNote(step, row.item, before.text, before.caveat))
        else:
            self._do(say("note"), WriteNote(step, text, caveat), lambda made: DropNote(step, made.id))

    def _drop_note(self) -> None:
        row = self._row
        if row is None:
            return

        self._row = None
        step = row.step
        drop = DropNote(step, row.item)
        self._do(say("take the note out"), drop, lambda before: WriteNote(step, before.text, before.caveat))

    def _ask_for_file(self) -> None:
        row = self._row
        if row is None or not self._own(row):
            return
        name, _ = QFileDialog.getOpenFileName(self, say("A picture or file for step {step}", step=row.step))
        if name:
            self.attach(row.step, Path(name))

    def attach(self, step: int, path: Path) -> None:
        """Keep a file at a step."""
        self._do(say("attach"), AttachFile(step, path), lambda made: DetachFile(step, made.id))

    def _save_file(self) -> None:
        row = self._row
        record = self._book.now.step(row.step) if row is not None else None
        file = next((f for f in record.attached if row is not None and f.id == row.item), None) if record else None
        if file is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, say("Save the file"), Path(file.name).name)
        if name:
            self._change(lambda: save_attachment(self._book.now, file, Path(name)))

    def _detach(self) -> None:
        row = self._row
        if row is not None:
            self._row = None
            self.ask(DetachFile(row.step, row.item), lambda _: self._changed())

    def _go_to_step(self) -> None:
        if self._row is not None and self._own(self._row):
            self.wants_step.emit(self._row.step)

    def _go_to_trace(self) -> None:
        if self._row is not None and self._own(self._row) and self._row.attempt:
            self.wants_trace.emit(self._row.attempt)

    def _go_to_figure(self) -> None:
        if self._row is not None and self._own(self._row):
            self.wants_figure.emit(self._row.step)

    def offer_under(self, menu: QMenu, under: QWidget | None, at: QPoint) -> None:
        """Offer what can be done with the row under the pointer."""
        index = self.table.indexAt(self.table.viewport().mapFromGlobal(at))
        if under is not self.table.viewport() or not index.isValid():
            return
        self.table.selectRow(index.row())
        for name in ("step", "trace", "discard", "attach", "result"):
            menu.addAction(self.actions_by_name[name])

    # -- building ------------------------------------------------------------------------------------------------------

    def _connect(self) -> None:
        panel = self.panel
        panel.reason.returnPressed.connect(self._discard)
        for made, do in (
            (panel.step_button, self._go_to_step), (panel.trace_button, self._go_to_trace), (panel.discard_button, self._discard),
            (panel.keep_button, self._keep_note), (panel.drop_button, self._drop_note), (panel.attach_button, self._ask_for_file),
            (panel.figure_button, self._go_to_figure),
            (panel.save_button, self._save_file), (panel.detach_button, self._detach), (self.undo_button, self.undo),
        ):  # fmt: skip
            made.clicked.connect(lambda _=False, do=do: do())

    def _lay_out(self) -> None:
        head = abreast()
        head.addWidget(self.search, 2)
        for words, box in (
            (say("Show"), self.kinds),
            (say("of"), self.benchmark),
            (say("with"), self.verdict),
            ("", self.counted),
        ):
            if words:
                head.addWidget(label(words, "muted"))
            head.addWidget(box)
        self._columns_button = button(say("Columns …"), "flat")
        self._columns_button.clicked.connect(self._offer_columns)
        self._book_button = button(say("Another logbook …"), "flat", say("Show another logbook, too"))
        self._book_button.clicked.connect(self._ask_for_book)
        under = abreast()
        under.addWidget(self.sentence, 1)
        under.addWidget(self.undo_button)
        under.addWidget(self._book_button)
        under.addWidget(self._columns_button)
        left = stacked(gap=4)
        left.addLayout(under)
        left.addWidget(self.table, 1)
        left.addWidget(self._none, 1)
        self._none.hide()
        self.put_together(head, left, self.panel)


def _same(one: LogRow, other: LogRow) -> bool:
    kinds = {one.kind, other.kind}
    alike = one.kind == other.kind or kinds == {Kind.NOTE, Kind.CAVEAT}
    return alike and (one.book, one.step, one.attempt, one.item) == (other.book, other.step, other.attempt, other.item)
