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

from yondle.analysis.margins import LEAST_VARIATION, t_quantile
from yondle.analysis.regression import Array
from yondle.analysis.scaling import Points, setting_means
from yondle.model.workloads import Direction

FEWEST_SETTINGS = 4
_NEAREST = 7
"""A place is smoothed over this many settings around it, or half of all where there are more."""
_GRID = 401


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
    """Give who is ahead along the settings both curves cover, by 95 % intervals of their difference at each place.

    Empty with under four settings on a side, and where they cover nothing in common.
    """
    return tuple(_stretches(*told)) if (told := _difference(one, other, direction)) is not None else ()


def crossing(one: Points, other: Points, direction: Direction) -> Crossing | None:
    """Find where one curve overtakes the other for sure; None where neither is ahead for sure on either side."""
    told = _difference(one, other, direction)
    if told is None:
        return None
    grid, gap, half = told
    sides = [(each, i) for i, each in enumerate(np.where(np.abs(gap) > half, np.sign(gap), 0.0)) if each != 0.0]
    for (before, i), (after, j) in pairwise(sides):
        if before != after:
            turn = i + int(np.nonzero(np.diff(np.sign(gap[i : j + 1])) != 0.0)[0][0])
            share = gap[turn] / (gap[turn] - gap[turn + 1])
            at = grid[turn] + share * (grid[turn + 1] - grid[turn])
            return Crossing(math.exp(at), math.exp(grid[i]), math.exp(grid[j]), bool(before > 0.0))
    return None


def _difference(one: Points, other: Points, direction: Direction) -> tuple[Array, Array, Array] | None:
    """Give the difference of the curves along a grid of log settings, with half its 95 % range."""
    (x, y), (u, v) = (setting_means(points, direction) for points in (one, other))
    if min(len(x), len(u)) < FEWEST_SETTINGS:
        return None
    low, high = max(x[0], u[0]), min(x[-1], u[-1])
    if not low < high:
        return None
    grid = np.linspace(low, high, _GRID)
    shared, at, also = np.intersect1d(np.round(x, 9), np.round(u, 9), return_indices=True)
    if len(shared) >= FEWEST_SETTINGS:
        grid = np.linspace(shared[0], shared[-1], _GRID)
        gap, error, degrees = _smooth(shared, y[at] - v[also], grid)
        return grid, gap, t_quantile(degrees) * error
    sides = [_smooth(x, y, grid), _smooth(u, v, grid)]
    errors = np.hypot(sides[0][1], sides[1][1])
    return grid, sides[0][0] - sides[1][0], t_quantile(min(sides[0][2], sides[1][2])) * errors


def _smooth(x: Array, y: Array, grid: Array) -> tuple[Array, Array, float]:
    """Smooth a curve along a grid: its height, the standard error of that, and degrees of freedom (one decimal)."""
    nearest = max(_NEAREST, len(x) // 2)
    rows = _weights(x, np.concatenate([x, grid]), nearest)
    own, along = rows[: len(x)], rows[len(x) :]
    left = y - own @ y
    apart = np.eye(len(x)) - own
    spare = apart @ apart.T
    first, second = float(np.trace(spare)), float(np.sum(spare * spare))
    scale = math.sqrt(max(float(left @ left) / first, LEAST_VARIATION**2))
    return along @ y, scale * np.sqrt(np.sum(along**2, axis=1)), round(first**2 / second, 1)


def _weights(x: Array, places: Array, nearest: int) -> Array:
    """Give what every setting counts for in the height of the curve at each place, shape (places, settings).

    With fewer settings than `nearest` they are those of one straight line.
    """
    apart = x[None, :] - places[:, None]
    away = np.abs(apart)
    weight = np.ones_like(away)
    if len(x) >= nearest:
        reach = np.partition(away, nearest - 1, axis=1)[:, nearest - 1 : nearest] * (1.0 + 1e-6)
        weight = (1.0 - np.minimum(away / reach, 1.0) ** 3) ** 3
    whole, first, second = (np.sum(weight * apart**k, axis=1, keepdims=True) for k in range(3))
    return np.asarray(weight * (second - first * apart) / (whole * second - first**2))


def _stretches(grid: Array, gap: Array, half: Array) -> list[Lead]:
    ahead = np.where(np.abs(gap) > half, np.sign(gap), 0.0).astype(int)
    ends = [0, *(np.nonzero(np.diff(ahead))[0] + 1).tolist(), len(grid)]
    return [
        Lead(math.exp(grid[i]), math.exp(grid[j - 1]), int(ahead[i]), math.expm1(float(np.mean(gap[i:j]))))
        for i, j in pairwise(ends)
    ]
