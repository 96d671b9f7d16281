"""Gains out of everything a logbook has measured of a benchmark: passes, in the attempts they were made in.

Every pass of a setting is its level, what its attempt adds to all its passes, and what the pass adds by itself (a mixed model;
Searle, Casella and McCulloch, Variance Components, ch. 6). Attempts differ by more than their passes say: another placing of
memory, a state a machine starts into (apart from attempt to attempt), a room that warms (a walk from each to the next). How
much of either there is shows where several attempts have measured one setting: baselines measured again, and what steps were
alternated with. While such repeats are few, careful priors stand in. What an attempt adds falls out of the difference between
two settings that it measured both.
"""

from __future__ import annotations

import math
from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.margins import LEAST_VARIATION, POWER, RISK, Gain, GainWord, gain_from, turned_logs
from yondle.analysis.regression import Array
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

SHARED_DEGREES = 10.0
"""What all settings together say of the spread of one's passes counts as so many degrees of freedom (Smyth 2004)."""
APART_SHARE, WALK_SHARE = 0.15, 0.03
"""What attempts vary by before anything is known, and walk by from one to the next, as shares of the variance of a pass."""
PRIOR_DEGREES = 2.0
"""How many repeats either of these says as much as."""
LOOKED_BACK, TOGETHER = 60, 600
"""So many of the latest visits tell how attempts vary, and so many are held against each other; older ones two by two."""
_APART = np.array([0.03, 0.1, 0.25, 0.6, 1.5, 4.0])
_WALK = np.array([0.003, 0.03, 0.1, 0.3, 1.0, 3.0])


@dataclass(frozen=True, slots=True)
class Visit:
    """The passes of one setting in one attempt; settings and attempts are told apart by whatever names them, `at_s` is when."""

    attempt: Hashable
    setting: Hashable
    at_s: float
    scores: Sequence[float]


@dataclass(frozen=True, slots=True)
class Basis:
    """What stands behind a gain: attempts of either side, those that measured both, and what was learned of attempts.

    Deviations are of logs: that of a pass, by which attempts vary, and by which they walk from one to the next; `repeats`
    counts what that was learned from.
    """

    attempts: int
    attempts_before: int
    alternated: int
    pass_deviation: float
    attempt_deviation: float
    walk_deviation: float
    repeats: int


class Levels:
    """The levels of all settings measured in one benchmark, and the gains between any two of them."""

    def __init__(self, visits: Iterable[Visit], direction: Direction) -> None:
        told = [
            (v, logs) for v in visits if 0.0 not in v.scores and len(logs := turned_logs(list(v.scores), direction))
        ]
        told.sort(key=lambda pair: pair[0].at_s)
        self._settings = {s: i for i, s in enumerate(dict.fromkeys(v.setting for v, _ in told))}
        attempts = {a: i for i, a in enumerate(dict.fromkeys(v.attempt for v, _ in told))}
        self._at: Places = np.array([self._settings[v.setting] for v, _ in told], dtype=np.intp)
        self._in: Places = np.array([attempts[v.attempt] for v, _ in told], dtype=np.intp)
        self._n = np.array([len(logs) for _, logs in told], dtype=np.float64)
        self._means = np.array([logs.mean() for _, logs in told], dtype=np.float64)
        self._squares = np.array([np.sum((logs - logs.mean()) ** 2) for _, logs in told], dtype=np.float64)

    def gain(self, setting: Hashable, before: Hashable, comparisons: int = 1) -> Gain | None:
        """Give the gain of a setting over another with its 95 % range; None where one of them has no passes.

        Degrees of freedom are Satterthwaite's (1946, Biometrics Bulletin 2). With several `comparisons` the ranges hold
        together (Bonferroni). With a single pass on either side, or none that was repeated anywhere, there is no range.
        """
        to, start = self._settings.get(setting), self._settings.get(before)
        if to is None or start is None or to == start:
            return None
        n, m = (int(self._n[self._at == i].sum()) for i in (to, start))
        spreads = self._spreads
        if spreads is None or min(n, m) < 2:
            levels = (
                float(np.average(self._means[self._at == i], weights=self._n[self._at == i])) for i in (to, start)
            )
            return Gain(n, m, math.expm1(next(levels) - next(levels)), math.nan, math.nan, GainWord.TOO_FEW)
        weights, which = self._weights(to, start)
        own = np.bincount(self._at[which], weights**2 * spreads.noise[which], len(self._settings))
        shared = spreads.shared(weights, self._in[which])
        told = own > 0.0
        uncertain = float(np.sum(own[told] ** 2 / spreads.degrees[told])) + shared**2 / (
            PRIOR_DEGREES + spreads.repeats
        )
        variance = float(own.sum()) + shared
        degrees = variance**2 / uncertain
        error, critical = math.sqrt(variance), t_quantile(degrees, 1.0 - RISK / (2.0 * comparisons))
        difference = float(weights @ self._means[which])
        return gain_from(difference, critical * error, (critical + t_quantile(degrees, POWER)) * error, n, m)

    def basis(self, setting: Hashable, before: Hashable) -> Basis | None:
        """Tell what stands behind a gain; None where it has no range."""
        to, start, spreads = self._settings.get(setting), self._settings.get(before), self._spreads
        if to is None or start is None or spreads is None:
            return None
        here, there = (set(self._in[self._at == i].tolist()) for i in (to, start))
        of_pass, apart, walk = (math.sqrt(v) for v in (spreads.of_pass, spreads.apart, spreads.walk))
        return Basis(len(here), len(there), len(here & there), of_pass, apart, walk, spreads.repeats)

    @cached_property
    def _spreads(self) -> _Spreads | None:
        """How passes and attempts vary; None where no setting has two passes in one attempt."""
        many = len(self._settings)
        own, free = np.bincount(self._at, self._squares, many), np.bincount(self._at, self._n - 1.0, many)
        total = float(free.sum())
        if total == 0.0:
            return None
        of_pass = max(float(own.sum()) / total, LEAST_VARIATION**2)
        prior = min(SHARED_DEGREES, total)
        variance = np.maximum((prior * of_pass + own) / (prior + free), LEAST_VARIATION**2)
        noise = variance[self._at] / self._n
        apart, walk = self._between(noise, of_pass)
        repeats = len(self._at) - many
        return _Spreads(of_pass, np.asarray(prior + free), noise, apart * of_pass, walk * of_pass, repeats)

    def _between(self, noise: Array, of_pass: float) -> tuple[float, float]:
        """Give the shares by which attempts vary and walk, from the latest visits.

        Posterior means on a grid, of restricted likelihood (Patterson and Thompson 1971, Biometrika 58) and inverse
        chi-squared priors.
        """
        late = slice(-LOOKED_BACK, None)
        at, inside, means, own = self._at[late], self._in[late], self._means[late], noise[late]
        design = np.eye(len(self._settings))[at][:, np.unique(at)]
        same, walked = _together(inside)
        apart, walk = (share.ravel()[:, None, None] for share in np.meshgrid(_APART, _WALK, indexing="ij"))
        root = np.linalg.cholesky(np.diag(own) + of_pass * (apart * same + walk * walked))
        whole = np.linalg.solve(
            root, np.broadcast_to(np.column_stack((design, means)), (len(root), len(at), design.shape[1] + 1))
        )
        q, r = np.linalg.qr(whole[:, :, :-1])
        last = whole[:, :, -1:]
        left = last - q @ (q.transpose(0, 2, 1) @ last)
        sizes = (np.log(np.abs(np.diagonal(each, axis1=1, axis2=2))).sum(axis=1) for each in (root, r))
        likely = -sum(sizes) - 0.5 * np.sum(left**2, axis=(1, 2))
        before = np.log(apart) + APART_SHARE / apart + np.log(walk) + WALK_SHARE / walk
        beliefs = (likely - PRIOR_DEGREES / 2.0 * before.ravel()).reshape(len(_APART), len(_WALK))
        beliefs = np.exp(beliefs - beliefs.max())
        beliefs /= beliefs.sum()
        return float(beliefs.sum(axis=1) @ _APART), float(beliefs.sum(axis=0) @ _WALK)

    def _weights(self, to: int, start: int) -> tuple[Array, Places]:
        """Weigh visits so that their means make the best estimate of a difference; gives the weights and which visits."""
        whole = self._whole
        if whole is not None and to in whole.columns and start in whole.columns:
            contrast = np.zeros(len(whole.columns))
            contrast[whole.columns[to]], contrast[whole.columns[start]] = 1.0, -1.0
            return np.asarray(whole.weighing @ contrast), whole.which
        which = np.flatnonzero((self._at == to) | (self._at == start))
        weights = self._n[which] * np.where(self._at[which] == to, 1.0, -1.0)
        for side in (weights > 0.0, weights < 0.0):
            weights[side] /= abs(weights[side].sum())
        return weights, which

    @cached_property
    def _whole(self) -> _Whole | None:
        """Generalised least squares over the latest visits."""
        spreads = self._spreads
        if spreads is None:
            return None
        which = np.arange(max(len(self._at) - TOGETHER, 0), len(self._at))
        present = np.unique(self._at[which])
        columns = {int(setting): column for column, setting in enumerate(present)}
        design = np.eye(len(present))[[columns[int(s)] for s in self._at[which]]]
        same, walked = _together(self._in[which])
        covariance = np.diag(spreads.noise[which]) + spreads.apart * same + spreads.walk * walked
        solved = np.linalg.solve(covariance, design)
        return _Whole(which, columns, np.asarray(solved @ np.linalg.inv(design.T @ solved)))


Places = NDArray[np.intp]


@dataclass(frozen=True, slots=True)
class _Whole:
    """Which visits were solved together, the columns of their settings, and what each visit weighs in each level."""

    which: Places
    columns: dict[int, int]
    weighing: Array


@dataclass(frozen=True, slots=True)
class _Spreads:
    """Variances of a pass, by setting with its degrees of freedom, of the mean of each visit, of attempts and of their walk."""

    of_pass: float
    degrees: Array
    noise: Array
    apart: float
    walk: float
    repeats: int

    def shared(self, weights: Array, inside: Places) -> float:
        """Give the variance that attempts add to a weighted sum of visits."""
        sums = np.bincount(inside, weights)
        onwards = np.cumsum(sums[::-1])[::-1][1:]
        return self.apart * float(sums @ sums) + self.walk * float(onwards @ onwards)


def _together(inside: Places) -> tuple[Array, Array]:
    """What visits share: an attempt, and how many steps of the walk, counted from the first of them."""
    ordered = np.unique(inside, return_inverse=True)[1].astype(np.float64)
    return (inside[:, None] == inside[None, :]).astype(np.float64), np.minimum(ordered[:, None], ordered[None, :])
