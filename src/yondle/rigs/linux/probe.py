"""A channel and the way to read it, and what probes are made with."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from yondle.model.sensors import Channel, Reading
from yondle.rigs.linux.files import Source

CREDIBLE_C = (60.0, 130.0)
"""Between these lies every temperature at which a part of a PC shuts itself down."""
BELOW_CRITICAL = 5.0
"""A test is stopped this many degrees below the temperature at which a part shuts itself down, unless the tuner says else."""


Numbers = Callable[[], dict[str, float] | None]
"""Gives numbers that only root may read by their names, None while it can't: energy counters in µJ by their zones, sensors."""


@dataclass(frozen=True, slots=True)
class Probe:
    """A channel, and how its reading is taken; `source` is where it comes from, for people."""

    channel: Channel
    read: Callable[[], Reading]
    source: str
    close: Callable[[], None] = lambda: None
    file: tuple[Source, float] | None = None
    """The file that holds nothing but the number, and its scale, where the reading is just that."""
    most: float | None = None
    """The reading above which a test is stopped, unless the tuner says otherwise."""
    through_helper: bool = False
    """Whether only root may read it, so that the helper does."""
    junk: str = ""
    """Why what the chip calls critical guards nothing, in words; nothing where it guards, or isn't told."""


class EnergyMeter:
    """Power from a counter of energy: its difference over time, past the wrap at its end."""

    def __init__(self, energy: Callable[[], Reading], wraps_at_uj: float | None, now: Callable[[], float]) -> None:
        self._energy, self._wraps_at, self._now = energy, wraps_at_uj, now
        self._before: tuple[float, float] | None = None

    def watts(self) -> Reading:
        """Give the mean power since the reading before, in W; None the first time and where the counter was set anew."""
        energy, at = self._energy(), self._now()
        before, self._before = self._before, (at, energy) if energy is not None else None
        if energy is None or before is None or at <= before[0]:
            return None
        used = energy - before[1]
        if used < 0 and self._wraps_at:
            used += self._wraps_at
        return round(used / (at - before[0]) / 1e6, 2) if used >= 0 else None


def slug(words: str) -> str:
    """Make an identifier of a name."""
    return re.sub(r"[^a-z0-9]+", "_", words.lower()).strip("_")


def plain(channel: Channel, source: Source, scale: float, where: str) -> Probe:
    """Make the probe of a file that holds nothing but a number, `scale` times as large as the reading."""

    def read() -> Reading:
        value = source.number()
        return None if value is None else value / scale

    return Probe(channel, read, where, file=(source, scale))
