"""Whether anybody has asked lately: what is read in a thread of its own rests while nobody reads it."""

from __future__ import annotations

import math
import threading
import time

RESTS_AFTER_S = 10.0
"""Longer than any time between two samples while something is tested."""


class Wanted:
    """Asked by whoever reads, waited on by the thread that would read."""

    def __init__(self, rests_after_s: float = RESTS_AFTER_S) -> None:
        self._rests_after_s = rests_after_s
        self._at = -math.inf
        self._asked = threading.Event()
        self._left = False

    def ask(self) -> None:
        """Say that a reading is wanted."""
        self._at = time.monotonic()
        self._asked.set()

    def leave(self) -> None:
        """Let whoever waits go: nothing is wanted any more."""
        self._left = True
        self._asked.set()

    @property
    def lately(self) -> bool:
        """Tell whether somebody asked lately, and nobody has left."""
        return not self._left and time.monotonic() - self._at <= self._rests_after_s

    def wait(self) -> None:
        """Wait until somebody asks or leaves, without waking up meanwhile."""
        while not self._left and not self.lately:
            self._asked.clear()
            if not self._left and not self.lately:
                self._asked.wait()
