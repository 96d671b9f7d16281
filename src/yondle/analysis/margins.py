"""Spread of passes, and gains with their margin, worked out on the logarithm of scores turned so that up is better."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.student import t_quantile
from yondle.language.saying import say
from yondle.model.workloads import Direction

FEWEST_PASSES = 2
"""Below two passes there is no spread, hence no margin and no gain to speak of."""

LEAST_VARIATION = 1e-4
"""Passes count as varying by this at least: figures that never vary are rounded or capped, not exact."""

RISK = 0.05
"""How often a 95 % range misses."""

POWER = 0.8
"""How often an effect called visible shows."""
_PLANNED_VARIATION = 1.1
"""The variation planned with against the one seen: few passes tell it badly, and too few passes cost a whole round."""


class GainWord(StrEnum):
    """What a gain may be called."""

    GAIN = "gain"
    LOSS = "loss"
    WITHIN_NOISE = "within noise"
    TOO_FEW = "too few passes"


@dataclass(frozen=True, slots=True)
class Spread:
    """Passes of one setting: count, geometric mean, its 95 % range, and the coefficient of variation of one pass."""

    n: int
    mean: float
    low: float
    high: float
    variation: float


@dataclass(frozen=True, slots=True)
class Gain:
    """A gain over the baseline as a fraction, up is better, with its 95 % range; `low` and `high` are nan without one.

    `visible` is the smallest effect that these passes would have shown in four of five cases.
    """

    n: int
    n_baseline: int
    fraction: float
    low: float
    high: float
    word: GainWord
    visible: float = math.nan

    @property
    def margin(self) -> float:
        """Half the width of the 95 % range."""
        return (self.high - self.low) / 2.0


def turned_logs(scores: list[float], direction: Direction) -> NDArray[np.float64]:
    """Give the logs of scores, negated where lower is better; scores that aren't above 0 are left out."""
    logs = np.log(np.array([s for s in scores if math.isfinite(s) and s > 0.0], dtype=np.float64))
    return -logs if direction is Direction.LOWER else logs


def spread(scores: list[float]) -> Spread | None:
    """Sum up the passes of one setting; None when none of them is a number from 0 on.

    The mean is geometric and its range is the t interval on logs; with one pass the range is nan. Counts that are sometimes 0
    have no logs: their mean is arithmetic, and their t interval doesn't reach below 0.
    """
    if 0.0 in scores:
        return _spread_of_counts(np.array([s for s in scores if math.isfinite(s) and s >= 0.0]))
    logs = turned_logs(scores, Direction.HIGHER)
    n = len(logs)
    if n == 0:
        return None
    mean = float(np.mean(logs))
    if n < FEWEST_PASSES:
        return Spread(n, math.exp(mean), math.nan, math.nan, math.nan)
    deviation = float(np.std(logs, ddof=1))
    half = t_quantile(n - 1) * deviation / math.sqrt(n)
    return Spread(n, math.exp(mean), math.exp(mean - half), math.exp(mean + half), deviation)


def _spread_of_counts(counts: NDArray[np.float64]) -> Spread:
    n, mean = len(counts), float(counts.mean())
    if n < FEWEST_PASSES:
        return Spread(n, mean, math.nan, math.nan, math.nan)
    deviation = float(np.std(counts, ddof=1))
    half = t_quantile(n - 1) * deviation / math.sqrt(n)
    return Spread(n, mean, max(mean - half, 0.0), mean + half, deviation / mean if mean else 0.0)


def gain(scores: list[float], baseline: list[float], direction: Direction, comparisons: int = 1) -> Gain | None:
    """Give the gain of passes over baseline passes with Welch's 95 % interval on logs (Welch 1947, Biometrika 34).

    With several `comparisons` the interval is widened so that all of them hold together (Bonferroni; Miller, Simultaneous
    Statistical Inference, ch. 1). None when either side has no
    usable pass, or one that is 0: nothing is a ratio of it. Figures that never vary (a cap, coarse
    rounding) get the margin of LEAST_VARIATION: equal figures are no sign of a difference, nor of its absence.
    """
    step, base = turned_logs(scores, direction), turned_logs(baseline, direction)
    n, m = len(step), len(base)
    if 0.0 in scores or 0.0 in baseline:
        return None
    if n == 0 or m == 0:
        return None
    difference = float(np.mean(step) - np.mean(base))
    if n < FEWEST_PASSES or m < FEWEST_PASSES:
        return Gain(n, m, math.expm1(difference), math.nan, math.nan, GainWord.TOO_FEW)
    a, b = (max(float(np.var(side, ddof=1)), LEAST_VARIATION**2) / len(side) for side in (step, base))
    degrees = (a + b) ** 2 / (a * a / (n - 1) + b * b / (m - 1))
    error, critical = math.sqrt(a + b), t_quantile(degrees, 1.0 - RISK / (2.0 * comparisons))
    return gain_from(difference, critical * error, (critical + t_quantile(degrees, POWER)) * error, n, m)


def gain_from(difference: float, half: float, visible: float, n: int, n_baseline: int) -> Gain:
    """Make a gain of a difference of logs, half the width of its range, and the smallest visible difference."""
    low, high = difference - half, difference + half
    word = GainWord.GAIN if low > 0.0 else GainWord.LOSS if high < 0.0 else GainWord.WITHIN_NOISE
    return Gain(n, n_baseline, math.expm1(difference), math.expm1(low), math.expm1(high), word, math.expm1(visible))


def passes_needed(effect: float, variation: float, baselines_per_pass: float = 1.0, confidence: float = 0.95) -> int:
    """Give the passes of a setting that show a gain of `effect` (a fraction) in four of five cases.

    `variation` is the coefficient of variation of one pass. Normal approximation (any text on sample sizes), planned with
    a tenth more variation than was seen; under ten passes it promises a little too much. Raises ValueError for an effect
    of 0 or a variation that isn't known.
    """
    if effect == 0.0 or not math.isfinite(effect) or not math.isfinite(variation):
        raise ValueError(say("passes are needed for an effect and a variation that are known"))
    from scipy.special import ndtri

    spread_of_both = 1.0 + 1.0 / baselines_per_pass
    reach = float(ndtri((1.0 + confidence) / 2.0) + ndtri(POWER))
    each = _PLANNED_VARIATION * max(variation, LEAST_VARIATION)
    return max(FEWEST_PASSES, math.ceil(spread_of_both * (reach * each / abs(effect)) ** 2))
