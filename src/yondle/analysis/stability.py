"""What a record of runs proves by itself: standards, the upper limit of a failure rate, and how long proof would take.

No model of where the edge lies enters here, only that failures at one setting come independently of one another (a
Poisson process); analysis/hold.py borrows strength from what failed elsewhere.
"""

from __future__ import annotations

import math
from enum import StrEnum

from yondle.language.saying import later

CONFIDENCE = 0.95
HOUR_S = 3600.0


class Standard(StrEnum):
    """How rarely a setting may fail to be called fit for something."""

    QUICK = "quick"
    SESSION = "session"
    DAILY = "daily"


PER_HOUR = {Standard.QUICK: 6.0, Standard.SESSION: 1.0, Standard.DAILY: 1.0 / 8.0}
"""Failures an hour that a standard allows: one in ten minutes, in an hour, in eight hours."""

STANDARD_WORDS = {
    Standard.QUICK: later("less than once in 10 min"),
    Standard.SESSION: later("less than once an hour"),
    Standard.DAILY: later("less than once in 8 h"),
}


def most_per_hour(failures: int, seconds: float, confidence: float = CONFIDENCE) -> float:
    """Give the upper limit of the failures an hour after so many failures in so many seconds of load.

    chi²(confidence; 2k + 2)/(2T), the exact limit of a Poisson rate (Garwood 1936, Biometrika 28). Infinite without load.
    """
    if seconds <= 0.0:
        return float("inf")
    return _chi_square(confidence, 2 * failures + 2) / (2.0 * seconds / HOUR_S)


def least_per_hour(failures: int, seconds: float, confidence: float = CONFIDENCE) -> float:
    """Give the lower limit of the failures an hour: chi²(1 - confidence; 2k)/(2T) (Garwood 1936). 0 without a failure."""
    if failures == 0:
        return 0.0
    return _chi_square(1.0 - confidence, 2 * failures) / (2.0 * max(seconds, 1.0) / HOUR_S)


def seconds_to_prove(standard: Standard, failures: int = 0, confidence: float = CONFIDENCE) -> float:
    """Give the seconds of load with no more than so many failures that prove a standard by passing alone."""
    return _chi_square(confidence, 2 * failures + 2) / (2.0 * PER_HOUR[standard]) * HOUR_S


def _chi_square(probability: float, degrees: int) -> float:
    if degrees == 2:
        return -2.0 * math.log1p(-probability)
    from scipy.special import chdtri

    return float(chdtri(degrees, 1.0 - probability))
