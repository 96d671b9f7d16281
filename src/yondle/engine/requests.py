"""What others may ask of a running engine, from any thread."""

from __future__ import annotations

import threading
from collections.abc import Callable
from enum import Enum


class Request(Enum):
    """STOP ends the test and goes back; PAUSE waits before the next pass with the load off; HALT goes to stock at once."""

    PAUSE = 1
    STOP = 2
    HALT = 3


class Requests:
    """The one pending request; a graver one replaces a lighter one, never the other way round.

    A request stays until whoever ordered the tests takes it: it may come before a test has begun, between two tests of
    a plan, or while one is being judged, and has to end what was ordered all the same. `from_outside` is looked at
    with every look: what other programs ask.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pending: Request | None = None
        self.from_outside: Callable[[], Request | None] = lambda: None

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
        asked = self.from_outside()
        if asked is not None:
            self.ask(asked)
        with self._lock:
            return self._pending

    @property
    def paused(self) -> bool:
        """Tell whether a pause is asked for: it begins before the next pass, and lasts until the tuner goes on."""
        with self._lock:
            return self._pending is Request.PAUSE

    def clear(self) -> None:
        """Forget what was asked: it has been done, or what it was asked of is over."""
        with self._lock:
            self._pending = None
