"""Time on a bench: samples are dated when they were taken there, on the notebook's scale; both clocks are related by asking."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

HOLDS_S = 2.0
"""So long after the last sample time stands at it."""
SHORT_S = 0.06
"""A sample that comes so much sooner than it was waited for is the one that was meant."""
LATE_AT_MOST_S, EARLY_AT_MOST_S = 60.0, 2.0
"""A sample dated further than this from when it could have been taken is no sample."""
RELATED_FOR_S = 300.0
"""Clocks drift: after this long they are related anew, before the next pass."""


class OwnClock(Protocol):
    """The notebook's own clocks."""

    block_s: float

    def now(self) -> float:
        """Seconds of a clock that never goes back."""

    def go_on(self, ahead_s: float) -> None:
        """Run this far ahead."""

    def wall(self) -> datetime:
        """Date and time."""

    def slept_s(self) -> float:
        """Seconds suspended."""

    def wait(self, seconds: float) -> None:
        """Wait."""


@dataclass(frozen=True, slots=True)
class Related:
    """How a bench's clock stands to ours: what is added to its seconds to have ours, how uncertain that is, and its date."""

    offset_s: float
    within_s: float
    date_apart_s: float


def related(
    ask: Callable[[], tuple[float, float]], now: Callable[[], float], date: Callable[[], float], times: int = 5
) -> Related:
    """Ask the bench for its seconds and its date a few times, and take the quickest answer: it lies within half its way.

    The offset by the midpoint of the quickest exchange is the usual estimate (RFC 5905, section 8, with the shortest delay).
    """
    best: Related | None = None
    for _ in range(times):
        sent, dated = now(), date()
        there, there_date = ask()
        half = (now() - sent) / 2.0
        if best is None or half < best.within_s:
            best = Related(sent + half - there, half, there_date - (dated + half))
    assert best is not None
    return best


class BenchClock:
    """The notebook's clock, but while samples stream the time of the sample that was taken last.

    `waits` lets the next sample come, and gives when it was taken and how long the bench has slept; None while none stream.
    """

    def __init__(self, own: OwnClock, waits: Callable[[float], tuple[float, float] | None]) -> None:
        self._own, self._waits = own, waits
        self._sample: tuple[float, float] | None = None
        self._latest = self._slept_s = 0.0
        self._holds = False
        self.delay_s = 0.0
        self.block_s = own.block_s

    def now(self) -> float:
        """Seconds that never go back; between two samples time stands, as samples are what a test goes by.

        Without a stream it is the bench's present as far as it can be known here: what happens there is heard `delay_s` later.
        """
        own = self._own.now()
        if self._sample is not None and own - self._sample[1] < HOLDS_S:
            now = self._sample[0]
        else:
            now = self._latest if self._holds else own - self.delay_s
        self._latest = max(self._latest, now)
        return self._latest

    def hold(self) -> None:
        """Stand at the last sample: nothing is known of what came after it."""
        self._sample, self._holds = None, True

    def release(self) -> None:
        """Go on."""
        self._holds = False

    def go_on(self, ahead_s: float) -> None:
        """Run this far ahead of the notebook's own clock."""
        self._own.go_on(ahead_s)
        self._sample, self._latest = None, 0.0

    def wall(self) -> datetime:
        """The notebook's date and time: the record is kept here."""
        return self._own.wall()

    def wait(self, seconds: float) -> None:
        """Let the next sample come; without a stream let time pass."""
        self._holds = False
        until = self._sample[0] + seconds - SHORT_S if self._sample is not None else 0.0
        while True:
            sampled = self._waits(seconds)
            if sampled is None:
                self._own.wait(seconds)
                return
            self._sample = sampled[0], self._own.now()
            self._slept_s = sampled[1]
            if sampled[0] >= until:
                return

    def slept_s(self) -> float:
        """Seconds that bench and notebook have been suspended."""
        return self._own.slept_s() + self._slept_s
