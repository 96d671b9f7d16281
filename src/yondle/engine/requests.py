"""What others may ask of a running engine, from any thread."""

from __future__ import annotations

import threading
from enum import Enum


class Request(Enum):
    """STOP ends the test and goes back; PAUSE waits before the next pass with the load off; HALT goes to stock at once."""

    PAUSE = 1
    STOP = 2
    HALT = 3


class Requests:
    """The one pending request; a graver one replaces a lighter one, never the other way round."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pending: Request | None = None

    def ask(self, request: Request) -> None:
        """Ask the engine for something."""
        with self._lock:
            if self._pending is None or request.value > self._pending.value:
                self._pending = request

    def go_on(self) -> None:
        """Take a pause back; a stop stays."""
        with self._lock:
            if self._pending is Request.PAUSE:
                self._pending = None

    def pending(self) -> Request | None:
        """Look at the pending request."""
        with self._lock:
            return self._pending

    def clear(self) -> None:
        """Forget requests of an earlier test."""
        with self._lock:
            self._pending = None
