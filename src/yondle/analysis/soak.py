"""How warm a machine is from the load it had: what fails when it is soaked with heat may hold for minutes when it is cool.

Warmth runs from 0, idle for long, to 1, loaded for long, with one time constant. A setting that fails at some rate when
the machine is soaked fails at that rate times exp(-lag) at first, lag being how much the chip gains from being cool,
times 1 - warmth.
"""

from __future__ import annotations

import math
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yondle.analysis.regression import Array

SOAK_S = 500.0
"""Voltage regulator, cooler and case together: slower than the die, faster than the room."""
_NODES = 24


def warmed(warmth: float, seconds: float) -> float:
    """Give the warmth after so many seconds of load."""
    return 1.0 - (1.0 - warmth) * math.exp(-seconds / SOAK_S)


def cooled(warmth: float, seconds: float) -> float:
    """Give the warmth after so many seconds without load."""
    return warmth * math.exp(-seconds / SOAK_S)


def soaked_seconds(lags: Array, seconds: Array) -> Array:
    """Give how many seconds of load when soaked count as much as these from a start with these lags; shapes broadcast.

    The integral of exp(-lag exp(-t/SOAK_S)), by the entire exponential integral Ein (Abramowitz and Stegun, 5.1.40). Good to
    1e-9 of it for lags up to 20.
    """
    import numpy as np

    return np.asarray(seconds - SOAK_S * (_ein(lags) - _ein(lags * np.exp(-seconds / SOAK_S))))


def _ein(x: Array) -> Array:
    """Give Ein(x), the integral of (1 - exp(-xu))/u for u from 0 to 1, by Gauss quadrature: SciPy takes long to load."""
    import numpy as np

    nodes, weights = _quadrature()
    return np.asarray(-np.expm1(-np.asarray(x)[..., None] * nodes) / nodes @ weights)


@cache
def _quadrature() -> tuple[Array, Array]:
    """Give the places between 0 and 1 at which the integrand is taken, and their weights."""
    import numpy as np

    nodes, weights = np.polynomial.legendre.leggauss(_NODES)
    return (nodes + 1.0) / 2.0, weights / 2.0
