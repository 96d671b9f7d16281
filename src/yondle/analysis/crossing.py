"""Two curves of one score: where one is ahead of the other for sure, and where they cross.

Where both were measured at the same settings their difference is smoothed, so that what they have in common, such as a knee,
drops out; else each curve is smoothed by itself. Smoothing is local and linear, with tricube weights over the nearest
settings (Cleveland and Devlin 1988, J. Am. Stat. Assoc. 83), so no shape is taken for granted.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.caps import Points
from yondle.analysis.margins import LEAST_VARIATION, RISK, turned_logs
from yondle.analysis.regression import Array
from yondle.analysis.scaling import setting_means
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

FEWEST_SETTINGS = 4
_NEAREST = 7
"""A place is smoothed over this many settings around it, or half of all where there are more."""
_GRID = 401
_SHARED = 0.25
"""How much of the mean uncertainty every point has besides its own: settings vary, too, not only passes."""


@dataclass(frozen=True, slots=True)
class Lead:
    """A stretch of settings: 1 where the first curve is ahead for sure, -1 where the second is, 0 where nothing is told.

    `gap` is the score of the first over that of the second, less 1, on the average of the stretch.
    """

    low: float
    high: float
    ahead: int
    gap: float


@dataclass(frozen=True, slots=True)
class Crossing:
    """Where one curve overtakes another, between where one and where the other is ahead for sure.

    `first_below` where the first curve is the better one below.
    """

    at: float
    low: float
    high: float
    first_below: bool


def leads(one: Points, other: Points, direction: Direction) -> tuple[Lead, ...]:
    """Give who is ahead along the settings both curves cover, with 95 % confidence for all places together.

    Empty with under four settings on a side, and where they cover nothing in common.
    """
    told = _difference(one, other, direction)
    return tuple(_stretches(told.grid, told.gap, told.ahead(told.together))) if told is not None else ()


def crossing(one: Points, other: Points, direction: Direction) -> Crossing | None:
    """Find where one curve overtakes the other; None unless one is ahead on one side and one on the other, as for `leads`.

    Its interval lies between the nearest places where either is ahead for sure, each taken by itself.
    """
    told = _difference(one, other, direction)
    if told is None:
        return None
    grid, gap, ahead = told.grid, told.gap, told.ahead(told.together)
    for (before, i), (after, j) in pairwise((each, i) for i, each in enumerate(ahead) if each != 0):
        if before != after:
            near = told.ahead(1)
            turn = i + int(np.nonzero(np.diff(np.sign(gap[i : j + 1])) != 0.0)[0][0])
            low = turn - int(np.argmax(near[turn::-1] == before))
            high = turn + 1 + int(np.argmax(near[turn + 1 :] == after))
            share = gap[turn] / (gap[turn] - gap[turn + 1])
            at = grid[turn] + share * (grid[turn + 1] - grid[turn])
            return Crossing(math.exp(at), math.exp(grid[low]), math.exp(grid[high]), bool(before > 0))
    return None


@dataclass(frozen=True, slots=True)
class _Difference:
    """The difference of two curves along a grid of log settings, its standard error, degrees of freedom left and used."""

    grid: Array
    gap: Array
    error: Array
    left: float
    used: float

    @property
    def together(self) -> int:
        """As many places as all of them count for together: twice what was fitted, by trial (benchmarks/scaling.py)."""
        return math.ceil(2.0 * self.used)

    def ahead(self, places: int) -> NDArray[np.int64]:
        """Tell who is ahead at each place, 1, -1 or 0, so sure that it holds for so many places together (Bonferroni)."""
        half = t_quantile(self.left, 1.0 - RISK / (2.0 * places)) * self.error
        return np.where(np.abs(self.gap) > half, np.sign(self.gap), 0.0).astype(np.int64)


def _difference(one: Points, other: Points, direction: Direction) -> _Difference | None:
    (x, y, s), (u, v, z) = (_measured(points, direction) for points in (one, other))
    if min(len(x), len(u)) < FEWEST_SETTINGS:
        return None
    shared, at, also = np.intersect1d(np.round(x, 9), np.round(u, 9), return_indices=True)
    if len(shared) >= FEWEST_SETTINGS:
        return _smooth(shared, y[at] - v[also], s[at] + z[also], np.linspace(shared[0], shared[-1], _GRID))
    low, high = max(x[0], u[0]), min(x[-1], u[-1])
    if not low < high:
        return None
    grid = np.linspace(low, high, _GRID)
    first, second = _smooth(x, y, s, grid), _smooth(u, v, z, grid)
    error = np.hypot(first.error, second.error)
    return _Difference(grid, first.gap - second.gap, error, min(first.left, second.left), max(first.used, second.used))


def _measured(points: Points, direction: Direction) -> tuple[Array, Array, Array]:
    """Give logs of settings, mean log scores, and how uncertain each mean is by its passes as a variance (nan with one)."""
    x, y = setting_means(points, direction)
    gathered: dict[float, list[float]] = {}
    for value, scores in points:
        if value > 0.0:
            gathered.setdefault(round(math.log(value), 9), []).extend(turned_logs(list(scores), direction).tolist())
    sides = [np.array(gathered[round(float(place), 9)]) for place in x]
    own = [float(np.var(side, ddof=1)) / len(side) if len(side) > 1 else math.nan for side in sides]
    return x, y, np.array(own)


def _smooth(x: Array, y: Array, own: Array, grid: Array) -> _Difference:
    """Smooth a curve along a grid; `own` is how uncertain every point is by itself."""
    nearest = max(_NEAREST, len(x) // 2)
    likely = _likely_variance(x, own, nearest)
    rows = _weights(x, np.concatenate([x, grid]), nearest, likely)
    at_points, along = rows[: len(x)], rows[len(x) :]
    apart = np.eye(len(x)) - at_points
    off = apart @ y / np.sqrt(likely)
    root = apart * np.sqrt(likely)[None, :] / np.sqrt(likely)[:, None]
    spare = root @ root.T
    first, second = float(np.trace(spare)), float(np.sum(spare * spare))
    scale = math.sqrt(float(off @ off) / first)
    error = np.maximum(scale * np.sqrt(np.sum(along**2 * likely, axis=1)), LEAST_VARIATION)
    return _Difference(grid, along @ y, error, round(first**2 / second, 1), float(np.trace(at_points)))


def _likely_variance(x: Array, own: Array, nearest: int) -> Array:
    """Give how uncertain the points are beside one another: what passes say around each, and a share of all of it.

    How uncertain all are is left to how far they lie off the curve; alike where passes say nothing.
    """
    known = np.isfinite(own)
    if not known.any():
        return np.ones_like(x)
    around = _near(np.abs(x[known][None, :] - x[:, None]), nearest)
    local = around @ own[known] / around.sum(axis=1)
    return np.asarray(local + _SHARED * local.mean() + LEAST_VARIATION**2)


def _near(away: Array, nearest: int) -> Array:
    """Weigh settings by their distance from places, shape (places, settings): tricube over the nearest, alike if fewer."""
    if away.shape[1] < nearest:
        return np.ones_like(away)
    reach = np.partition(away, nearest - 1, axis=1)[:, nearest - 1 : nearest] * (1.0 + 1e-6)
    return np.asarray((1.0 - np.minimum(away / reach, 1.0) ** 3) ** 3)


def _weights(x: Array, places: Array, nearest: int, likely: Array) -> Array:
    """Give what every setting counts for in the height of the curve at each place, shape (places, settings).

    With fewer settings than `nearest` they are those of one straight line.
    """
    apart = x[None, :] - places[:, None]
    weight = _near(np.abs(apart), nearest) / likely[None, :]
    whole, first, second = (np.sum(weight * apart**k, axis=1, keepdims=True) for k in range(3))
    return np.asarray(weight * (second - first * apart) / (whole * second - first**2))


def _stretches(grid: Array, gap: Array, ahead: NDArray[np.int64]) -> list[Lead]:
    ends = [0, *(np.nonzero(np.diff(ahead))[0] + 1).tolist(), len(grid)]
    return [
        Lead(math.exp(grid[i]), math.exp(grid[j - 1]), int(ahead[i]), math.expm1(float(np.mean(gap[i:j]))))
        for i, j in pairwise(ends)
    ]
