"""Where two curves cross, who is ahead where, and how far passes tell ranks apart."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.crossing import crossing, leads
from yondle.analysis.levels import Levels, Visit
from yondle.analysis.ranking import Rank, ranks
from yondle.model.workloads import Direction

UP = Direction.HIGHER
VALUES = [4000.0 + 100.0 * i for i in range(13)]
MEET = 4000.0 * math.exp(0.1)
Points = list[tuple[float, list[float]]]


def sweep(start: float, slope: float, seed: int, values: list[float] = VALUES, knee: float = 1e9) -> Points:
    rng = np.random.default_rng(seed)
    return [
        (v, [100 * math.exp(start + slope * math.log(min(v, knee) / 4000) + e) for e in rng.normal(0, 0.002, 5)])
        for v in values
    ]


@pytest.mark.parametrize("knee", [1e9, 4800.0])
@pytest.mark.parametrize("other", [VALUES, [v + 37.0 for v in VALUES]])
def test_a_crossing_is_found_with_its_interval_whatever_the_shape_and_the_settings(
    knee: float, other: list[float]
) -> None:
    found = crossing(sweep(-0.04, 0.8, 2, knee=knee), sweep(0.0, 0.4, 3, other, knee), UP)
    assert found is not None
    assert found.low <= MEET <= found.high
    assert found.at == pytest.approx(MEET, rel=0.015)
    assert not found.first_below
    turned = crossing(sweep(-0.04, 0.8, 2, knee=knee), sweep(0.0, 0.4, 3, other, knee), Direction.LOWER)
    assert turned is not None
    assert turned.first_below


def test_who_is_ahead_is_told_stretch_by_stretch() -> None:
    told = leads(sweep(-0.04, 0.8, 2), sweep(0.0, 0.4, 3), UP)
    assert [lead.ahead for lead in told] == [-1, 0, 1]
    assert told[0].gap < 0.0 < told[-1].gap
    assert (told[0].low, told[-1].high) == (pytest.approx(4000.0), pytest.approx(5200.0))


def test_curves_apart_or_alike_do_not_cross() -> None:
    assert crossing(sweep(0.0, 0.5, 2), sweep(0.1, 0.5, 3), UP) is None
    assert [lead.ahead for lead in leads(sweep(0.0, 0.5, 2), sweep(0.1, 0.5, 3), UP)] == [-1]
    assert crossing(sweep(0.0, 0.5, 2), sweep(0.0, 0.5, 3), UP) is None
    assert leads([(1.0, [1.0])], sweep(0.0, 0.5, 2), UP) == ()
    assert leads(sweep(0.0, 0.5, 2), sweep(0.0, 0.5, 2, [v + 9000 for v in VALUES]), UP) == ()


def test_ranks_stay_open_where_passes_do_not_tell_settings_apart() -> None:
    rng = np.random.default_rng(4)
    sides = [(level * np.exp(rng.normal(0, 0.004, 5))).tolist() for level in (100.0, 110.0, 110.2, 130.0)]
    visits = [Visit(0, i, 0.0, side) for i, side in enumerate(sides)]
    assert ranks(range(4), Levels(visits, UP)) == [Rank(4, 4), Rank(2, 3), Rank(2, 3), Rank(1, 1)]
    assert ranks(range(4), Levels(visits, Direction.LOWER))[0] == Rank(1, 1)
    single = Levels([Visit(0, 0, 0.0, [1.0]), Visit(1, 1, 1.0, [2.0])], UP)
    assert ranks([0, 1, None], single) == [Rank(1, 2), Rank(1, 2), None]


@pytest.mark.parametrize(("others", "apart"), [(0, True), (1, True), (2, False), (6, False)])
def test_the_more_pairs_there_are_the_more_it_takes_to_tell_two_apart(others: int, apart: bool) -> None:
    """Two sides of one test with a risk of 0.0118 by themselves: apart for three pairs, with 0.05/3, and not for six."""
    one, far = np.array([100.0, 101.0, 102.0, 103.0]), np.exp(np.array([-1.0, -0.5, 0.5, 1.0]) * 0.0128)

    def beside(step: float) -> Levels:
        sides = [one, one * step, *(far * 2.0**i for i in range(2, 2 + others))]
        return Levels([Visit(0, i, 0.0, side.tolist()) for i, side in enumerate(sides)], UP)

    told = beside(1.001).difference(1, 0)
    assert told is not None
    levels = beside(math.exp(math.sqrt(told.own) * stats.t.isf(0.0118 / 2, told.degrees)))
    there = ranks([*range(2 + others), None], levels)
    assert (there[0] != there[1]) == apart


def _by_hand(
    x: np.ndarray, y: np.ndarray, own: np.ndarray, grid: np.ndarray
) -> tuple[np.ndarray, np.ndarray, float, float]:
    """Smooth place by place with NumPy's polyfit: heights, errors, degrees left and used."""
    nearest = max(7, len(x) // 2)

    def tricube(away: np.ndarray) -> np.ndarray:
        return (1 - np.minimum(away / (np.sort(away)[nearest - 1] * (1 + 1e-6)), 1) ** 3) ** 3

    known = np.isfinite(own)
    around = [
        np.average(own[known], weights=tricube(np.abs(x[known] - at)) if known.sum() >= nearest else None) for at in x
    ]
    likely = np.array(around) + 0.25 * np.mean(around) + 1e-8

    def row(at: float) -> np.ndarray:
        weight = np.sqrt((tricube(np.abs(x - at)) if len(x) >= nearest else np.ones_like(x)) / likely)
        return np.array([np.polyfit(x - at, unit, 1, w=weight)[1] for unit in np.eye(len(x))])

    whole, rows = np.array([row(at) for at in x]), np.array([row(at) for at in grid])
    apart = np.diag(likely**-0.5) @ (np.eye(len(x)) - whole) @ np.diag(likely**0.5)
    spare = apart @ apart.T
    scale = np.sum(((np.eye(len(x)) - whole) @ y) ** 2 / likely) / np.trace(spare)
    error = np.maximum(np.sqrt(scale * np.array([r**2 @ likely for r in rows])), 1e-4)
    return rows @ y, error, round(np.trace(spare) ** 2 / np.trace(spare @ spare), 1), np.trace(whole)


def _logs(points: Points) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    logs = [np.log(scores) for _, scores in points]
    own = [np.var(each, ddof=1) / len(each) if len(each) > 1 else math.nan for each in logs]
    return np.log([v for v, _ in points]), np.array([each.mean() for each in logs]), np.array(own)


@pytest.mark.parametrize("settings", [5, 13, 30])
@pytest.mark.parametrize("shared", [True, False])
def test_leads_and_crossings_are_those_of_a_local_line_fitted_place_by_place(settings: int, shared: bool) -> None:
    """Worked out again with polyfit, every step by itself; passes differ in number and in spread from setting to setting."""
    values = np.linspace(4000.0, 5200.0, settings)
    rng = np.random.default_rng(settings)

    def passes(start: float, slope: float, at: np.ndarray) -> Points:
        counts = rng.integers(1, 6, len(at))
        counts[[0, -1]] = 1, 4
        made = zip(at, counts, rng.uniform(0.001, 0.006, len(at)), strict=True)
        return [
            (float(v), (100 * np.exp(start + slope * math.log(v / 4000) + rng.normal(0, cv, n))).tolist())
            for v, n, cv in made
        ]

    one = passes(-0.06, 1.1, values)
    other = passes(0.0, 0.6, values if shared else values + 23.0)
    (x, y, s), (u, v, z) = _logs(one), _logs(other)
    if shared:
        grid = np.linspace(x[0], x[-1], 401)
        gap, error, left, used = _by_hand(x, y - v, s + z, grid)
    else:
        grid = np.linspace(u[0], x[-1], 401)
        first, second = _by_hand(x, y, s, grid), _by_hand(u, v, z, grid)
        gap, error = first[0] - second[0], np.sqrt(first[1] ** 2 + second[1] ** 2)
        left, used = min(first[2], second[2]), max(first[3], second[3])

    def ahead(places: int) -> np.ndarray:
        return np.sign(gap) * (np.abs(gap) > stats.t.ppf(1 - 0.025 / places, left) * error)

    sure, alone = ahead(math.ceil(2 * used)), ahead(1)
    parts = np.split(np.arange(401), np.flatnonzero(np.diff(sure)) + 1)
    wanted = [(grid[p[0]], grid[p[-1]], sure[p[0]], gap[p].mean()) for p in parts]
    told = leads(one, other, UP)
    assert [(math.log(t.low), math.log(t.high), t.ahead, math.log1p(t.gap)) for t in told] == [
        pytest.approx(w, abs=1e-9) for w in wanted
    ]
    assert {t.ahead for t in told} == {-1, 0, 1}
    found = crossing(one, other, UP)
    assert found is not None
    turn = int(np.flatnonzero(np.diff(np.sign(gap)))[0])
    assert math.log(found.at) == pytest.approx(np.interp(0.0, gap[turn : turn + 2], grid[turn : turn + 2]), abs=1e-9)
    assert math.log(found.low) == pytest.approx(grid[: turn + 1][alone[: turn + 1] == -1].max(), abs=1e-9)
    assert math.log(found.high) == pytest.approx(grid[turn + 1 :][alone[turn + 1 :] == 1].min(), abs=1e-9)
