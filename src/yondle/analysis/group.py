"""Gain of a group of benchmarks: the geometric mean of their gains, with a margin by resampling benchmarks and passes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yondle.analysis.margins import FEWEST_PASSES, Gain, gain_from, turned_logs
from yondle.model.workloads import Direction

FEWEST_BENCHMARKS = 3
"""Below three benchmarks resampling them tells nothing of how others would do."""
_DRAWS = 4000
_SEED = 1


@dataclass(frozen=True, slots=True)
class Member:
    """One benchmark of a group: scores of the setting and of the baseline, and which way is better."""

    scores: Sequence[float]
    baseline: Sequence[float]
    direction: Direction


def group_gain(members: Sequence[Member]) -> Gain | None:
    """Give the geometric mean of the members' gains with its 95 % range; None below three usable benchmarks.

    Both benchmarks and, within each, passes are drawn anew (Efron and Tibshirani, An Introduction to the Bootstrap, ch. 6
    and 8); with B benchmarks the spread is widened by √(B/(B - 1)) and Student's factor takes the place of the normal one,
    since few benchmarks drawn from themselves vary too little. The draws are the same every time.
    """
    from scipy.special import ndtri, stdtrit

    usable = []
    for member in members:
        sides = [turned_logs(list(side), member.direction) for side in (member.scores, member.baseline)]
        if all(len(side) >= FEWEST_PASSES for side in sides):
            usable.append(sides)
    count = len(usable)
    if count < FEWEST_BENCHMARKS:
        return None
    rng = np.random.default_rng(_SEED)
    gains = np.array([side[0].mean() - side[1].mean() for side in usable])
    drawn = np.empty((count, _DRAWS))
    for row, (step, base) in zip(drawn, usable, strict=True):
        picked = (side[rng.integers(0, len(side), (_DRAWS, len(side)))].mean(axis=1) for side in (step, base))
        row[:] = next(picked) - next(picked)
    chosen = rng.integers(0, count, (_DRAWS, count))
    means = drawn[chosen, np.arange(_DRAWS)[:, None]].mean(axis=1)
    error = float(means.std(ddof=1)) * math.sqrt(count / (count - 1))
    critical, power = float(stdtrit(count - 1, 0.975)), float(ndtri(0.8))
    n, m = (min(len(sides[i]) for sides in usable) for i in (0, 1))
    return gain_from(float(gains.mean()), critical * error, (critical + power) * error, n, m)
