"""The consent on a plan's card that it comes back by itself after a crash of this machine."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QPushButton, QVBoxLayout, QWidget

from yondle.app.plans.nights import Bounds
from yondle.desktop.look.basics import label
from yondle.desktop.look.cards import Card
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import say


class NightConsent(QWidget):
    """A tick above a card's first button, and what it means once it is set; not shown for a rig that restarts by itself."""

    def __init__(self, desk: Desk, card: Card, button: QPushButton) -> None:
        super().__init__()
        self._bounds = Bounds()
        self.tick = QCheckBox(say("Comes back after a crash"))
        meaning = say(
            "A watchdog restarts this machine where it freezes in a pass, and the plan goes on by itself, at most {hour} times "
            "within an hour and {all} in all. An administrator's word is asked for.",
            hour=self._bounds.an_hour,
            all=self._bounds.in_all,
        )
        told = label(meaning, "small", wrap=True)
        told.hide()
        self.tick.toggled.connect(told.setVisible)
        self.tick.setAccessibleDescription(meaning)
        stack = QVBoxLayout(self)
        stack.setContentsMargins(0, 0, 0, 0)
        for widget in (self.tick, told):
            stack.addWidget(widget)
        at = card.body.indexOf(button)
        card.body.insertWidget(at if at >= 0 else card.body.count() - 1, self)
        self.setVisible(desk.now.kept_here is not None)

    @property
    def given(self) -> Bounds | None:
        """Give how often it may come back; None where it isn't to."""
        return self._bounds if self.tick.isChecked() else None
