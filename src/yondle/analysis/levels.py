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
from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.grain import decimal_grain, gap_grain, rounding_half
from yondle.analysis.margins import (
    FEWEST_PASSES,
    LEAST_VARIATION,
    POWER,
    RISK,
    Basis,
    Gain,
    GainWord,
    gain_from,
    turned_logs,
)
from yondle.analysis.regression import Array
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

SHARED_DEGREES = 10.0
"""What all settings together say of the spread of one's passes counts as so many degrees of freedom (Smyth 2004)."""
APART_SHARE, WALK_SHARE = 0.15, 0.03
"""What attempts vary by before anything is known, and walk by from one to the next, as shares of the variance of a pass."""
PRIOR_DEGREES = 2.0
"""How many repeats either of these says as much as."""
BORROWED_FROM = 3.0
"""A single figure borrows the noise of a benchmark that so many degrees of freedom tell of, at least."""
OUTLYING, FEWEST_IN_VISIT, FEWEST_TO_TAME = 3.0, 3, 10
"""Passes further out than so many deviations are pulled in, in visits of so many, once so many tell what is far."""
_CONSISTENT = 1.7
"""The deviation over the median distance from the median, of few normal passes: 1.45 with three or five, 2.06 with four."""
LOOKED_BACK, TOGETHER = 60, 600
"""So many of the latest visits tell how attempts vary, and so many are held against each other; older ones two by two."""
_UPPER = 1.96
_APART = np.array([0.03, 0.1, 0.25, 0.6, 1.5, 4.0])
_WALK = np.array([0.003, 0.03, 0.1, 0.3, 1.0, 3.0])


@dataclass(frozen=True, slots=True)
class Visit:
    """The passes of one setting in one attempt; settings and attempts are told apart by whatever names them, `at_s` is when.

    `told` figures were measured elsewhere: a single one of a setting may borrow the noise of others.
    """

    attempt: Hashable
    setting: Hashable
    at_s: float
    scores: Sequence[float]
    told: bool = False


@dataclass(frozen=True, slots=True)
class Difference:
    """How much better one setting is than another, as a difference of logs, with what makes its range.

    Its variance is what passes leave, `own`, and what attempts add, `shared`, with `degrees` of freedom together; by `beside`
    it may be wrong on top of that. `n` and `n_before` count passes.
    """

    value: float
    own: float
    shared: float
    degrees: float
    beside: float
    n: int
    n_before: int
    basis: Basis

    def turned(self) -> Difference:
        """Give the difference the other way round."""
        basis = replace(self.basis, attempts=self.basis.attempts_before, attempts_before=self.basis.attempts)
        return replace(self, value=-self.value, n=self.n_before, n_before=self.n, basis=basis)

    def gain(self, comparisons: int = 1, family: int = 1) -> Gain:
        """Give it as a gain with its 95 % range; with several `comparisons` all of theirs hold together (Bonferroni).

        It is sure where its word would stand, too, if the ranges of a whole `family` held together.
        """
        error, critical = math.sqrt(self.own + self.shared), t_quantile(self.degrees, 1.0 - RISK / (2.0 * comparisons))
        half = critical * error + self.beside
        visible = half + t_quantile(self.degrees, POWER) * error
        told = gain_from(self.value, half, visible, self.n, self.n_before, self.basis)
        if family <= comparisons or told.word is GainWord.WITHIN_NOISE:
            return told
        wide = t_quantile(self.degrees, 1.0 - RISK / (2.0 * family)) * error + self.beside
        return replace(told, sure=abs(self.value) > wide)


class Levels:
    """The levels of all settings measured in one benchmark, and the gains between any two of them."""

    def __init__(self, visits: Iterable[Visit], direction: Direction) -> None:
        told = [
            (v, logs) for v in visits if 0.0 not in v.scores and len(logs := turned_logs(list(v.scores), direction))
        ]
        told.sort(key=lambda pair: pair[0].at_s)
        told = _tamed(told)
        self._visits, self._towards = [v for v, _ in told], -1.0 if direction is Direction.LOWER else 1.0
        self._settings = {s: i for i, s in enumerate(dict.fromkeys(v.setting for v in self._visits))}
        attempts = {a: i for i, a in enumerate(dict.fromkeys(v.attempt for v in self._visits))}
        self._at: Places = np.array([self._settings[v.setting] for v in self._visits], dtype=np.intp)
        self._in: Places = np.array([attempts[v.attempt] for v in self._visits], dtype=np.intp)
        self._logs = np.concatenate([logs for _, logs in told]) if told else np.zeros(0)
        of_visit = np.repeat(np.arange(len(told)), [len(logs) for _, logs in told])
        self._n = np.bincount(of_visit, minlength=len(told)).astype(np.float64)
        self._means = np.bincount(of_visit, self._logs, len(told)) / self._n
        self._squares = np.bincount(of_visit, (self._logs - self._means[of_visit]) ** 2, len(told))
        self._passes = np.bincount(self._at, self._n, len(self._settings))
        self._attempts: list[set[int]] = [set() for _ in self._settings]
        for at, inside in zip(self._at.tolist(), self._in.tolist(), strict=True):
            self._attempts[at].add(inside)
        self._differences: dict[tuple[Hashable, Hashable], Difference | None] = {}

    def gain(self, setting: Hashable, before: Hashable, comparisons: int = 1, family: int = 1) -> Gain | None:
        """Give the gain of a setting over another with its 95 % range; None where one of them has no passes.

        Several `comparisons` and a `family` as in `Difference.gain`. With a single pass on either side, or none that was
        repeated anywhere, there is no range; but a single figure that was told borrows the noise of others, where it is known.
        """
        difference = self.difference(setting, before)
        if difference is not None:
            return difference.gain(comparisons, family)
        to, start = self._settings.get(setting), self._settings.get(before)
        if to is None or start is None or to == start:
            return None
        n, m = (int(self._passes[i]) for i in (to, start))
        few = [i for i, passes in ((to, n), (start, m)) if passes < FEWEST_PASSES]
        told = bool(few) and all(
            visit.told for i in few for visit in self._visits if self._settings[visit.setting] == i
        )
        if told and self._spreads is not None and float(self._spreads.free.sum()) >= BORROWED_FROM:
            borrowed = self.contrast({setting: 1.0, before: -1.0}, 1)
            if borrowed is not None:
                return replace(borrowed.gain(comparisons, family), told=True, borrowed=True)
        levels = (float(np.average(self._means[self._at == i], weights=self._n[self._at == i])) for i in (to, start))
        return Gain(n, m, math.expm1(next(levels) - next(levels)), math.nan, math.nan, GainWord.TOO_FEW, told=told)

    def difference(self, setting: Hashable, before: Hashable) -> Difference | None:
        """Give the difference of two settings with what makes its range; None where it has none."""
        if setting == before:
            return None
        if (setting, before) not in self._differences:
            told = self.contrast({setting: 1.0, before: -1.0})
            self._differences[setting, before] = told
            self._differences[before, setting] = told.turned() if told is not None else None
        return self._differences[setting, before]

    def contrast(self, factors: Mapping[Hashable, float], fewest: int = FEWEST_PASSES) -> Difference | None:
        """Give a sum of levels, each times its factor, which add up to 0; None where it has no range.

        Settings with factors above 0 are told as those it is of, the others as those before. Degrees of freedom are
        Satterthwaite's (1946, Biometrics Bulletin 2).
        """
        spreads, places = self._spreads, {self._settings.get(s, -1): factor for s, factor in factors.items()}
        if spreads is None or -1 in places:
            return None
        passes = {i: int(self._passes[i]) for i in places}
        if min(passes.values()) < fewest:
            return None
        weights, which = self._weights(places)
        own = np.bincount(self._at[which], weights**2 * spreads.noise[which], len(self._settings)).astype(np.float64)
        shared = spreads.shared(weights, self._in[which])
        uncertain = spreads.uncertain(own) + shared**2 / (PRIOR_DEGREES + spreads.repeats)
        of_passes, beside = float(own.sum()), sum(abs(factor) * self._beside(i) for i, factor in places.items())
        n, m = (min(passes[i] for i, factor in places.items() if sign * factor > 0.0) for sign in (1.0, -1.0))
        here, there = (
            {int(a) for i, f in places.items() if sign * f > 0.0 for a in self._attempts[i]} for sign in (1.0, -1.0)
        )
        of_pass, apart, walk = (math.sqrt(v) for v in (spreads.of_pass, spreads.apart, spreads.walk))
        both = len(here & there)
        basis = Basis(len(here), len(there), both, of_pass, apart, walk, spreads.repeats, beside)
        degrees = (of_passes + shared) ** 2 / uncertain
        value = float(weights @ self._means[which])
        return Difference(value, of_passes, shared, degrees, beside, n, m, basis)

    def _beside(self, setting: int) -> float:
        """Give by how much a level may be beside what was measured, for the steps its figures come in."""
        here = np.flatnonzero(self._at == setting)
        finest = (decimal_grain(self._visits[i].scores) * math.exp(-self._towards * self._means[i]) for i in here)
        grain = max(self._gap, *finest)
        return rounding_half(grain, self._least_of_pass) if grain else 0.0

    @cached_property
    def _gap(self) -> float:
        return gap_grain(self._logs)

    @cached_property
    def _least_of_pass(self) -> float:
        """The least variance of a pass that goes with the spread seen: its range's lower end (Wilson and Hilferty 1931)."""
        free = float(np.sum(self._n - 1.0))
        if self._spreads is None:
            return 0.0
        ninth = 2.0 / (9.0 * free)
        return self._spreads.of_pass / (1.0 - ninth + _UPPER * math.sqrt(ninth)) ** 3

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
        return _Spreads(of_pass, variance, np.asarray(free), prior, noise, apart * of_pass, walk * of_pass, repeats)

    def _between(self, noise: Array, of_pass: float) -> tuple[float, float]:
        """Give the shares by which attempts vary and walk, from the latest visits.

        Posterior means on a grid, of restricted likelihood (Patterson and Thompson 1971, Biometrika 58) and inverse
        chi-squared priors.
        """
        late = slice(-LOOKED_BACK, None)
        at, inside, means, own = self._at[late], self._in[late], self._means[late], noise[late]
        if len(np.unique(at)) == len(at):
            return _believed(np.zeros(len(_APART) * len(_WALK)))
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
        return _believed(likely)

    def _weights(self, factors: Mapping[int, float]) -> tuple[Array, Places]:
        """Weigh visits so that their means make the best estimate of a contrast; gives the weights and which visits."""
        whole = self._whole
        if whole is not None and all(i in whole.columns for i in factors):
            contrast = np.zeros(len(whole.columns))
            for i, factor in factors.items():
                contrast[whole.columns[i]] = factor
            return np.asarray(whole.weighing @ contrast), whole.which
        which = np.flatnonzero(np.isin(self._at, list(factors)))
        weights = self._n[which].copy()
        for i, factor in factors.items():
            side = self._at[which] == i
            weights[side] *= factor / weights[side].sum()
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


def _believed(likely: Array) -> tuple[float, float]:
    """Give the posterior means of both shares from log likelihoods on their grid, and inverse chi-squared priors."""
    apart, walk = (share.ravel() for share in np.meshgrid(_APART, _WALK, indexing="ij"))
    before = np.log(apart) + APART_SHARE / apart + np.log(walk) + WALK_SHARE / walk
    beliefs = np.exp(likely - PRIOR_DEGREES / 2.0 * before - np.max(likely - PRIOR_DEGREES / 2.0 * before))
    beliefs /= beliefs.sum()
    return float(beliefs @ apart), float(beliefs @ walk)


def _tamed(told: list[tuple[Visit, Array]]) -> list[tuple[Visit, Array]]:
    """Pull passes in that lie far out among those they are to be like, so that one of them can't move a level or widen all.

    Winsorized at OUTLYING robust deviations (median absolute deviation from medians; Huber and Ronchetti, Robust Statistics,
    2nd ed., ch. 1). They are to be like the others of their visit, not of their setting: what a machine drifts by over an
    evening is no outlier. Visits of a pass or two, as in rounds, have none: those are held against their setting's other
    short visits, where drift widens what is taken to be usual, too.
    """
    long = [len(logs) >= FEWEST_IN_VISIT for _, logs in told]
    like: dict[Hashable, list[int]] = {}
    for i, (visit, logs) in enumerate(told):
        like.setdefault((visit.attempt, i) if len(logs) >= FEWEST_IN_VISIT else visit.setting, []).append(i)
    tamed = list(told)
    for kind in (True, False):
        groups = [of for of in like.values() if long[of[0]] is kind and (kind or len(of) >= FEWEST_IN_VISIT)]
        medians = [float(np.median(np.concatenate([told[i][1] for i in of]))) for of in groups]
        off = [np.abs(told[i][1] - at) for of, at in zip(groups, medians, strict=True) for i in of]
        apart = np.concatenate(off) if off else np.zeros(0)
        apart = apart[apart > 0.0]
        if len(apart) < FEWEST_TO_TAME:
            continue
        most = OUTLYING * _CONSISTENT * float(np.median(apart))
        for of, at in zip(groups, medians, strict=True):
            for i in of:
                tamed[i] = told[i][0], np.clip(told[i][1], at - most, at + most)
    return tamed


Places = NDArray[np.intp]


@dataclass(frozen=True, slots=True)
class _Whole:
    """Which visits were solved together, the columns of their settings, and what each visit weighs in each level."""

    which: Places
    columns: dict[int, int]
    weighing: Array


@dataclass(frozen=True, slots=True)
class _Spreads:
    """Variances of a pass, of one by setting with its `free` degrees, of the mean of each visit, of attempts, of their walk.

    That by setting leans on that of all, which counts as `prior` degrees of freedom.
    """

    of_pass: float
    variance: Array
    free: Array
    prior: float
    noise: Array
    apart: float
    walk: float
    repeats: int

    def uncertain(self, own: Array) -> float:
        """Give what Satterthwaite's degrees are made of, of a sum of variances by setting: each squared over its degrees.

        Settings lean on what all of them say, so that the passes of each count for the others, and for none of them twice.
        """
        each = own / self.variance
        of_all = float(np.sum(each * self.prior / (self.prior + self.free))) * self.free / self.free.sum()
        share = of_all + each * self.free / (self.prior + self.free)
        told = self.free > 0.0
        return float(np.sum((share * self.variance)[told] ** 2 / self.free[told]))

    def shared(self, weights: Array, inside: Places) -> float:
        """Give the variance that attempts add to a weighted sum of visits."""
        sums = np.bincount(inside, weights)
        onwards = np.cumsum(sums[::-1])[::-1][1:]
        return self.apart * float(sums @ sums) + self.walk * float(onwards @ onwards)


def _together(inside: Places) -> tuple[Array, Array]:
    """What visits share: an attempt, and how many steps of the walk, counted from the first of them."""
    ordered = np.unique(inside, return_inverse=True)[1].astype(np.float64)
    return (inside[:, None] == inside[None, :]).astype(np.float64), np.minimum(ordered[:, None], ordered[None, :])
