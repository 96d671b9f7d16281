"""What a warmer room takes off an edge: how much warmer it will be than in the tests, and what a kelvin costs on this chip."""

from __future__ import annotations

from collections.abc import Sequence

from yondle.analysis.hold import GAINS_COOL, Posterior
from yondle.analysis.stability import HOUR_S

SOAK_RISE_K = 30.0
"""A machine soaked with heat is about so much warmer than a cool one: what being cool gains is gained by so many K."""
AHEAD_H = 4.0
"""A room that was warming while it was searched goes on for so long: into the morning, from a search that ends at night."""
_LEAST_TREND_H = 1.0
MOST_WARMING_K = 8.0
"""More than this is no night but another season, and needs tests of its own."""


def notches_per_k(load: Posterior) -> float:
    """Give what a kelvin costs, in notches, from what was learned of how much a cool machine gains (soak.py)."""
    return float(load.weights @ (GAINS_COOL[load.cool] * load.width)) / SOAK_RISE_K


def warming_k(rooms: Sequence[tuple[float, float]], warmest_c: float | None) -> float:
    """Give how much warmer than in the tests the room may get.

    `rooms` are the tests' as seconds into the search and °C, `warmest_c` the warmest room told lately. The mean is what the
    tests stand for; the room may come to the warmest again, or go on warming as it did.
    """
    if not rooms:
        return 0.0
    mean = sum(room for _, room in rooms) / len(rooms)
    (began_s, first), (ended_s, last) = rooms[0], rooms[-1]
    hours = (ended_s - began_s) / HOUR_S
    trend = max((last - first) / hours, 0.0) if hours >= _LEAST_TREND_H else 0.0
    expected = max(last + AHEAD_H * trend, last if warmest_c is None else warmest_c)
    return min(max(expected - mean, 0.0), MOST_WARMING_K)
