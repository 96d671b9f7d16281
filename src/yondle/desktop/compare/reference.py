"""The card of scores from elsewhere to compare with."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit

from yondle.desktop.look.basics import Choice, button
from yondle.desktop.look.cards import Card
from yondle.desktop.look.theme import Theme
from yondle.language.saying import say


class ReferenceCard(Card):
    """Scores from elsewhere to compare with."""

    told = Signal(str, str, str)

    def __init__(self, theme: Theme, benchmarks: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("A reference"), say("Scores from elsewhere; more under the same name join them."), []
        )
        self.name, self.scores = QLineEdit(), QLineEdit()
        for field, words in ((self.name, say("Name")), (self.scores, say("Scores, with spaces between"))):
            field.setPlaceholderText(words)
            field.setAccessibleName(words)
        self.benchmark = Choice([], say("Benchmark"))
        for id_, shown in benchmarks:
            self.benchmark.addItem(shown, id_)
        keep, leave = button(say("Keep it"), "main"), button(say("Leave it"))
        keep.clicked.connect(
            lambda: self.told.emit(self.name.text(), str(self.benchmark.currentData()), self.scores.text())
        )
        leave.clicked.connect(close)
        self.keep_button = keep
        for widget in (self.name, self.benchmark, self.scores, keep, leave):
            self.body.addWidget(widget)
