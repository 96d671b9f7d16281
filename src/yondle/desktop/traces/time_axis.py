"""An axis along seconds that writes times as clocks do: 0:30, 12:05, 1:02:00."""

from __future__ import annotations

import bisect

import pyqtgraph as pg

_STEPS_S = (
    0.01,
    0.02,
    0.05,
    0.1,
    0.2,
    0.5,
    1,
    2,
    5,
    10,
    15,
    30,
    60,
    120,
    300,
    600,
    900,
    1800,
    3600,
    7200,
    14400,
    43200,
)
_TICK_PX = 90.0
"""Ticks stand at least so far apart."""


def clock_words(seconds: float, step_s: float = 1.0) -> str:
    """Write a time on the clock of a test; parts of a second only where steps are that fine."""
    sign = "\u2212" if seconds < -step_s / 2 else ""
    digits = 0 if step_s >= 1.0 else 1 if step_s >= 0.1 else 2
    whole = round(abs(seconds), digits)
    minutes, rest = divmod(whole, 60.0)
    hours, minutes = divmod(int(minutes), 60)
    width = 2 if digits == 0 else 3 + digits
    tail = f"{rest:0{width}.{digits}f}"
    return f"{sign}{hours}:{minutes:02}:{tail}" if hours else f"{sign}{minutes}:{tail}"


class TimeAxis(pg.AxisItem):
    """The axis; times are in seconds."""

    def tickSpacing(self, low: float, high: float, size: float) -> list[tuple[float, float]]:
        """Give steps that clocks know."""
        wanted = (high - low) * _TICK_PX / max(size, 1.0)
        return [(_STEPS_S[min(bisect.bisect_left(_STEPS_S, wanted), len(_STEPS_S) - 1)], 0.0)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Write the ticks."""
        return [clock_words(value * scale, spacing) for value in values]
