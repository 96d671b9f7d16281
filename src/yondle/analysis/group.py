"""Gain of a group of benchmarks: the geometric mean of their gains, with margins for these benchmarks and for any."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.levels import Difference
from yondle.analysis.margins import POWER, Gain, gain_from
from yondle.analysis.student import t_quantile

FEWEST_BENCHMARKS = 3
"""Below three benchmarks resampling them tells nothing of how others would do."""


@dataclass(frozen=True, slots=True)
class GroupGain:
    """The geometric mean of the gains of some benchmarks, with two ranges that answer two questions.

    `these` asks what these very benchmarks gained: only their passes are noise. `drawn` asks what others of their kind
    would gain: the benchmarks are taken as drawn at random, too; None below FEWEST_BENCHMARKS.
    """

    benchmarks: int
    these: Gain
    drawn: Gain | None


def group_gain(members: Sequence[Difference]) -> GroupGain | None:
    """Give the geometric mean of the members' gains with its 95 % ranges; None without a member.

    With B benchmarks of gains g_b, whose passes leave the variances v_b, the mean of these is known to within Σ v_b/B² and what
    attempts add. An attempt that was warm was that for all benchmarks, so what it adds doesn't average out: the standard errors
    of it are added up, not their squares. Degrees of freedom are Satterthwaite's.

    Were they drawn at random its variance is that of resampling benchmarks, and within each its passes (Efron and Tibshirani,
    An Introduction to the Bootstrap, ch. 6 and 8), in the limit of many draws: with N_b draws of each (multinomial,
    E N_b² = 2 - 1/B) that is (Σ(g_b - g)² + (2 - 1/B) Σ v_b)/B². The spread is widened by √(B/(B - 1)) and Student's factor
    takes the place of the normal one, since few benchmarks drawn from themselves vary too little.
    """
    if not members:
        return None
    count, gains = len(members), np.array([d.value for d in members])
    mean, n, m = float(gains.mean()), min(d.n for d in members), min(d.n_before for d in members)
    own, shared = sum(d.own for d in members) / count**2, (sum(math.sqrt(d.shared) for d in members) / count) ** 2
    weights = [d.own / count**2 + shared / count for d in members]
    degrees = (own + shared) ** 2 / sum(w**2 / d.degrees for w, d in zip(weights, members, strict=True))
    beside = sum(d.beside for d in members) / count
    these = Difference(mean, own, shared, degrees, beside, n, m, members[0].basis)
    return GroupGain(count, these.gain(), _drawn(members, gains, shared, n, m))


def _drawn(members: Sequence[Difference], gains: NDArray[np.float64], shared: float, n: int, m: int) -> Gain | None:
    count = len(members)
    if count < FEWEST_BENCHMARKS:
        return None
    apart = gains - gains.mean()
    redrawn = sum(d.own for d in members)
    variance = (float(apart @ apart) + (2.0 - 1.0 / count) * redrawn) / count**2
    error = math.sqrt(variance * count / (count - 1) + shared)
    critical = t_quantile(count - 1)
    return gain_from(float(gains.mean()), critical * error, (critical + t_quantile(math.inf, POWER)) * error, n, m)
