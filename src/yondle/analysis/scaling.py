"""How a score answers to a knob: the elasticity over the settings tried, and whether a cap hides the answer."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yondle.analysis.margins import t_quantile, turned_logs
from yondle.model.workloads import Direction

CAP_SHARE = 0.995
"""Setting means within half a per cent of a known cap count as sitting at it."""


@dataclass(frozen=True, slots=True)
class Elasticity:
    """Per cent of score per per cent of setting, with its 95 % range (nan with two settings), over `settings` settings."""

    slope: float
    low: float
    high: float
    settings: int


def elasticity(points: list[tuple[float, list[float]]], direction: Direction) -> Elasticity | None:
    """Fit the slope of log score on log setting through setting means.

    Setting means, not passes, are the data: settings carry a noise of their own, and passes of one setting share it.
    Ordinary least squares with the t interval of the slope (any text on regression). None below two different settings.
    """
    logs = [(math.log(value), turned_logs(scores, direction)) for value, scores in points if value > 0]
    usable = [(x, float(np.mean(y))) for x, y in logs if len(y)]
    x = np.array([p[0] for p in usable])
    y = np.array([p[1] for p in usable])
    if len(x) < 2 or float(np.ptp(x)) == 0.0:
        return None
    centred = x - x.mean()
    sxx = float(np.sum(centred**2))
    slope = float(np.sum(centred * y)) / sxx
    if len(x) < 3:
        return Elasticity(slope, math.nan, math.nan, len(x))
    residual = y - y.mean() - slope * centred
    error = math.sqrt(float(np.sum(residual**2)) / (len(x) - 2) / sxx)
    half = t_quantile(len(x) - 2) * error
    return Elasticity(slope, slope - half, slope + half, len(x))


def at_cap(points: list[tuple[float, list[float]]], cap: float | None) -> bool:
    """Tell whether every setting's mean sits at a known cap, so that the figures say nothing about the knob."""
    if cap is None:
        return False
    means = [float(np.mean(scores)) for _, scores in points if scores]
    return bool(means) and min(means) >= cap * CAP_SHARE
