"""The selected step: its verdict in words, and what is known of it in sections that fold."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from yondle.desktop.look.basics import button, label
from yondle.desktop.look.cards import MarkView
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.sections import Sections
from yondle.language.saying import say
from yondle.model.verdicts import Verdict
from yondle.views.tune.step import StepView


class NoteEdit(QPlainTextEdit):
    """A note being written; `done` is sent where Ctrl+Return is pressed."""

    done = Signal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Keep what was written with Ctrl+Return: as a shortcut of the button beside it that key would be swallowed here."""
        if (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.done.emit()
        else:
            super().keyPressEvent(event)


class Inspector(QWidget):
    """What the selected step was about."""

    noted = Signal(int, str)

    def __init__(self, theme: Theme, go_back: QAction, again: QAction, keep: QAction, note: QAction) -> None:
        super().__init__()
        self.view: StepView | None = None
        layout = stacked(self, 4)
        self.heading = label(say("Selected step"), "heading")
        head = abreast()
        self.mark = MarkView(theme, Verdict.UNPROVEN)
        self.title = label("", "title", wrap=True)
        head.addWidget(self.mark, 0, Qt.AlignmentFlag.AlignTop)
        head.addWidget(self.title, 1)
        self.reason = label("", "", wrap=True)
        self.sections = Sections(theme)
        self.notes = label("", "muted", wrap=True)
        self.back_button = button(say("Go back here  G"), "", say("Go back here"))
        self.back_button.clicked.connect(go_back.trigger)
        self.again_button = button(say("Once more, to be sure  O"), "", say("Once more, to be sure"))
        self.again_button.clicked.connect(again.trigger)
        self.profile_button = button(say("Keep as a profile  K"), "", say("Keep as a profile"))
        self.profile_button.clicked.connect(keep.trigger)
        self.signs = label("", "muted", wrap=True)
        self.note_button = button(say("Write a note  N"), "", say("Write a note"))
        self.note_button.clicked.connect(note.trigger)
        self.editor = NoteEdit()
        self.editor.done.connect(self._keep)
        self.editor.setPlaceholderText(say("What you saw, the code the board showed, what to try next"))
        self.editor.setMaximumHeight(80)
        self.editor.setAccessibleName(say("Note"))
        self.editor.setTabChangesFocus(True)
        self.keep_button = button(say("Keep the note  Ctrl+⏎"), "main", say("Keep the note"))
        self.keep_button.clicked.connect(self._keep)
        layout.addWidget(self.heading)
        layout.addLayout(head)
        for widget in (
            self.reason, self.signs, self.sections, self.notes, self.back_button, self.again_button, self.profile_button,
            self.note_button, self.editor, self.keep_button,
        ):  # fmt: skip
            layout.addWidget(widget)
        self._write(False)

    def show_step(self, view: StepView | None) -> None:
        """Show a step, or nothing."""
        if view is None or (self.view is not None and view.number != self.view.number):
            self._write(False)
        self.view = view
        self.setVisible(view is not None)
        if view is None:
            return
        self.heading.setText(say("Selected · step {number}", number=view.number))
        self.mark.show_verdict(view.verdict, view.recorded)
        self.title.setText(view.title)
        self.reason.setText(view.reason)
        self.signs.setText(view.signs)
        self.signs.setVisible(bool(view.signs))
        self.sections.show_sections(view.sections)
        self.notes.setText("\n".join(view.notes))
        self.notes.setVisible(bool(view.notes))
        self.back_button.setVisible(view.can_go_back)
        self.again_button.setVisible(view.can_test_again)
        self.profile_button.setVisible(view.verdict is Verdict.HELD)

    def write_note(self) -> None:
        """Open the note's editor."""
        self._write(True)
        self.editor.setFocus()

    def _write(self, open_: bool) -> None:
        self.editor.setVisible(open_)
        self.keep_button.setVisible(open_)
        self.note_button.setVisible(not open_)
        if not open_:
            self.editor.clear()

    def _keep(self) -> None:
        if self.view is not None and self.editor.toPlainText().strip():
            self.noted.emit(self.view.number, self.editor.toPlainText())
        self._write(False)
