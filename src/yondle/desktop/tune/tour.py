"""Six steps that point at the real controls, and end when the tuner has tested a step of their own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from yondle.desktop.look.cards import CardAction, Cards
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say

CARD = "tour"
PROPOSED, RUNNING, ENDED = "proposed", "running", "ended"
_ROUND_PX, _AROUND_PX = 6.0, 3


@dataclass(frozen=True, slots=True)
class Stop:
    """One step of the tour: what is said, which part it points at, and what it waits for, if not for *Next*."""

    title: str
    text: str
    part: str
    waits_for: str = ""


STOPS = (
    Stop(
        later("This is the trail"),
        later("Every step that was tested stands here, the newest on top: a mark for how it went, a figure for what it brought."),
        "trail",
    ),
    Stop(
        later("Move a marker"),
        later("Drag the marker a notch to the right, or press → on it. Nothing is set yet: that only proposes a step."),
        "ruler",
        PROPOSED,
    ),
    Stop(
        later("Read what comes"),
        later("What changes, the chance to hold, what the check will run and how long that takes."),
        "next",
    ),
    Stop(later("Test it"), later("Press Return, or the button."), "test", RUNNING),
    Stop(
        later("Watch it run"),
        later("Its parts fill up, readings stand under their limits. P pauses; Esc stops it and puts the machine back."),
        "running",
        ENDED,
    ),
    Stop(
        later("That was one step"),
        later("The verdict stands on its card, the gain with its margin on the trail, every pass in the chart. F1 helps, Ctrl+K "
              "lists everything there is."),
        "trail",
    ),
)  # fmt: skip


class Outline(QWidget):
    """A line around a part of the place, which clicks go through; it follows the part."""

    def __init__(self, place: QWidget, theme: Theme) -> None:
        super().__init__(place)
        self._theme = theme
        self._around: QWidget | None = None
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def put_around(self, part: QWidget | None) -> None:
        """Point at a part, or at nothing."""
        if self._around is not None:
            self._around.removeEventFilter(self)
        self._around = part
        if part is not None:
            part.installEventFilter(self)
        self._follow()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Follow the part where it goes."""
        if event.type() in (QEvent.Type.Move, QEvent.Type.Resize, QEvent.Type.Show, QEvent.Type.Hide):
            self._follow()
        return False

    def _follow(self) -> None:
        part, place = self._around, self.parentWidget()
        self.setVisible(part is not None and part.isVisible())
        if part is None or place is None:
            return
        at = QRect(part.mapTo(place, QPoint(0, 0)), part.size())
        self.setGeometry(at.adjusted(-_AROUND_PX, -_AROUND_PX, _AROUND_PX, _AROUND_PX) & place.rect())
        self.raise_()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the line."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.colours.in_play, 2.0, Qt.PenStyle.DashLine))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), _ROUND_PX, _ROUND_PX)


class Tour:
    """Goes from stop to stop; `part` gives what is called so now."""

    def __init__(self, place: QWidget, theme: Theme, cards: Cards, part: Callable[[str], QWidget | None]) -> None:
        self._cards, self._part = cards, part
        self._outline = Outline(place, theme)
        self._at: int | None = None

    @property
    def at(self) -> int | None:
        """Which stop it is at; None where no tour is under way."""
        return self._at

    def begin(self) -> None:
        """Begin at the first stop."""
        self._go(0)

    def leave(self) -> None:
        """End it."""
        self._at = None
        self._cards.take(CARD)
        self._outline.put_around(None)

    def happened(self, what: str) -> None:
        """Go on where this is what the stop waits for; a test that ends ends the tour, wherever it was."""
        if self._at is None:
            return
        if what == STOPS[self._at].waits_for:
            self._go(self._at + 1)
        elif what == RUNNING and self._at < len(STOPS) - 2:
            self._go(len(STOPS) - 2)

    def _go(self, to: int) -> None:
        self._at = to
        stop, last = STOPS[to], to == len(STOPS) - 1
        actions = []
        if not stop.waits_for:
            words, do = (say("Done"), self.leave) if last else (say("Next"), lambda: self._go(to + 1))
            actions.append(CardAction(words, do, "main"))
        if not last:
            actions.append(CardAction(say("Leave the tour"), self.leave))
        title = say("{n} of {of} · {title}", n=to + 1, of=len(STOPS), title=named(stop.title))
        self._cards.put(CARD, title, named(stop.text), actions)
        self._outline.put_around(self._part(stop.part))
