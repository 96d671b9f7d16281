"""What would keep the window away is done in pieces, with keys, clicks and painting between them."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import QObject, QTimer

BETWEEN_MS = 3
"""Long enough for what waits to be painted and clicked, too short to be seen."""


class Turns(QObject):
    """Does one thing at a time, a piece a turn of the event loop; beginning another gives up what is left of the last."""

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
        try:
            next(pieces)
        except StopIteration:
            return
        if self._pieces is None:
            self._pieces = pieces
            self._timer.start()
