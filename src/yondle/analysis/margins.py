"""Spread of passes, and gains with their margin, worked out on the logarithm of scores turned so that up is better."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from yondle.analysis.student import t_quantile
from yondle.language.saying import say
from yondle.model.workloads import Direction

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

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
class Basis:
    """What stands behind a gain: attempts of either side, those that measured both, and what was learned of attempts.

    Deviations are of logs: that of a pass, by which attempts vary, and by which they walk from one to the next; `repeats`
    counts what that was learned from. By `beside` the gain may be wrong for the steps that figures come in.
    """

    attempts: int
    attempts_before: int
    alternated: int
    pass_deviation: float
    attempt_deviation: float
    walk_deviation: float
    repeats: int
    beside: float


@dataclass(frozen=True, slots=True)
class Gain:
    """A gain over the baseline as a fraction, up is better, with its 95 % range; `low` and `high` are nan without one.

    `visible` is the smallest effect that these passes would have shown in four of five cases, `basis` what it rests on. `sure`
    tells that its word stands among all that is said with it, so many that some would be called a gain by chance.
    """

    n: int
    n_baseline: int
    fraction: float
    low: float
    high: float
    word: GainWord
    visible: float = math.nan
    basis: Basis | None = None
    sure: bool = True
    told: bool = False
    """Whether a side of it is a single figure that was told, not measured here."""
    borrowed: bool = False
    """Whether its range rests on how much other figures of that benchmark vary, since its own can't tell."""

    @property
    def margin(self) -> float:
        """Half the width of the 95 % range."""
        return (self.high - self.low) / 2.0


def turned_logs(scores: list[float], direction: Direction) -> NDArray[np.float64]:
    """Give the logs of scores, negated where lower is better; scores that aren't above 0 are left out."""
    import numpy as np

    logs = np.log(np.array([s for s in scores if math.isfinite(s) and s > 0.0], dtype=np.float64))
    return -logs if direction is Direction.LOWER else logs


def spread(scores: list[float]) -> Spread | None:
    """Sum up the passes of one setting; None when none of them is a number from 0 on.

    The mean is geometric and its range is the t interval on logs; with one pass the range is nan. Counts that are sometimes 0
    have no logs: their mean is arithmetic, and their t interval doesn't reach below 0.
    """
    import numpy as np

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
    import numpy as np

    n, mean = len(counts), float(counts.mean())
    if n < FEWEST_PASSES:
        return Spread(n, mean, math.nan, math.nan, math.nan)
    deviation = float(np.std(counts, ddof=1))
    half = t_quantile(n - 1) * deviation / math.sqrt(n)
    return Spread(n, mean, max(mean - half, 0.0), mean + half, deviation / mean if mean else 0.0)


def gain_from(
    difference: float, half: float, visible: float, n: int, n_baseline: int, basis: Basis | None = None
) -> Gain:
    """Make a gain of a difference of logs, half the width of its range, and the smallest visible difference."""
    low, high = difference - half, difference + half
    word = GainWord.GAIN if low > 0.0 else GainWord.LOSS if high < 0.0 else GainWord.WITHIN_NOISE
    fraction, least, most = (math.expm1(v) for v in (difference, low, high))
    return Gain(n, n_baseline, fraction, least, most, word, math.expm1(visible), basis)


def passes_needed(effect: float, variation: float, baselines_per_pass: float = 1.0, confidence: float = 0.95) -> int:
    """Give the passes of a setting that show a gain of `effect` (a fraction) in four of five cases.

    `variation` is the coefficient of variation of one pass. Normal approximation (any text on sample sizes), planned with
    a tenth more variation than was seen; under ten passes it promises a little too much. Raises ValueError for an effect
    of 0 or a variation that isn't known.
    """
    if effect == 0.0 or not math.isfinite(effect) or not math.isfinite(variation):
        raise ValueError(say("passes are needed for an effect and a variation that are known"))
    spread_of_both = 1.0 + 1.0 / baselines_per_pass
    reach = t_quantile(math.inf, (1.0 + confidence) / 2.0) + t_quantile(math.inf, POWER)
    each = _PLANNED_VARIATION * max(variation, LEAST_VARIATION)
    return max(FEWEST_PASSES, math.ceil(spread_of_both * (reach * each / abs(effect)) ** 2))
