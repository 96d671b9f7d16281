"""A long trace drawn from few points: lowest and highest reading of ever larger bunches, so that no spike is lost."""

from __future__ import annotations

import numpy as np

from yondle.analysis.regression import Array
from yondle.analysis.traces import Values

_BUNCH = 4
_SHORTEST = 4096
"""A level with fewer readings than this needs no coarser one above it."""


class Pyramid:
    """One channel over time. Level k holds the lowest and the highest of every 4^k readings; about two thirds more memory."""

    def __init__(self, times: Array, values: Values) -> None:
        self.times, self.values = times, values
        self._levels: list[tuple[Values, Values]] = []
        low: Values = values
        high: Values = values
        while len(low) > _SHORTEST:
            low, high = _bunched(low, np.fmin), _bunched(high, np.fmax)
            self._levels.append((low, high))

    def seen(self, low_s: float, high_s: float, most: int) -> tuple[Array, Values]:
        """Give times and readings to draw a span with, about `most` points; every extreme of the span is among them.

        One reading beyond either end is given, too, so that lines leave the picture.
        """
        first = max(int(np.searchsorted(self.times, low_s, "left")) - 1, 0)
        last = min(int(np.searchsorted(self.times, high_s, "right")) + 1, len(self.times))
        level = 0
        while level < len(self._levels) and 2 * (last - first) / _BUNCH**level > most:
            level += 1
        if level == 0:
            return self.times[first:last], self.values[first:last]
        size = _BUNCH**level
        lows, highs = self._levels[level - 1]
        bunches = slice(first // size, -(-last // size))
        begins = np.arange(bunches.start, min(bunches.stop, len(lows))) * size
        middles = np.minimum(begins + size // 2, len(self.times) - 1)
        x = np.repeat(self.times[begins], 2)
        x[1::2] = self.times[middles]
        y = np.empty(len(x), dtype=lows.dtype)
        y[::2], y[1::2] = lows[bunches], highs[bunches]
        return x, y

    def columns(self, low_s: float, high_s: float, count: int, highest: bool = True) -> Array:
        """Give the highest (or lowest) reading in each of `count` equal stretches of a span.

        A stretch without a reading has the one before it; before the first and after the last it is nan.
        """
        edges = np.linspace(low_s, high_s, count + 1)
        x, y = self.seen(low_s, high_s, 2 * count)
        if not len(x):
            return np.full(count, np.nan)
        at = np.searchsorted(x, edges, "left")
        extreme = np.fmax if highest else np.fmin
        within = extreme.reduceat(np.append(y, np.nan).astype(np.float64), at)[:-1]
        before = np.where(at[:-1] > 0, y[np.maximum(at[:-1] - 1, 0)], np.nan)
        found = np.where(at[1:] > at[:-1], within, before)
        return np.where(edges[:-1] > self.times[-1], np.nan, found)

    def span(self, low_s: float, high_s: float) -> tuple[float, float] | None:
        """Give the lowest and the highest reading of a span; None without any."""
        values = self.seen(low_s, high_s, _SHORTEST)[1]
        known = values[np.isfinite(values)]
        return (float(known.min()), float(known.max())) if len(known) else None


def _bunched(values: Values, extreme: np.ufunc) -> Values:
    """Take an extreme of every bunch, nan only where all of it is."""
    whole = len(values) // _BUNCH * _BUNCH
    made = extreme.reduce(values[:whole].reshape(-1, _BUNCH), axis=1)
    if whole < len(values):
        made = np.append(made, extreme.reduce(values[whole:]))
    return np.asarray(made)
