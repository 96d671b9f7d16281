"""How warm a machine is from the load it had: what fails when it is soaked with heat may hold for minutes when it is cool.

Warmth runs from 0, idle for long, to 1, loaded for long, with one time constant. A setting that fails at some rate when
the machine is soaked fails at that rate times exp(-lag) at first, lag being how much the chip gains from being cool,
times 1 - warmth.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yondle.analysis.regression import Array

SOAK_S = 500.0
"""Voltage regulator, cooler and case together: slower than the die, faster than the room."""
_LEAST = 1e-9


def warmed(warmth: float, seconds: float) -> float:
    """Give the warmth after so many seconds of load."""
    return 1.0 - (1.0 - warmth) * math.exp(-seconds / SOAK_S)


def cooled(warmth: float, seconds: float) -> float:
    """Give the warmth after so many seconds without load."""
    return warmth * math.exp(-seconds / SOAK_S)


def soaked_seconds(lags: Array, seconds: Array) -> Array:
    """Give how many seconds of load when soaked count as much as these from a start with these lags; shapes broadcast.

    The integral of exp(-lag exp(-t/SOAK_S)), by the entire exponential integral Ein (Abramowitz and Stegun, 5.1.40).
    """
    import numpy as np

    return np.asarray(seconds - SOAK_S * (_ein(lags) - _ein(lags * np.exp(-seconds / SOAK_S))))


def _ein(x: Array) -> Array:
    import numpy as np
    from scipy.special import exp1

    safe = np.maximum(x, _LEAST)
    return np.where(x > _LEAST, exp1(safe) + np.euler_gamma + np.log(safe), x)
