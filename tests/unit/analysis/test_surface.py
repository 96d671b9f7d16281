"""A surface through gains at pairs of settings, and where it may be drawn."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import Delaunay

from yondle.analysis.surface import fit_surface

CORE, MEMORY = np.meshgrid(np.linspace(4200.0, 5000.0, 5), np.linspace(4800.0, 6000.0, 4))


def _parabola(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    a, b = (x - 4500.0) / 100.0, (y - 5200.0) / 200.0
    return 3.0 + 0.8 * a + 0.5 * b - 0.06 * a * a + 0.11 * a * b - 0.09 * b * b


def _points(there: np.ndarray | None = None) -> np.ndarray:
    points = np.stack([CORE.ravel(), MEMORY.ravel(), _parabola(CORE, MEMORY).ravel()], axis=1)
    return points if there is None else points[there]


def test_a_parabola_is_found_again_everywhere_and_one_wild_point_hardly_moves_it() -> None:
    x, y = np.random.default_rng(1).uniform([4000.0, 4600.0], [5200.0, 6200.0], (50, 2)).T
    surface = fit_surface(_points())
    assert surface is not None
    assert surface.height(x, y) == pytest.approx(_parabola(x, y), abs=1e-9)
    struck = _points()
    struck[7, 2] += 40.0
    bent = fit_surface(struck)
    assert bent is not None
    assert bent.height(x, y) == pytest.approx(_parabola(x, y), abs=0.5)


def test_it_holds_inside_the_hull_of_what_was_measured_and_on_its_edge() -> None:
    """Against a triangulation, for a corner left out and points listed in any order."""
    order = np.random.default_rng(2).permutation(np.arange(2, 20))
    surface = fit_surface(_points(order))
    assert surface is not None
    x, y = np.random.default_rng(3).uniform([4100.0, 4700.0], [5100.0, 6100.0], (2000, 2)).T
    inside = Delaunay(_points(order)[:, :2]).find_simplex(np.stack([x, y], axis=1)) >= 0
    assert surface.holds(x, y).tolist() == inside.tolist()
    assert 0.3 < inside.mean() < 0.8
    assert surface.holds(*_points(order)[:, :2].T).all()
    middle = np.array([4600.0]), np.array([4800.0])
    assert surface.holds(*middle).all()
    assert not surface.holds(middle[0], middle[1] - 0.01).any()
    assert len(surface.hull) == 5


@pytest.mark.parametrize(
    "points",
    [
        _points()[:7],
        _points(np.flatnonzero(np.isin(CORE.ravel(), [4200.0, 4400.0]))),
        _points(np.flatnonzero(np.isin(MEMORY.ravel(), [4800.0, 6000.0]))),
        np.stack([np.arange(10.0), 2 * np.arange(10.0), np.arange(10.0)], axis=1),
        np.concatenate([_points(np.flatnonzero(MEMORY.ravel() == 4800.0)), _points(np.flatnonzero(MEMORY.ravel() == 5200.0)),
                        _points(np.array([19]))]),
    ],
)  # fmt: skip
def test_points_that_do_not_carry_one_have_none(points: np.ndarray) -> None:
    """Too few, two values along one side, all on one line, or one point that decides alone."""
    assert fit_surface(points) is None


def test_eight_points_with_three_values_either_way_carry_one() -> None:
    there = np.array([0, 1, 2, 4, 5, 7, 8, 11])
    grid = np.stack([np.tile([1.0, 2.0, 3.0, 4.0], 3), np.repeat([1.0, 2.0, 3.0], 4)], axis=1)[there]
    assert fit_surface(np.column_stack([grid, grid.sum(axis=1)])) is not None
