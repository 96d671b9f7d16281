"""The grain of figures: the steps they come in where they are rounded, counted, or taken from a coarse timer."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

MOST_DISTINCT = 0.75
"""Figures of which a quarter repeats to the last digit come in steps: what is measured finely hardly ever does."""
_DIGITS = 12
"""Beyond so many digits a figure is as fine as a number can be."""


def decimal_grain(scores: Sequence[float]) -> float:
    """Give the step of the last decimal that any of these figures has, in their unit; 0 for figures as fine as numbers are."""
    if not scores:
        return 0.0
    decimals = max(_decimals(score) for score in scores)
    return 0.0 if decimals >= _DIGITS else 10.0**-decimals


def gap_grain(logs: NDArray[np.float64]) -> float:
    """Give the smallest difference between figures that keep coming again, as a difference of logs; 0 where they don't.

    The ticks of a timer make no round figures of a rate, but the same few again and again. Takes logs of figures of one
    kind, shape (n,), at whatever settings they were measured.
    """
    distinct = np.unique(np.round(logs, _DIGITS))
    if len(distinct) < 2 or len(distinct) > MOST_DISTINCT * len(logs):
        return 0.0
    return float(np.diff(distinct).min())


def rounding_half(grain: float, variance: float) -> float:
    """Give by how much the mean of rounded figures may be beside the mean of what was measured; at most half the grain.

    Figures that vary by as much as the grain round to either side of it as often as they should, and their mean is right
    (dither; Widrow and Kollar, Quantization Noise, ch. 4). `variance` is that of rounded figures, in the grain's unit
    squared: rounding itself adds a twelfth of the grain squared to it.
    """
    if grain == 0.0:
        return 0.0
    own = max(0.0, variance / grain**2 - 1.0 / 12.0)
    return grain / 2.0 * math.exp(-2.0 * math.pi**2 * own)


def _decimals(score: float) -> int:
    digits, _, power = f"{score:.{_DIGITS}g}".partition("e")
    after = len(digits.partition(".")[2].rstrip("0")) if "." in digits else 0
    return max(0, after - int(power or 0))
