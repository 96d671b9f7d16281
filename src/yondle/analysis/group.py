"""Gain of a group of benchmarks: the geometric mean of their gains, with margins for these benchmarks and for any."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.margins import FEWEST_PASSES, LEAST_VARIATION, POWER, Gain, gain_from, turned_logs
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

FEWEST_BENCHMARKS = 3
"""Below three benchmarks resampling them tells nothing of how others would do."""


@dataclass(frozen=True, slots=True)
class Member:
    """One benchmark of a group: scores of the setting and of the baseline, and which way is better."""

    scores: Sequence[float]
    baseline: Sequence[float]
    direction: Direction


@dataclass(frozen=True, slots=True)
class GroupGain:
    """The geometric mean of the gains of some benchmarks, with two ranges that answer two questions.

    `these` asks what these very benchmarks gained: only their passes are noise. `drawn` asks what others of their kind
    would gain: the benchmarks are taken as drawn at random, too; None below FEWEST_BENCHMARKS.
    """

    benchmarks: int
    these: Gain
    drawn: Gain | None


def group_gain(members: Sequence[Member]) -> GroupGain | None:
    """Give the geometric mean of the members' gains with its 95 % ranges; None without a usable benchmark.

    With B benchmarks of gains g_b, whose means have the variances v_b, the mean of these is known to within Σ v_b/B², with
    the degrees of freedom of Welch and Satterthwaite over all their sides.

    Were they drawn at random its variance is that of resampling benchmarks, and within each its passes (Efron and Tibshirani,
    An Introduction to the Bootstrap, ch. 6 and 8), in the limit of many draws: with N_b draws of each (multinomial,
    E N_b² = 2 - 1/B) that is (Σ(g_b - g)² + (2 - 1/B) Σ v_b)/B². The spread is widened by √(B/(B - 1)) and Student's factor
    takes the place of the normal one, since few benchmarks drawn from themselves vary too little.
    """
    usable = []
    for member in members:
        if 0.0 in member.scores or 0.0 in member.baseline:
            continue
        sides = [turned_logs(list(side), member.direction) for side in (member.scores, member.baseline)]
        if all(len(side) >= FEWEST_PASSES for side in sides):
            usable.append(sides)
    count = len(usable)
    if not count:
        return None
    gains = np.array([step.mean() - base.mean() for step, base in usable])
    mean, n, m = float(gains.mean()), *(min(len(sides[i]) for sides in usable) for i in (0, 1))
    return GroupGain(count, _of_these(usable, mean, n, m), _drawn(usable, gains, n, m))


def _of_these(usable: list[list[NDArray[np.float64]]], mean: float, n: int, m: int) -> Gain:
    parts = [
        (max(float(np.var(side, ddof=1)), LEAST_VARIATION**2) / len(side), len(side) - 1)
        for sides in usable
        for side in sides
    ]
    variance = sum(part for part, _ in parts)
    degrees = variance**2 / sum(part**2 / free for part, free in parts)
    error, critical = math.sqrt(variance) / len(usable), t_quantile(degrees)
    return gain_from(mean, critical * error, (critical + t_quantile(degrees, POWER)) * error, n, m)


def _drawn(usable: list[list[NDArray[np.float64]]], gains: NDArray[np.float64], n: int, m: int) -> Gain | None:
    count = len(usable)
    if count < FEWEST_BENCHMARKS:
        return None
    redrawn = sum(float(np.var(side)) / len(side) for sides in usable for side in sides)
    apart = gains - gains.mean()
    variance = (float(apart @ apart) + (2.0 - 1.0 / count) * redrawn) / count**2
    error = math.sqrt(variance * count / (count - 1))
    critical = t_quantile(count - 1)
    return gain_from(float(gains.mean()), critical * error, (critical + t_quantile(math.inf, POWER)) * error, n, m)
