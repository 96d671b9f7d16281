"""The consent on a plan's card that it comes back by itself after a crash, and what restarts a bench across the room."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QLineEdit, QPushButton, QWidget

from yondle.app.plans.nights import Bounds
from yondle.app.session.across import RestartWith, restart_words
from yondle.desktop.look.basics import label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import stacked
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import say


class NightConsent(QWidget):
    """A tick above a card's first button, and what it means once it is set; not shown for a rig that restarts by itself."""

    def __init__(self, desk: Desk, card: Card, button: QPushButton) -> None:
        super().__init__()
        self._desk, self._bounds = desk, Bounds()
        across = desk.now.declaration.info.place.startswith("ssh://")
        self.tick = QCheckBox(say("Comes back after a crash"))
        meaning = self._meaning(across)
        told = label(meaning, "small", wrap=True)
        self.command = self._command_field()
        self.tick.setAccessibleDescription(meaning)
        stack = stacked(self)
        stack.addWidget(self.tick)
        for widget in (told, self.command) if across else (told,):
            widget.hide()
            self.tick.toggled.connect(widget.setVisible)
            stack.addWidget(widget)
        at = card.body.indexOf(button)
        card.body.insertWidget(at if at >= 0 else card.body.count() - 1, self)
        self.setVisible(across or desk.now.kept_here is not None)

    @property
    def given(self) -> Bounds | None:
        """Give how often it may come back; None where it isn't to."""
        return self._bounds if self.tick.isChecked() else None

    def _meaning(self, across: bool) -> str:
        often = {"hour": self._bounds.an_hour, "all": self._bounds.in_all}
        if across:
            return say(
                "The bench is restarted by its own watchdog, or by the command below, and the plan goes on by itself, at most "
                "{hour} times within an hour and {all} in all.",
                **often,
            )
        return say(
            "A watchdog restarts this machine where it freezes, and the plan goes on by itself, at most {hour} times "
            "within an hour and {all} in all. An administrator's word is asked for.",
            **often,
        )

    def _command_field(self) -> QLineEdit:
        """Take the command that restarts the bench; what stands in it is allowed on this computer once it is left."""
        field = QLineEdit(restart_words(self._desk.now))
        field.setPlaceholderText(say("Command here that restarts it, if any"))
        field.setAccessibleName(say("Command here that restarts the bench"))
        field.setToolTip(
            say("A switched wall socket, a management controller, Wake-on-LAN: run once where the bench stays away.")
        )
        field.editingFinished.connect(self._keep_command)
        field.returnPressed.connect(lambda: self._keep_command(anyway=True))
        return field

    def _keep_command(self, anyway: bool = False) -> None:
        """Keep it; one that a logbook brought along is allowed here by the Return key alone."""
        words = self.command.text().strip()
        if anyway or words != restart_words(self._desk.now):
            self._desk.ask(RestartWith(words))
