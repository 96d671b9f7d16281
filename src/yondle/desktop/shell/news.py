"""What the desktop is told of a window: how far a test has come, and how a long one ended, with a way back to its step."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Protocol

from PySide6.QtCore import QObject, Qt, Signal

from yondle.app.system.awake import LONG_S
from yondle.app.system.preferences import preferences
from yondle.app.system.telling import DesktopTeller
from yondle.language.saying import say

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

    from yondle.desktop.link.bridge import Bridge, OpenBook
    from yondle.desktop.tune.place import TunePlace


class Told(Protocol):
    """What of the window it needs."""

    bridge: Bridge
    book: OpenBook | None

    @property
    def tune(self) -> TunePlace | None:
        """The place where the work is done."""

    def window(self) -> QWidget:
        """Give the window on the screen that it stands in."""

    def isActiveWindow(self) -> bool:
        """Tell whether keys go to it."""

    def isVisible(self) -> bool:
        """Tell whether it is shown."""

    def show_step(self, number: int) -> None:
        """Show a step on the trail."""


class DesktopNews(QObject):
    """Follows a window's tests."""

    _clicked = Signal(str)

    def __init__(self, window: Told) -> None:
        super().__init__()
        self._window = window
        self._teller = DesktopTeller(self._clicked.emit)
        self._share: float | None = None
        self._busy_since = 0.0
        self._clicked.connect(self._lead_back)
        window.bridge.records.connect(self._tell_progress)
        window.bridge.busy_changed.connect(self._busy)

    def close(self) -> None:
        """Tell nothing more."""
        self._teller.close()

    def _busy(self, busy: bool) -> None:
        self._tell_progress()
        now = time.monotonic()
        if busy:
            self._busy_since = now
        elif now - self._busy_since > LONG_S and not (self._window.isActiveWindow() and self._window.isVisible()):
            self.tell_ended()

    def _tell_progress(self, _: object = None) -> None:
        """Show on the taskbar how far a test has come; a whole per cent at a time."""
        tune = self._window.tune
        share = tune.progress.share if tune is not None and self._window.bridge.busy else None
        share = round(share, 2) if share is not None else None
        if share != self._share:
            self._share = share
            self._teller.progress(share)

    def tell_ended(self) -> None:
        """Say how a test ended that nobody looked at."""
        book = self._window.book
        if book is None or not book.now.steps:
            return
        latest = max(book.now.steps, key=lambda record: max((a.id for a in record.attempts), default=0))
        if latest.outcome is None:
            return
        title = say(
            "{info}: step {number} {verdict}",
            info=book.now.declaration.info.name,
            number=latest.step.number,
            verdict=latest.word,
        )
        wanted = preferences()
        if wanted.notify:
            self._teller.notify(title, latest.outcome.reason, str(latest.step.number), wanted.sound)

    def _lead_back(self, step: str) -> None:
        """Show the step a notification told of, in front of everything else."""
        top, book = self._window.window(), self._window.book
        top.setWindowState(top.windowState() & ~Qt.WindowState.WindowMinimized)
        top.show()
        top.raise_()
        top.activateWindow()
        if book is not None and any(r.step.number == int(step) for r in book.now.steps):
            self._window.show_step(int(step))
