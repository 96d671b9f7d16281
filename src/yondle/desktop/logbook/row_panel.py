"""One row of the logbook in full, and what can be written about it: a reason to leave it out, a note, a file as proof."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from yondle.desktop.look.basics import button, label, tip
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.side import BEFORE_HEADING, Side
from yondle.language.saying import say
from yondle.views.record.log import Kind, LogRow, when_words

_WIDTH, _NOTE_HEIGHT = 320, 84
_BESIDE_NAMES = 40
"""What the gap, the scroll bar and the margins take beside the names of what was recorded."""
_CAN_BE_DISCARDED = (Kind.PASS, Kind.FIGURE)
_WRITTEN = (Kind.NOTE, Kind.CAVEAT)


class RowPanel(Side):
    """The panel; its buttons are connected by the place it stands in."""

    def __init__(self) -> None:
        super().__init__(_WIDTH, say("The chosen row"))
        self._what, self._about = label("", "title", wrap=True), label("", "small", wrap=True)
        self._told = label("", "", wrap=True)
        self._names, self._figures = label("", "muted"), label("")
        self._figures.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.step_button, self.trace_button = button(say("Show the step")), button(say("Show its trace"))
        self.reason = QLineEdit()
        self.reason.setPlaceholderText(say("Why it is left out"))
        self.reason.setAccessibleName(say("Why the pass is discarded"))
        self.discard_button = button(say("Discard it"), "danger")
        self.note = QPlainTextEdit()
        self.note.setAccessibleName(say("Note"))
        self.note.setPlaceholderText(say("A note, or what others must know to judge this"))
        self.note.setFixedHeight(_NOTE_HEIGHT)
        self.caveat = QCheckBox(say("A caveat, told in every report"))
        self.keep_button, self.drop_button = button(say("Keep")), button(say("Take it out"), "danger")
        self.attach_button = button(say("Attach a file …"))
        self.figure_button = button(say("Type in a figure …"))
        self.save_button, self.detach_button = button(say("Save it as …")), button(say("Take it out"), "danger")
        self._buttons, self.remarks = QWidget(), QWidget()
        self._lay_out()

    def show_row(self, row: LogRow | None, own: bool, facts: tuple[tuple[str, str], ...]) -> None:
        """Show a row of this logbook, or of another, about which nothing is written here; None for no row."""
        for part in (self._about, self._told, self._names, self._figures, self._buttons, self.remarks):
            part.setVisible(row is not None)
        self._recorded.setVisible(row is not None and bool(facts))
        if row is None:
            self._what.setText(say("Choose a row."))
            return
        self._what.setText(row.what)
        self._about.setText(
            say("{kind} at step {step}, {when}", kind=row.kind, step=row.step, when=when_words(row.at))
            + ("" if own else say(", in {book}", book=row.book))
        )
        self._told.setText(say("Left out of figures: {left_out}", left_out=row.left_out) if row.left_out else row.told)
        names = [name for name, _ in facts]
        self._figures.setText("\n".join(words for _, words in facts))
        room = _WIDTH - _BESIDE_NAMES - self._figures.sizeHint().width()
        metrics = self._names.fontMetrics()
        self._names.setText("\n".join(metrics.elidedText(n, Qt.TextElideMode.ElideMiddle, room) for n in names))
        self._names.setToolTip(tip("\n".join(names)))
        self.remarks.setVisible(own)
        self.step_button.setEnabled(own)
        self.trace_button.setVisible(own and bool(row.attempt))
        can_discard = own and (bool(row.discarded) or (row.kind in _CAN_BE_DISCARDED and not row.left_out))
        self.reason.setVisible(can_discard and not row.discarded)
        self.discard_button.setVisible(can_discard)
        self.discard_button.setText(say("Count it again") if row.discarded else say("Discard it"))
        note = own and row.kind in _WRITTEN
        self.note.setPlainText(row.what if note else "")
        self.caveat.setChecked(row.kind is Kind.CAVEAT)
        self.keep_button.setText(say("Keep the change") if note else say("Keep at step {step}", step=row.step))
        self.drop_button.setVisible(note)
        self.save_button.setVisible(own and row.kind is Kind.FILE)
        self.detach_button.setVisible(own and row.kind is Kind.FILE)

    def _lay_out(self) -> None:
        for part in (self._what, self._about, self._told):
            self.box.addWidget(part)
        shown = _in_a_row(self.step_button, self.trace_button)
        shown.setContentsMargins(0, 0, 0, 0)
        self._buttons.setLayout(shown)
        self.box.addWidget(self._buttons)
        inner = stacked(self.remarks)
        inner.addWidget(self.reason)
        inner.addWidget(self.discard_button)
        inner.addSpacing(BEFORE_HEADING)
        inner.addWidget(label(say("Note at this step"), "heading"))
        inner.addWidget(self.note)
        inner.addWidget(self.caveat)
        inner.addLayout(_in_a_row(self.keep_button, self.drop_button))
        inner.addSpacing(BEFORE_HEADING)
        inner.addWidget(label(say("Files and figures at this step"), "heading"))
        inner.addLayout(_in_a_row(self.attach_button, self.figure_button))
        inner.addLayout(_in_a_row(self.save_button, self.detach_button))
        self.box.addWidget(self.remarks)
        self._recorded = self.heading(say("Recorded with it"))
        recorded = form_rows()
        recorded.addWidget(self._names, 0, 0)
        recorded.addWidget(self._figures, 0, 1)
        self.box.addLayout(recorded)
        self.box.addStretch(1)


def _in_a_row(*buttons: QPushButton) -> QHBoxLayout:
    row = abreast()
    for each in buttons:
        row.addWidget(each)
    row.addStretch(1)
    return row
