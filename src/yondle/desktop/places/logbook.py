"""Logbook: every test, pass, incident, note, figure and file in one table, searched, filtered, and written about."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from yondle.app.field_books import ReadBook, read_book
from yondle.app.remarks import (
    attach,
    detach,
    discard_pass,
    discard_result,
    drop_note,
    edit_note,
    save_attachment,
    write_note,
)
from yondle.app.session import Session
from yondle.app.views.log import Filter, Kind, LogRow, LogRows, book_title, matching, pass_facts, when_words
from yondle.app.views.measured import FieldBook
from yondle.desktop.places.chart_place import ChartPlace
from yondle.desktop.theme import MARGIN, Theme
from yondle.desktop.widgets.basics import Choice, Eliding, button, label
from yondle.desktop.widgets.log_table import COLUMNS, LogTable
from yondle.desktop.widgets.side import Side
from yondle.model.quantities import number
from yondle.model.verdicts import Verdict

_SIDE_WIDTH = 320
_SEARCH_AFTER_MS = 120
NOTHING = "Nothing is written yet.\nMeasure the baseline in Tune: every test, pass and note stands here from then on."
NO_MATCH = "Nothing in the logbook is like this. Take a word out of the search, or widen the filter."
_KINDS: tuple[tuple[str, frozenset[Kind]], ...] = (
    ("everything", frozenset()),
    ("tests", frozenset({Kind.TEST})),
    ("passes", frozenset({Kind.PASS})),
    ("incidents", frozenset({Kind.INCIDENT})),
    ("notes and caveats", frozenset({Kind.NOTE, Kind.CAVEAT})),
    ("figures from elsewhere", frozenset({Kind.FIGURE})),
    ("files", frozenset({Kind.FILE})),
)
_COUNTED = (("whether they count or not", None), ("that count", True), ("left out of figures", False))
ANY_BENCHMARK, ANY_VERDICT = "any benchmark", "any verdict"


class LogbookPlace(ChartPlace):
    """The Logbook place. `wants_step` and `wants_trace` are sent with a step's number and an attempt."""

    wants_step = Signal(int)
    wants_trace = Signal(int)

    def __init__(self, theme: Theme, session: Session) -> None:
        self.table = LogTable(theme)
        super().__init__(theme, "Logbook", NOTHING, lambda: self.table)
        self._session = session
        self._rows_of = LogRows()
        self._others: list[ReadBook] = []
        self._all: list[LogRow] = []
        self._seen = -1
        self._row: LogRow | None = None
        self._undo: list[tuple[str, Callable[[], object]]] = []
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search everything written")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SEARCH_AFTER_MS)
        self._later.timeout.connect(self._filter)
        self.search.textChanged.connect(lambda: self._later.start())
        self.kinds = Choice([words for words, _ in _KINDS], "What is shown")
        self.kinds.setMinimumContentsLength(18)
        self.benchmark = Choice([ANY_BENCHMARK], "Of which benchmark")
        self.benchmark.setMinimumContentsLength(14)
        self.verdict = Choice([ANY_VERDICT, *(str(v) for v in Verdict)], "With which verdict")
        self.counted = Choice([words for words, _ in _COUNTED], "Whether they count")
        self.counted.setMinimumContentsLength(20)
        for box in (self.kinds, self.benchmark, self.verdict, self.counted):
            box.activated.connect(self._filter)
        self.sentence = Eliding("", "small")
        self._none = label(NO_MATCH, "muted", wrap=True)
        self._none.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.table.chosen.connect(self.show_row)
        self.table.opened.connect(lambda row: self._go_to_step())
        self._make_side()
        self._lay_out()
        for name, text, keys, do in (
            ("search", "search", "Ctrl+F", self.search.setFocus),
            ("step", "show the step in Tune", "Return", self._go_to_step),
            ("trace", "show the trace", "T", self._go_to_trace),
            ("discard", "discard the pass, or count it again", "Delete", self._discard),
            ("attach", "attach a file to the step …", "Ctrl+Shift+A", self._ask_for_file),
            ("undo", "undo the last change", "Ctrl+Z", self.undo),
            ("columns", "choose the columns", "", self._offer_columns),
            ("book", "show another field book, too …", "", self._ask_for_book),
        ):
            self.add_action(name, text, keys, do)

    # -- what is shown -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Gather the rows again if anything has changed since."""
        if self._seen == self._session.version:
            return
        self._seen = self._session.version
        books: list[tuple[str, FieldBook]] = [(book_title(self._session), self._session)]
        books += [(book_title(other), other) for other in self._others]
        self._all = self._rows_of.rows(books)
        names = [b.name for b in self._session.declaration.workloads if any(r.benchmark == b.name for r in self._all)]
        if [self.benchmark.itemText(i) for i in range(1, self.benchmark.count())] != names:
            before = self.benchmark.currentText()
            self.benchmark.clear()
            self.benchmark.addItems([ANY_BENCHMARK, *names])
            self.benchmark.setCurrentText(before if before in names else ANY_BENCHMARK)
        self.table.show_column(1, len(books) > 1)
        self._filter()
        self.show_whole(bool(self._all))

    def caption(self) -> str:
        """Say what the table shows."""
        return f"{self._session.declaration.info.name}: {self.sentence.text()}"

    @property
    def wanted(self) -> Filter:
        """What is to be shown."""
        benchmark, verdict = self.benchmark.currentText(), self.verdict.currentText()
        return Filter(
            self.search.text(),
            _KINDS[self.kinds.currentIndex()][1],
            "" if benchmark == ANY_BENCHMARK else benchmark,
            None if verdict == ANY_VERDICT else Verdict(verdict),
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
        self.sentence.set_text(f"{self.wanted.sentence}: {number(len(rows))} of {number(len(self._all))} rows")
        if self._row is not None:
            self.show_row(next((r for r in self._all if _same(r, self._row)), None))
        elif rows:
            self.table.selectRow(0)

    def read(self, path: Path) -> None:
        """Show another field book, too; it is only read."""
        book = read_book(path)
        self._others = [b for b in self._others if b.path != path] + [book]
        self._seen = -1
        self.refresh()

    def _ask_for_book(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Another field book", "", "Field books (*.yondle)")
        if name:
            self._change(lambda: self.read(Path(name)))

    def _offer_columns(self) -> None:
        menu = QMenu(self)
        menu.setAccessibleName("Columns shown")
        for i, column in enumerate(COLUMNS):
            entry = QAction(column.head, menu)
            entry.setCheckable(True)
            entry.setChecked(not self.table.isColumnHidden(i))
            entry.toggled.connect(lambda on, i=i: self.table.show_column(i, on))
            menu.addAction(entry)
        menu.popup(self._columns_button.mapToGlobal(self._columns_button.rect().bottomLeft()))

    # -- one row -------------------------------------------------------------------------------------------------------

    def show_row(self, row: LogRow | None) -> None:
        """Show a row in full, with what can be written about it."""
        self._row = row
        for part in (self._about, self._told, self._names, self._figures, self._buttons, self._remarks):
            part.setVisible(row is not None)
        if row is None:
            self._what.setText("Choose a row.")
            return
        own = self._own(row)
        self._what.setText(row.what)
        self._about.setText(
            f"{row.kind} at step {row.step}, {when_words(row.at)}" + ("" if own else f", in {row.book}")
        )
        self._told.setText(f"Left out of figures: {row.left_out}" if row.left_out else row.told)
        facts = (
            pass_facts(self._session.declaration, self._session.step(row.step), row)
            if own and row.kind is Kind.PASS
            else ()
        )
        self._names.setText("\n".join(name for name, _ in facts))
        self._figures.setText("\n".join(words for _, words in facts))
        self._remarks.setVisible(own)
        self.step_button.setEnabled(own)
        self.trace_button.setVisible(own and bool(row.attempt))
        can_discard = own and (row.discarded or (row.kind in (Kind.PASS, Kind.FIGURE) and not row.left_out))
        self.reason.setVisible(bool(can_discard) and not row.discarded)
        self.discard_button.setVisible(bool(can_discard))
        self.discard_button.setText("Count it again" if row.discarded else "Discard it")
        note = own and row.kind in (Kind.NOTE, Kind.CAVEAT)
        self.note.setPlainText(row.what if note else "")
        self.caveat.setChecked(row.kind is Kind.CAVEAT)
        self.keep_button.setText("Keep the change" if note else f"Keep at step {row.step}")
        self.drop_button.setVisible(note)
        self.save_button.setVisible(own and row.kind is Kind.FILE)
        self.detach_button.setVisible(own and row.kind is Kind.FILE)

    def _own(self, row: LogRow) -> bool:
        return row.book == book_title(self._session)

    def undo(self) -> None:
        """Take the last change back."""
        if self._undo:
            _, take_back = self._undo.pop()
            self._change(take_back)
            self._changed()

    def _do(self, what: str, do: Callable[[], Callable[[], object]]) -> None:
        """Change something; `do` gives what takes it back. Where it can't be done it is said in place."""

        def change() -> None:
            self._undo.append((what, do()))

        self._change(change)
        self._changed()

    def _changed(self) -> None:
        self.undo_button.setVisible(bool(self._undo))
        if self._undo:
            self.undo_button.setText(f"Undo: {self._undo[-1][0]}")
        self.refresh()

    def _discard(self) -> None:
        row = self._row
        if row is None or not self.discard_button.isVisible():
            return
        session, reason = self._session, "" if row.discarded else self.reason.text()
        if not row.discarded and not reason.strip():
            self.trouble.setText("Say why the pass is discarded: the reason stays with it.")
            self.trouble.show()
            self.reason.setFocus()
            return

        def put(words: str) -> str:
            if row.kind is Kind.PASS:
                return discard_pass(session, row.step, row.attempt, row.item, words)
            return discard_result(session, row.step, row.item, words)

        def do() -> Callable[[], object]:
            before = put(reason)
            return lambda: put(before)

        self._do("count it again" if row.discarded else "discard", do)
        self.reason.clear()

    def _keep_note(self) -> None:
        row = self._row
        if row is None:
            return
        session, text, caveat = self._session, self.note.toPlainText(), self.caveat.isChecked()

        def do() -> Callable[[], object]:
            if row.kind in (Kind.NOTE, Kind.CAVEAT):
                before = edit_note(session, row.step, row.item, text, caveat)
                return lambda: edit_note(session, row.step, row.item, before.text, before.caveat)
            made = write_note(session, row.step, text, caveat)
            return lambda: drop_note(session, row.step, made.id)

        self._do("note", do)

    def _drop_note(self) -> None:
        row = self._row
        if row is None:
            return

        def do() -> Callable[[], object]:
            before = drop_note(self._session, row.step, row.item)
            return lambda: write_note(self._session, row.step, before.text, before.caveat)

        self._row = None
        self._do("take the note out", do)

    def _ask_for_file(self) -> None:
        row = self._row
        if row is None or not self._own(row):
            return
        name, _ = QFileDialog.getOpenFileName(self, f"A picture or file for step {row.step}")
        if name:
            self.attach(row.step, Path(name))

    def attach(self, step: int, path: Path) -> None:
        """Keep a file at a step."""

        def do() -> Callable[[], object]:
            made = attach(self._session, step, path)
            return lambda: detach(self._session, step, made.id)

        self._do("attach", do)

    def _save_file(self) -> None:
        row = self._row
        record = self._session.step(row.step) if row is not None else None
        file = next((f for f in record.attached if row is not None and f.id == row.item), None) if record else None
        if file is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Save the file", Path(file.name).name)
        if name:
            self._change(lambda: save_attachment(self._session, file, Path(name)))

    def _detach(self) -> None:
        row = self._row
        if row is not None:
            self._row = None
            self._change(lambda: detach(self._session, row.step, row.item))
            self._changed()

    def _go_to_step(self) -> None:
        if self._row is not None and self._own(self._row):
            self.wants_step.emit(self._row.step)

    def _go_to_trace(self) -> None:
        if self._row is not None and self._own(self._row) and self._row.attempt:
            self.wants_trace.emit(self._row.attempt)

    # -- building ------------------------------------------------------------------------------------------------------

    def _make_side(self) -> None:
        self._what, self._about = label("", "title", wrap=True), label("", "small", wrap=True)
        self._told = label("", "", wrap=True)
        self._names, self._figures = label("", "muted"), label("")
        self._figures.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.step_button, self.trace_button = button("Show the step"), button("Show its trace")
        self.step_button.clicked.connect(self._go_to_step)
        self.trace_button.clicked.connect(self._go_to_trace)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why it is left out")
        self.reason.setAccessibleName("Why the pass is discarded")
        self.reason.returnPressed.connect(self._discard)
        self.discard_button = button("Discard it", "danger")
        self.discard_button.clicked.connect(self._discard)
        self.note = QPlainTextEdit()
        self.note.setAccessibleName("Note")
        self.note.setPlaceholderText("A note, or what others must know to judge this")
        self.note.setFixedHeight(84)
        self.caveat = QCheckBox("A caveat, told in every report")
        self.keep_button, self.drop_button = button("Keep"), button("Take it out", "danger")
        self.keep_button.clicked.connect(self._keep_note)
        self.drop_button.clicked.connect(self._drop_note)
        self.attach_button = button("Attach a file …")
        self.attach_button.clicked.connect(self._ask_for_file)
        self.save_button, self.detach_button = button("Save it as …"), button("Take it out", "danger")
        self.save_button.clicked.connect(self._save_file)
        self.detach_button.clicked.connect(self._detach)
        self.undo_button = button("Undo", "flat")
        self.undo_button.clicked.connect(self.undo)
        self.undo_button.hide()

    def _lay_out(self) -> None:
        head = QHBoxLayout()
        head.setSpacing(8)
        head.addWidget(self.search, 2)
        for words, box in (("Show", self.kinds), ("of", self.benchmark), ("with", self.verdict), ("", self.counted)):
            if words:
                head.addWidget(label(words, "muted"))
            head.addWidget(box)
        self._columns_button = button("Columns …", "flat")
        self._columns_button.clicked.connect(self._offer_columns)
        self._book_button = button("Field book …", "flat", "Show another field book, too")
        self._book_button.clicked.connect(self._ask_for_book)
        under = QHBoxLayout()
        under.addWidget(self.sentence, 1)
        under.addWidget(self.undo_button)
        under.addWidget(self._book_button)
        under.addWidget(self._columns_button)
        side = Side(_SIDE_WIDTH, "The chosen row")
        for part in (self._what, self._about, self._told):
            side.box.addWidget(part)
        self._buttons = QWidget()
        row = QHBoxLayout(self._buttons)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.step_button)
        row.addWidget(self.trace_button)
        row.addStretch(1)
        side.box.addWidget(self._buttons)
        self._remarks = QWidget()
        inner = QVBoxLayout(self._remarks)
        inner.setContentsMargins(0, 6, 0, 0)
        inner.addWidget(self.reason)
        inner.addWidget(self.discard_button)
        inner.addWidget(label("Note at this step", "heading"))
        inner.addWidget(self.note)
        inner.addWidget(self.caveat)
        kept = QHBoxLayout()
        kept.addWidget(self.keep_button)
        kept.addWidget(self.drop_button)
        kept.addStretch(1)
        inner.addLayout(kept)
        inner.addWidget(label("Proof at this step", "heading"))
        files = QHBoxLayout()
        for each in (self.attach_button, self.save_button, self.detach_button):
            files.addWidget(each)
        files.addStretch(1)
        inner.addLayout(files)
        side.box.addWidget(self._remarks)
        side.heading("Recorded with it")
        facts = QGridLayout()
        facts.addWidget(self._names, 0, 0)
        facts.addWidget(self._figures, 0, 1)
        side.box.addLayout(facts)
        side.box.addStretch(1)
        left = QVBoxLayout()
        left.setSpacing(4)
        left.addLayout(under)
        left.addWidget(self.table, 1)
        left.addWidget(self._none, 1)
        self._none.hide()
        middle = QHBoxLayout()
        middle.setSpacing(MARGIN)
        middle.addLayout(left, 1)
        middle.addWidget(side)
        whole = QVBoxLayout(self.whole)
        whole.setContentsMargins(MARGIN, 10, MARGIN, 8)
        whole.setSpacing(6)
        whole.addLayout(head)
        whole.addLayout(middle, 1)


def _same(one: LogRow, other: LogRow) -> bool:
    kinds = {one.kind, other.kind}
    alike = one.kind == other.kind or kinds == {Kind.NOTE, Kind.CAVEAT}
    return alike and (one.book, one.step, one.attempt, one.item) == (other.book, other.step, other.attempt, other.item)
