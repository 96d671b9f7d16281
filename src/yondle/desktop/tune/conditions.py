"""The card of conditions nobody but the tuner knows."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit

from yondle.app.session.limits import TellConditions
from yondle.desktop.look.basics import button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.formats.documents import Conditions
from yondle.language.saying import CONDITION, later, named, say


class ConditionsCard(Card):
    """What the rig can't find out by itself, asked once."""

    told = Signal(dict)

    def __init__(self, theme: Theme, rows: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("Conditions"), say("Kept with every test from now on. Leave empty what you don't know."), []
        )
        self.fields: dict[str, QLineEdit] = {}
        for name, value in rows:
            self.body.addWidget(label(named(name, CONDITION), "small"))
            field = QLineEdit(value)
            field.setAccessibleName(named(name, CONDITION))
            self.fields[name] = field
            self.body.addWidget(field)
        keep, leave = button(say("Keep"), "main"), button(say("Leave it"))
        keep.clicked.connect(lambda: self.told.emit({name: field.text() for name, field in self.fields.items()}))
        leave.clicked.connect(close)
        self.body.addWidget(keep)
        self.body.addWidget(leave)


class ConditionsPresenter:
    """Asks what the rig can't find out by itself."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def ask(self) -> None:
        """Show the card with what the rig asks for and what was told before; nothing is kept until it is told."""
        desk = self._desk
        told = desk.now.kept.of(Conditions).root
        rows = [(name, told.get(name, "")) for name in dict.fromkeys((*desk.now.declaration.asks, *told))]
        rows = rows or [(later("Room and place"), "")]
        card = ConditionsCard(desk.theme, rows, lambda: desk.cards.take("conditions"))
        card.told.connect(self._keep)
        desk.cards.put_card("conditions", card)

    def _keep(self, told: dict[str, str]) -> None:
        self._desk.ask(TellConditions(told), lambda _: self._desk.cards.take("conditions"))
