"""A watchdog over a plan: where the machine freezes in it, in a pass, between two or over a value, it restarts by itself."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol

FEEDS_EVERY_S = 5.0
"""Well under what the watchdog waits (a minute)."""


class Watchdog(Protocol):
    """Something that restarts this machine by itself unless it is fed."""

    def guard(self) -> None:
        """Arm it; raises KnownError where there is none."""

    def feed(self) -> None:
        """Tell it that all is well."""

    def unguard(self) -> None:
        """Let go of it."""

    def end_night(self) -> None:
        """Take back what allows a plan to come back over restarts."""


class PlanGuard:
    """Keeps a watchdog armed over a plan that may come back over restarts.

    Between passes it is fed as long as this program lives; in a pass only as long as its course is looked at, too.
    """

    def __init__(self, watchdog: Watchdog) -> None:
        self.watchdog = watchdog
        self._over, self._looked = threading.Event(), threading.Event()
        self._in_pass = False

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Keep it armed; raises KnownError where it can't be, before anything is done."""
        self.watchdog.guard()
        self._over.clear()
        feeds = threading.Thread(target=self._feed, name="feeds the watchdog", daemon=True)
        feeds.start()
        try:
            yield
        finally:
            self._over.set()
            feeds.join()
            self.watchdog.unguard()

    def begin(self) -> None:
        """Note that a pass begins."""
        self._looked.set()
        self._in_pass = True

    def look(self) -> None:
        """Note that the pass under way is looked at."""
        self._looked.set()

    def end(self) -> None:
        """Note that the pass is over."""
        self._in_pass = False

    def _feed(self) -> None:
        while not self._over.wait(FEEDS_EVERY_S):
            if self._looked.is_set() or not self._in_pass:
                self._looked.clear()
                self.watchdog.feed()
