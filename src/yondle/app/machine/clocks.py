"""Real time; the only place where the program looks at the machine's clocks or waits."""

from __future__ import annotations

import threading
import time
from datetime import datetime

REAL_BLOCK_S = 1.5


class RealClock:
    """The machine's own clocks: the monotonic one for durations, the wall clock for dates."""

    block_s = REAL_BLOCK_S

    def __init__(self) -> None:
        self._news = threading.Event()
        self._ahead_s = 0.0

    def now(self) -> float:
        """Seconds of the monotonic clock, or of one that goes on over restarts of the machine (`go_on`)."""
        return time.monotonic() + self._ahead_s

    def go_on(self, ahead_s: float) -> None:
        """Run this far ahead of the monotonic clock, which begins anew with every start of the machine."""
        self._ahead_s = ahead_s

    def wall(self) -> datetime:
        """Date and time with the local offset."""
        return datetime.now().astimezone()

    def slept_s(self) -> float:
        """Seconds suspended since the machine started: what the clock of boot time has and the monotonic one hasn't."""
        return time.clock_gettime(time.CLOCK_BOOTTIME) - time.clock_gettime(time.CLOCK_MONOTONIC)

    def wait(self, seconds: float) -> None:
        """Wait, but not past the moment there is news."""
        self._news.wait(max(0.0, seconds))
        self._news.clear()

    def wake(self) -> None:
        """Tell that there is news, from any thread: a pass that has ended needn't wait for the next sample."""
        self._news.set()
