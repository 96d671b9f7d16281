"""Cards: what needs to be said in place, with what can be done about it, instead of a dialog."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QSize
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QBoxLayout, QFrame, QWidget

from yondle.desktop.look.aloud import announce
from yondle.desktop.look.basics import button, clear, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import Theme
from yondle.language.saying import named
from yondle.model.verdicts import Verdict

SAID_AT_ONCE = ("verdict", "error", "entry")
"""Cards a screen reader says without waiting: they are what the tuner waits for."""


@dataclass(frozen=True, slots=True)
class CardAction:
    """A button on a card."""

    text: str
    do: Callable[[], None]
    kind: str = ""


class MarkView(QWidget):
    """One verdict mark by itself."""

    def __init__(self, theme: Theme, verdict: Verdict) -> None:
        super().__init__()
        self._theme = theme
        self._verdict, self._recorded = verdict, False
        self.setFixedSize(QSize(16, 16))
        self.setAccessibleName(named(verdict))

    def show_verdict(self, verdict: Verdict, recorded: bool = False) -> None:
        """Show another mark."""
        self._verdict, self._recorded = verdict, recorded
        self.setAccessibleName(named(verdict))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the mark."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        colour = self._theme.colours.verdicts[self._verdict]
        paint_mark(painter, QPointF(8, 8), 5.5, self._verdict, colour, self._recorded)


class Card(QFrame):
    """A title, a text, and buttons; with a verdict's mark when it is about one. More can be added to its `body`."""

    def __init__(
        self,
        theme: Theme,
        title: str,
        text: str,
        actions: list[CardAction],
        verdict: Verdict | None = None,
        buttons_along: QBoxLayout.Direction = QBoxLayout.Direction.TopToBottom,
    ) -> None:
        super().__init__()
        self.setObjectName("card")
        self.title, self.text = title, text
        self.body = layout = stacked(self)
        layout.setContentsMargins(12, 8, 12, 8)
        head = abreast()
        if verdict is not None:
            head.addWidget(MarkView(theme, verdict))
        head.addWidget(label(title, "strong", wrap=True), 1)
        layout.addLayout(head)
        if text:
            layout.addWidget(label(text, "", wrap=True))
        self.buttons = [button(action.text, action.kind) for action in actions]
        along = QBoxLayout(buttons_along)
        along.setSpacing(8)
        for made, action in zip(self.buttons, actions, strict=True):
            made.clicked.connect(action.do)
            along.addWidget(made)
        layout.addLayout(along)


class Cards(QWidget):
    """A stack of cards by name; a card of the same name replaces the one before."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._cards: dict[str, Card] = {}
        self._layout = stacked(self)
        self.hide()

    def put(
        self, name: str, title: str, text: str, actions: list[CardAction] | None = None, verdict: Verdict | None = None
    ) -> Card:
        """Show a card."""
        return self.put_card(name, Card(self._theme, title, text, actions or [], verdict))

    def put_card(self, name: str, card: Card) -> Card:
        """Show a card that was made elsewhere."""
        self.take(name)
        self._cards[name] = card
        self._layout.addWidget(card)
        self.show()
        announce(card, f"{card.title}. {card.text}" if card.text else card.title, at_once=name in SAID_AT_ONCE)
        return card

    def take(self, name: str) -> None:
        """Take a card away; nothing happens when there is none of the name."""
        card = self._cards.pop(name, None)
        if card is not None:
            self._layout.removeWidget(card)
            card.hide()
            card.deleteLater()
        if not self._cards:
            self.hide()

    def get(self, name: str) -> Card | None:
        """Give a card by name."""
        return self._cards.get(name)

    def clear(self) -> None:
        """Take all cards away."""
        self._cards.clear()
        clear(self._layout)
        self.hide()
