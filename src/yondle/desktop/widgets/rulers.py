"""All rulers of a rig, one under the other, with the question that comes up when a second one is touched."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QBoxLayout, QScrollArea, QVBoxLayout, QWidget

from yondle.app.views.rulers import RulerView
from yondle.desktop.theme import Theme
from yondle.desktop.widgets.cards import Card, CardAction
from yondle.desktop.widgets.ruler import HEIGHT, Ruler
from yondle.model.verdicts import Verdict

SHOWN_AT_ONCE = 6


class Rulers(QScrollArea):
    """The rulers. Up and down arrow go from one to the next."""

    moved = Signal(str, float)
    entered = Signal(str)
    step_chosen = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._rulers: dict[str, Ruler] = {}
        self._question: Card | None = None
        self._inner = QWidget()
        self._inner.setObjectName("middle")
        self._layout = QVBoxLayout(self._inner)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(0)
        self._layout.addStretch(1)
        self.setWidget(self._inner)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def ruler(self, knob: str) -> Ruler | None:
        """Give a knob's ruler."""
        return self._rulers.get(knob)

    @property
    def question(self) -> Card | None:
        """The question standing under a ruler."""
        return self._question

    def show_views(self, views: list[RulerView], in_play: str, locked: bool, band: list[float] | None) -> None:
        """Show the rulers; `in_play` names the one whose band is shown."""
        if [v.knob.id for v in views] != list(self._rulers):
            self._rebuild(views)
        for view in views:
            ours = view.knob.id == in_play
            self._rulers[view.knob.id].show_view(view, ours, locked, band if ours else None)

    def focus_on(self, knob: str) -> None:
        """Give a ruler the keyboard."""
        ruler = self._rulers.get(knob) or next(iter(self._rulers.values()), None)
        if ruler is not None:
            ruler.setFocus(Qt.FocusReason.ShortcutFocusReason)
            self.ensureWidgetVisible(ruler)

    def ask(self, under: str, title: str, text: str, actions: list[CardAction]) -> None:
        """Put a question under a ruler."""
        self.drop_question()
        ruler = self._rulers.get(under)
        if ruler is None:
            return
        self._question = Card(self._theme, title, text, actions, Verdict.REFUSED, QBoxLayout.Direction.LeftToRight)
        self._layout.insertWidget(self._layout.indexOf(ruler) + 1, self._question)
        self._question.show()
        self._fit()

    def drop_question(self) -> None:
        """Take the question away."""
        if self._question is not None:
            self._layout.removeWidget(self._question)
            self._question.hide()
            self._question.deleteLater()
            self._question = None
            self._fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the ruler above or below."""
        if event.key() not in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            super().keyPressEvent(event)
            return
        rulers = list(self._rulers.values())
        at = next((i for i, ruler in enumerate(rulers) if ruler.hasFocus()), 0)
        to = at + (1 if event.key() == Qt.Key.Key_Down else -1)
        if 0 <= to < len(rulers):
            rulers[to].setFocus(Qt.FocusReason.TabFocusReason)
            self.ensureWidgetVisible(rulers[to])

    def _rebuild(self, views: list[RulerView]) -> None:
        self.drop_question()
        for ruler in self._rulers.values():
            self._layout.removeWidget(ruler)
            ruler.deleteLater()
        self._rulers = {}
        for i, view in enumerate(views):
            ruler = Ruler(self._theme)
            ruler.moved.connect(self.moved)
            ruler.entered.connect(self.entered)
            ruler.step_chosen.connect(self.step_chosen)
            self._layout.insertWidget(i, ruler)
            self._rulers[view.knob.id] = ruler
        self._fit()

    def _fit(self) -> None:
        width = max(self.viewport().width(), 400)
        extra = self._question.heightForWidth(width) + 4 if self._question else 0
        rows = min(len(self._rulers), SHOWN_AT_ONCE)
        self.setFixedHeight(rows * HEIGHT + extra + 2)
