"""Gain of a group of benchmarks: the geometric mean of their gains, with a margin by resampling benchmarks and passes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yondle.analysis.margins import FEWEST_PASSES, POWER, Gain, gain_from, t_quantile, turned_logs
from yondle.model.workloads import Direction

FEWEST_BENCHMARKS = 3
"""Below three benchmarks resampling them tells nothing of how others would do."""


@dataclass(frozen=True, slots=True)
class Member:
    """One benchmark of a group: scores of the setting and of the baseline, and which way is better."""

    scores: Sequence[float]
    baseline: Sequence[float]
    direction: Direction


def group_gain(members: Sequence[Member]) -> Gain | None:
    """Give the geometric mean of the members' gains with its 95 % range; None below three usable benchmarks.

    Its variance is that of resampling benchmarks, and within each its passes (Efron and Tibshirani, An Introduction to the
    Bootstrap, ch. 6 and 8), in the limit of many draws. With B benchmarks drawn N_b times (multinomial, E N_b² = 2 - 1/B),
    gains g_b and variances v_b of their redrawn means that is (Σ(g_b - g)² + (2 - 1/B) Σ v_b)/B². The spread is widened by
    √(B/(B - 1)) and Student's factor takes the place of the normal one, since few benchmarks drawn from themselves vary
    too little.
    """
    usable = []
    for member in members:
        sides = [turned_logs(list(side), member.direction) for side in (member.scores, member.baseline)]
        if all(len(side) >= FEWEST_PASSES for side in sides):
            usable.append(sides)
    count = len(usable)
    if count < FEWEST_BENCHMARKS:
        return None
    gains = np.array([step.mean() - base.mean() for step, base in usable])
    redrawn = sum(float(np.var(side)) / len(side) for sides in usable for side in sides)
    apart = gains - gains.mean()
    variance = (float(apart @ apart) + (2.0 - 1.0 / count) * redrawn) / count**2
    error = math.sqrt(variance * count / (count - 1))
    critical = t_quantile(count - 1)
    n, m = (min(len(sides[i]) for sides in usable) for i in (0, 1))
    return gain_from(float(gains.mean()), critical * error, (critical + t_quantile(math.inf, POWER)) * error, n, m)
