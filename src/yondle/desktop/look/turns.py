"""What would keep the window away is done in pieces, with keys, clicks and painting between them."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget

BETWEEN_MS = 3
"""Long enough for what waits to be painted and clicked, too short to be seen."""
TURN_S = 0.012
"""Small pieces are done together in a turn until so much of it is over."""


def turns_later(context: QObject, turns: int, do: Callable[[], object]) -> None:
    """Do something so many turns of the event loop from now.

    One timer alone, begun in a turn that takes longer than itself, is due before that turn is over.
    """
    if turns < 0:
        do()
    else:
        QTimer.singleShot(BETWEEN_MS, context, lambda: turns_later(context, turns - 1, do))


def put_off_painting(widget: QWidget) -> None:
    """Have a widget painted two turns from now: what is dressed in this one and drawn anew in the next shows all at once."""
    widget.setUpdatesEnabled(False)
    turns_later(widget, 2, lambda: widget.setUpdatesEnabled(True))


class Turns(QObject):
    """Does one thing at a time, piece by piece over turns of the event loop; beginning another gives up what is left of it."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._pieces: Iterator[None] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(BETWEEN_MS)
        self._timer.timeout.connect(self._turn)

    @property
    def active(self) -> bool:
        """Tell whether something is left to do."""
        return self._pieces is not None

    def begin(self, pieces: Iterator[None]) -> None:
        """Do something piece by piece; the first one comes in a turn of its own."""
        self._pieces = pieces
        self._timer.start()

    def finish(self) -> None:
        """Do at once what is left."""
        pieces, self._pieces = self._pieces, None
        self._timer.stop()
        for _ in pieces or ():
            pass

    def _turn(self) -> None:
        pieces, self._pieces = self._pieces, None
        if pieces is None:
            return
        ends = time.perf_counter() + TURN_S
        try:
            next(pieces)
            while self._pieces is None and time.perf_counter() < ends:
                next(pieces)
        except StopIteration:
            return
        if self._pieces is None:
            self._pieces = pieces
            self._timer.start()
