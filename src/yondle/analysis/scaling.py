"""How a score answers to a knob: its slope, a cap, proportion, and what two knobs do together.

Everything is worked out on logarithms, scores turned so that up is better, and on setting means, not on passes: settings
carry a noise of their own, and passes of one setting share it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yondle.analysis.caps import Points
from yondle.analysis.margins import LEAST_VARIATION
from yondle.analysis.regression import Array, fit
from yondle.analysis.student import t_quantile
from yondle.language.saying import say
from yondle.model.workloads import Direction


@dataclass(frozen=True, slots=True)
class Elasticity:
    """Per cent of score per per cent of setting, with its 95 % range (nan with two settings), over `settings` settings."""

    slope: float
    low: float
    high: float
    settings: int

    @property
    def sure(self) -> bool:
        """Tell whether its sign is: with 99.5 %, since a slope that is told is one of many that are looked at."""
        if self.settings < 3 or not math.isfinite(self.low):
            return False
        wider = t_quantile(self.settings - 2, 0.9975) / t_quantile(self.settings - 2)
        return abs(self.slope) > wider * (self.high - self.low) / 2.0


@dataclass(frozen=True, slots=True)
class Interaction:
    """How much more two changes bring together than apart, as a fraction with its 95 % range.

    It is `sure` where it would be told if all that a logbook tells held together.
    """

    fraction: float
    low: float
    high: float
    sure: bool = True

    @property
    def words(self) -> str:
        """Say it."""
        if not self.sure:
            return say("by itself a sign that one changes what the other brings; test it again to be sure")
        if self.low > 0.0:
            return say("they help each other")
        return (
            say("they hinder each other") if self.high < 0.0 else say("no sign that one changes what the other brings")
        )


def elasticity(points: Points, direction: Direction) -> Elasticity | None:
    """Fit the slope of log score on log setting through setting means; None below two different settings.

    Huber's fit with the t interval of the slope.
    """
    return slope_of(*setting_means(points, direction))


def in_proportion(value: float, score: float, first_value: float, first_score: float, direction: Direction) -> float:
    """Give the score ratio over the setting ratio: 1 where the score rises in proportion to the setting."""
    ratio = score / first_score if direction is Direction.HIGHER else first_score / score
    return ratio / (value / first_value)


def setting_means(points: Points, direction: Direction) -> tuple[Array, Array]:
    """Give logs of settings, rising, with the mean log score of each; settings that aren't above 0 are left out."""
    pairs = np.array([(value, score) for value, scores in points for score in scores], dtype=np.float64).reshape(-1, 2)
    usable = pairs[(pairs[:, 0] > 0.0) & (pairs[:, 1] > 0.0) & np.isfinite(pairs[:, 1])]
    values, which = np.unique(usable[:, 0], return_inverse=True)
    logs = np.log(usable[:, 1])
    means = np.bincount(which, logs, len(values)) / np.bincount(which, minlength=len(values))
    return np.log(values), -means if direction is Direction.LOWER else means


def slope_of(x: Array, y: Array) -> Elasticity | None:
    """Give the slope through setting means as they are; None below two of them."""
    if len(x) < 2:
        return None
    if len(x) == 2:
        return Elasticity(float((y[1] - y[0]) / (x[1] - x[0])), math.nan, math.nan, 2)
    fitted = fit(np.stack([np.ones_like(x), x - x.mean()], axis=1), y, least_scale=LEAST_VARIATION)
    slope, error = fitted.contrast(np.array([0.0, 1.0]))
    half = t_quantile(fitted.degrees) * error
    return Elasticity(slope, slope - half, slope + half, len(x))
