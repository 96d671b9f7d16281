"""The card of values that are set by hand, and of how the machine started with them."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLineEdit

from yondle.app.session.returning import DropWaiting, GoOnWaiting
from yondle.desktop.look.basics import button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import say
from yondle.model.standing import Waiting
from yondle.model.steps import StartAnswer
from yondle.model.verdicts import Failure


@dataclass(frozen=True, slots=True)
class Entry:
    """One value to be entered: the knob's name, the value, and what stands there now."""

    name: str
    value: str
    now: str


class EntryCard(Card):
    """What to enter in firmware setup, and, once the machine has restarted, how it started."""

    answered = Signal(object)
    dropped = Signal()

    def __init__(self, theme: Theme, title: str, text: str, entries: list[Entry], go_on: str, asks: bool) -> None:
        super().__init__(theme, title, text, [])
        grid = form_rows()
        for i, entry in enumerate(entries):
            grid.addWidget(label(entry.name, "", wrap=True), 2 * i, 0)
            value = label(entry.value, "large")
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(value, 2 * i, 1)
            was = label(say("now {now}", now=entry.now), "small", wrap=True)
            was.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(was, 2 * i + 1, 0, 1, 2)
        grid.setColumnStretch(0, 1)
        self.body.addLayout(grid)
        self.go_on_button = button(go_on, "main")
        self.go_on_button.clicked.connect(lambda: self.answered.emit(None if not asks else StartAnswer()))
        self.body.addWidget(self.go_on_button)
        self.stopped_button = button(say("It didn't start"))
        self.stopped_button.setVisible(asks)
        self.stopped_button.clicked.connect(self._ask_where)
        self.body.addWidget(self.stopped_button)
        self.where = QLineEdit()
        self.where.setPlaceholderText(say("Where it stopped, if it showed that"))
        self.where.setAccessibleName(say("Where it stopped"))
        self.code = QLineEdit()
        self.code.setPlaceholderText(say("The code the board showed"))
        self.code.setAccessibleName(say("Code"))
        self.keep_button = button(say("Keep this answer"), "main")
        self.keep_button.clicked.connect(self._tell_where)
        for widget in (self.where, self.code, self.keep_button):
            widget.hide()
            self.body.addWidget(widget)
        self.drop_button = button(say("Drop this step"))
        self.drop_button.clicked.connect(self.dropped)
        self.body.addWidget(self.drop_button)

    def _ask_where(self) -> None:
        for widget in (self.where, self.code, self.keep_button):
            widget.show()
        self.stopped_button.hide()
        self.go_on_button.hide()
        self.where.setFocus()

    def _tell_where(self) -> None:
        where, code = self.where.text().strip(), self.code.text().strip()
        failure = Failure.STOPPED_IN_START if where or code else Failure.NEVER_STARTED
        self.answered.emit(StartAnswer(failure, where, code))


class ByHandPresenter:
    """Shows what waits to be set by hand, and goes on when that is answered."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._shown: Waiting | None = None

    def show(self) -> None:
        """Show what has to be entered by hand, or take that card away."""
        desk, waiting = self._desk, self._desk.now.waiting
        if waiting is self._shown and (waiting is None) == (desk.cards.get("entry") is None):
            return
        self._shown = waiting
        desk.cards.take("entry")
        if waiting is None:
            return
        declaration = desk.now.declaration
        entries = [
            Entry(knob.name, knob.text(value), knob.text(desk.now.in_force.get(knob_id, knob.stock)))
            for knob_id, value in waiting.values.items()
            for knob in (declaration.knob(knob_id),)
        ]
        title = (
            say("Step {number}: set by hand", number=waiting.step.number)
            if waiting.step
            else say("Bring the rig back by hand")
        )
        text, go_on, asks = _words(waiting, desk.now.simulated)
        card = EntryCard(desk.theme, title, text, entries, go_on, asks)
        card.drop_button.setVisible(waiting.step is not None)
        card.answered.connect(lambda answer: desk.order(GoOnWaiting(answer)))
        card.dropped.connect(lambda: desk.order(DropWaiting()))
        desk.cards.put_card("entry", card)


def _words(waiting: Waiting, simulated: bool) -> tuple[str, str, bool]:
    """Say what is to be done and how to go on, and tell whether it has to be asked how the machine started."""
    if not waiting.restarts:
        if simulated:
            return say("Set by hand, in force at once. On the simulated rig its owner sets it."), say("Set it"), False
        return say("Set this now, then say so: the test goes on at once."), say("It is set"), False
    if simulated:
        text = say("Set by hand in firmware setup. On the simulated rig its owner enters them and restarts.")
        return text, say("Enter them and restart"), False
    if waiting.restarted:
        text = say("The machine has restarted. Did it start with these values?")
        return text, say("It started with them"), True
    text = say(
        "Restart into firmware setup, enter this, and start the system again. Yondle opens by itself after "
        "you log in, and goes on."
    )
    return text, say("The machine has restarted"), False
