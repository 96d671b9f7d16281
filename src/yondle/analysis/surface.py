"""A smooth surface through gains at pairs of settings, and only where the points support it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.regression import Array, fit

FEWEST = 8
"""A parabola of two variables has six coefficients; fewer points than this would be drawn through, not fitted."""
_LEAST_SCALE = 0.05
_ON_EDGE = 1e-9
_MOST_LEVERAGE = 0.95
"""A surface bound to one point like this says nothing there but that point."""


@dataclass(frozen=True, slots=True, eq=False)
class Surface:
    """A parabola in two variables, each scaled to -1 to 1, and the convex hull of the points, shape (corners, 2)."""

    coefficients: Array
    centre: Array
    reach: Array
    hull: Array

    def height(self, x: Array, y: Array) -> Array:
        """Give the height at places, also where nothing was measured near them: see `holds`."""
        scaled = (x - self.centre[0]) / self.reach[0], (y - self.centre[1]) / self.reach[1]
        return np.asarray(_terms(*scaled) @ self.coefficients)

    def holds(self, x: Array, y: Array) -> NDArray[np.bool_]:
        """Tell for places whether they lie inside the hull of what was measured, or on it."""
        inside = np.ones(np.broadcast(x, y).shape, dtype=bool)
        size = float(np.abs(self.hull).max()) ** 2
        for (x0, y0), (x1, y1) in zip(self.hull, np.roll(self.hull, -1, axis=0), strict=True):
            inside &= (x1 - x0) * (y - y0) - (y1 - y0) * (x - x0) >= -_ON_EDGE * size
        return inside


def fit_surface(points: Array) -> Surface | None:
    """Fit a surface to points of x, y and height, shape (points, 3), by Huber's weights; None where they don't support one.

    It takes eight points or more, three values at least along either, not all on one line, and none that decides alone.
    """
    if len(points) < FEWEST or min(len(np.unique(points[:, i])) for i in (0, 1)) < 3:
        return None
    low, high = points[:, :2].min(axis=0), points[:, :2].max(axis=0)
    centre, reach = (low + high) / 2.0, (high - low) / 2.0
    design = _terms(*((points[:, :2] - centre) / reach).T)
    if np.linalg.matrix_rank(design, tol=1e-6) < design.shape[1]:
        return None
    leverage = np.sum(np.linalg.qr(design)[0] ** 2, axis=1)
    if leverage.max() > _MOST_LEVERAGE:
        return None
    fitted = fit(design, points[:, 2], least_scale=_LEAST_SCALE)
    return Surface(fitted.coefficients, centre, reach, _hull(points[:, :2]))


def _terms(x: Array, y: Array) -> Array:
    return np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1)


def _hull(points: Array) -> Array:
    """Give the corners of the convex hull counter-clockwise (Andrew 1979, Information Processing Letters 9)."""
    ordered = sorted({(float(x), float(y)) for x, y in points})

    def half(those: list[tuple[float, float]]) -> list[tuple[float, float]]:
        corners: list[tuple[float, float]] = []
        for p in those:
            while len(corners) > 1 and _turn(corners[-2], corners[-1], p) <= 0.0:
                corners.pop()
            corners.append(p)
        return corners[:-1]

    return np.array(half(ordered) + half(ordered[::-1]))


def _turn(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> float:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
