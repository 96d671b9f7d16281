"""A watchdog over the passes of a plan: where the machine freezes in one, it restarts by itself."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol


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


class PassGuard:
    """Arms a watchdog in each pass, as long as a plan is under way that may come back over restarts."""

    def __init__(self, watchdog: Watchdog) -> None:
        self.watchdog = watchdog
        self._watches = False

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Arm it in each pass that begins from here on."""
        self._watches = True
        try:
            yield
        finally:
            self._watches = False

    def begin(self) -> None:
        """Arm it as a pass begins; raises KnownError where it can't be."""
        if self._watches:
            self.watchdog.guard()

    def feed(self) -> None:
        """Tell it that the pass goes on."""
        if self._watches:
            self.watchdog.feed()

    def end(self) -> None:
        """Let go of it as a pass ends."""
        if self._watches:
            self.watchdog.unguard()
