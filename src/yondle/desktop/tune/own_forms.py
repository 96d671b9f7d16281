"""The form of a knob or sensor of the tuner's own: by a file or a command, tried before it is kept."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit, QWidget

from yondle.app.machine.own_form import OwnTold
from yondle.desktop.look.basics import Choice, button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import abreast, form_rows
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say
from yondle.model.knobs import Risk, Subsystem

_SENSOR, _KNOB = later("a sensor"), later("a knob")
_FILE, _COMMAND = later("a file"), later("a command")
_RISKS = {Risk.NONE: later("no risk"), Risk.UP: later("upward"), Risk.DOWN: later("downward")}


_NARROWEST = 40


class OwnCard(Card):
    """Fields of a knob or a sensor; which are shown follows what it is and what it is read by."""

    tried = Signal(object)
    told = Signal(object)
    file_wanted = Signal()

    def __init__(self, theme: Theme, close: Callable[[], None]) -> None:
        super().__init__(
            theme,
            say("A knob or sensor of your own"),
            say("Whatever a file or a command can tell or set. Nothing is run before you say so."),
            [],
        )
        self.kind = Choice([named(_SENSOR), named(_KNOB)], say("What it is"))
        self.way = Choice([named(_FILE), named(_COMMAND)], say("How it is read"))
        self.works = Choice([named(each) for each in Subsystem], say("Part"))
        self.works.setCurrentIndex(list(Subsystem).index(Subsystem.WHOLE))
        self.risk = Choice([named(words) for words in _RISKS.values()], say("Risk"))
        for choice in (self.kind, self.way, self.works, self.risk):
            choice.setMinimumWidth(_NARROWEST)
        self.fields = {key: QLineEdit() for key in _HINTS}
        for key, hint in _HINTS.items():
            self.fields[key].setPlaceholderText(named(hint))
            self.fields[key].textChanged.connect(self.fields[key].setToolTip)
            self.fields[key].setMinimumWidth(_NARROWEST)
        grid = form_rows()
        grid.setColumnStretch(1, 1)
        self._rows: list[tuple[list[QWidget], Callable[[], bool]]] = []
        for i, (words, shown, when) in enumerate(self._laid_out()):
            name, beside = label(words, "muted"), abreast()
            beside.setSpacing(4)
            for field in shown:
                field.setAccessibleName(words)
                beside.addWidget(field)
            grid.addWidget(name, i, 0)
            grid.addLayout(beside, i, 1)
            self._rows.append(([name, *shown], when))
        for key in ("low", "high", "step"):
            self.fields[key].setAccessibleName(f"{say('Range')}: {named(_HINTS[key])}")
        self.body.addLayout(grid)
        self.said = label("", "", wrap=True)
        self.said.hide()
        self.body.addWidget(self.said)
        self.try_button, self.keep_button = button(say("Try it")), button(say("Keep it, and allow it here"), "main")
        self.file_button, leave = button(say("From a file …")), button(say("Leave it"))
        self.try_button.clicked.connect(lambda: self.tried.emit(self.filled_in()))
        self.keep_button.clicked.connect(lambda: self.told.emit(self.filled_in()))
        self.file_button.clicked.connect(self.file_wanted)
        leave.clicked.connect(close)
        for each in (self.try_button, self.keep_button, self.file_button, leave):
            self.body.addWidget(each)
        for choice in (self.kind, self.way):
            choice.currentIndexChanged.connect(self._show_rows)
        self._show_rows()

    def _laid_out(self) -> list[tuple[str, list[QWidget], Callable[[], bool]]]:
        """Give the rows from the top: words, fields, and when they are shown."""
        fields = self.fields
        return [
            (say("Is"), [self.kind], _always),
            (say("Read by"), [self.way], _always),
            (say("Name"), [fields["name"]], _always),
            (say("File"), [fields["file"]], self._by_file),
            (say("Reads"), [fields["reads"]], self._by_command),
            (say("Sets"), [fields["sets"]], lambda: self._by_command() and self._is_knob()),
            (say("Unit"), [fields["unit"]], _always),
            (say("Part"), [self.works], _always),
            (say("Range"), [fields["low"], fields["high"], fields["step"]], self._is_knob),
            (say("Or one of"), [fields["choices"]], self._is_knob),
            (say("Risk"), [self.risk], self._is_knob),
            (say("Stop above"), [fields["stop_at"]], lambda: not self._is_knob()),
            (say("Finds"), [fields["pattern"]], _always),
            (say("Divided by"), [fields["scale"]], _always),
        ]

    def filled_in(self) -> OwnTold:
        """Give what stands in the fields that are shown."""
        shown = {widget for widgets, when in self._rows if when() for widget in widgets}
        texts = {key: field.text().strip() if field in shown else "" for key, field in self.fields.items()}
        return OwnTold(
            self._is_knob(),
            works=list(Subsystem)[self.works.currentIndex()],
            risk=list(_RISKS)[self.risk.currentIndex()],
            **texts,
        )

    def say_tried(self, words: str) -> None:
        """Say what came of trying it."""
        self.said.setText(words)
        self.said.setVisible(bool(words))

    def busy(self, busy: bool) -> None:
        """Wait while it is tried."""
        self.try_button.setEnabled(not busy)
        self.try_button.setText(say("Trying …") if busy else say("Try it"))

    def _is_knob(self) -> bool:
        return self.kind.currentIndex() == 1

    def _by_file(self) -> bool:
        return self.way.currentIndex() == 0

    def _by_command(self) -> bool:
        return not self._by_file()

    def _show_rows(self) -> None:
        for widgets, when in self._rows:
            for widget in widgets:
                widget.setVisible(when())
        self.say_tried("")


def _always() -> bool:
    return True


_HINTS = {
    "name": later("as you call it"), "file": "/sys/…", "reads": later("a command"),
    "sets": "… {value}", "unit": later("such as °C"), "low": later("from"),
    "high": later("to"), "step": later("by"), "choices": later("quiet, loud"), "stop_at": later("nothing"),
    "pattern": later("the one number"), "scale": "1",
}  # fmt: skip
