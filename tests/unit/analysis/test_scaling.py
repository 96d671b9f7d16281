"""Readings of curves whose shape is known, and odd input."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.scaling import (
    CurveShape,
    at_cap,
    elasticity,
    in_proportion,
    interaction,
    read_curve,
)
from yondle.model.workloads import Direction

UP = Direction.HIGHER
VALUES = [4000.0 + 100.0 * i for i in range(13)]
Points = list[tuple[float, list[float]]]


def sweep(log_score: list[float], cv: float = 0.002, seed: int = 2, cap: float = math.inf) -> Points:
    rng = np.random.default_rng(seed)
    return [
        (v, [min(cap, 100 * math.exp(y + e)) for e in rng.normal(0, cv, 5)])
        for v, y in zip(VALUES, log_score, strict=True)
    ]


def law(before: float, after: float, knee: float = 4600.0) -> list[float]:
    """Logs of a score whose slope changes at a knee."""
    return [before * math.log(min(v, knee) / 4000) + after * math.log(max(1.0, v / knee)) for v in VALUES]


def test_elasticity_without_outliers_is_the_slope_of_logs_with_its_t_interval() -> None:
    xs = [4200.0, 4300.0, 4400.0, 4500.0, 4600.0]
    logs = [0.0, 0.0200, 0.0395, 0.0596, 0.0779]
    fit = elasticity([(x, [200 * math.exp(y)] * 5) for x, y in zip(xs, logs, strict=True)], UP)
    line = stats.linregress(np.log(xs), logs)
    half = stats.t.ppf(0.975, 3) * line.stderr
    assert fit is not None
    assert (fit.slope, fit.low, fit.high) == pytest.approx((line.slope, line.slope - half, line.slope + half), rel=0.01)


def test_one_setting_has_no_elasticity() -> None:
    assert elasticity([(4200.0, [1.0, 2.0])], UP) is None
    assert elasticity([], UP) is None


def test_a_score_at_a_known_cap_is_noticed() -> None:
    assert at_cap([(1.0, [59.9, 60.0]), (2.0, [60.0])], 60.0)
    assert not at_cap([(1.0, [50.0]), (2.0, [60.0])], 60.0)
    assert not at_cap([(1.0, [60.0])], None)


def test_a_slope_that_falls_to_a_quarter_is_a_knee_at_its_place() -> None:
    reading = read_curve(sweep(law(0.9, 0.225)), UP)
    assert reading.knee is not None
    assert reading.knee.at == pytest.approx(4600, rel=0.01)
    assert reading.knee.low <= 4600 <= reading.knee.high
    assert reading.knee.before == pytest.approx(0.9, abs=0.1)
    assert reading.knee.after == pytest.approx(0.225, abs=0.1)


def test_a_straight_curve_and_one_of_which_a_part_does_not_scale_have_no_knee() -> None:
    straight = read_curve(sweep(law(0.8, 0.8)), UP)
    part = read_curve(sweep([-math.log(0.4 + 0.6 * 4000 / v) for v in VALUES], 0.0005), UP)
    assert (straight.shape, straight.knee) == (CurveShape.STRAIGHT, None)
    assert (part.shape, part.knee) == (CurveShape.PART, None)
    assert part.fixed_share == pytest.approx(0.4, abs=0.1)


def test_a_cap_is_no_knee_and_no_gain() -> None:
    points = sweep(law(0.9, 0.9), 0.004, cap=110.0)
    assert read_curve(points, UP, 110.0).shape is CurveShape.CAPPED
    assert read_curve(points, UP).shape is CurveShape.CAPPED


def test_more_that_brings_less_is_a_peak() -> None:
    assert read_curve(sweep(law(0.8, -0.7)), UP).shape is CurveShape.PEAK


def test_no_slope_seen_is_told_from_flat() -> None:
    assert read_curve(sweep(law(0.0, 0.0)), UP).shape is CurveShape.FLAT
    assert read_curve(sweep(law(0.0, 0.0), 0.05), UP).shape is CurveShape.NOTHING_SEEN


def test_lower_is_better_reads_the_same_curve() -> None:
    times = [(v, [10_000 / s for s in scores]) for v, scores in sweep(law(0.9, 0.225))]
    reading = read_curve(times, Direction.LOWER)
    assert reading.knee is not None
    assert reading.whole is not None
    assert reading.whole.slope > 0.5


@pytest.mark.parametrize(
    "points",
    [[], [(4000.0, [])], [(4000.0, [0.0, math.nan])], [(0.0, [5.0]), (-1.0, [5.0])], [(4000.0, [5.0, 6.0])]],
)
def test_too_little_to_read_is_said_so(points: Points) -> None:
    reading = read_curve(points, UP)
    assert reading.shape is CurveShape.TOO_FEW
    assert reading.whole is None


def test_scores_that_never_vary_are_read_with_a_margin() -> None:
    reading = read_curve([(v, [60.0] * 3) for v in VALUES], UP)
    assert reading.shape is CurveShape.FLAT
    assert reading.whole is not None
    assert reading.whole.low < 0 < reading.whole.high


def test_ten_thousand_settings_are_read() -> None:
    rng = np.random.default_rng(1)
    values = np.linspace(1000, 5000, 10_000)
    points = [
        (float(v), [float(v**0.5 * math.exp(e))]) for v, e in zip(values, rng.normal(0, 0.01, 10_000), strict=True)
    ]
    reading = read_curve(points, UP)
    assert reading.whole is not None
    assert reading.whole.slope == pytest.approx(0.5, abs=0.01)


def test_two_changes_that_help_each_other_are_told_from_two_that_do_not() -> None:
    rng = np.random.default_rng(4)

    def passes(level: float) -> list[float]:
        return [100 * math.exp(level + e) for e in rng.normal(0, 0.003, 6)]

    helping = interaction(passes(0.12), passes(0.05), passes(0.03), passes(0.0), UP)
    apart = interaction(passes(0.08), passes(0.05), passes(0.03), passes(0.0), UP)
    assert helping is not None
    assert apart is not None
    assert helping.words == "they help each other"
    assert helping.low <= math.expm1(0.04) <= helping.high
    assert apart.low <= 0.0 <= apart.high
    assert interaction([1.0], [1.0, 2.0], [1.0, 2.0], [1.0, 2.0], UP) is None


def test_in_proportion_is_one_where_the_score_rises_as_the_setting_does() -> None:
    assert in_proportion(4400, 110, 4000, 100, UP) == pytest.approx(1.0)
    assert in_proportion(4400, 100 / 1.05, 4000, 100, Direction.LOWER) == pytest.approx(1.05 / 1.1)


def test_what_two_changes_bring_together_has_the_interval_of_welch_and_satterthwaite() -> None:
    """By the plain formula, with sides of differing size and spread, for both directions, and for figures that never vary."""
    rng = np.random.default_rng(8)
    sides = [(100 * np.exp(rng.normal(level, cv, n))).tolist() for level, cv, n in _FOUR]
    logs = [np.log(side) for side in sides]
    sem2 = np.array([stats.sem(side) ** 2 for side in logs])
    estimate = float(np.dot([1, -1, -1, 1], [side.mean() for side in logs]))
    degrees = sem2.sum() ** 2 / np.sum(sem2**2 / (np.array([n for _, _, n in _FOUR]) - 1))
    low, high = stats.t.interval(0.95, degrees, estimate, math.sqrt(sem2.sum()))
    both, first, second, neither = sides
    told = interaction(both, first, second, neither, UP)
    assert told is not None
    assert (told.fraction, told.low, told.high) == pytest.approx(
        (math.expm1(estimate), math.expm1(low), math.expm1(high))
    )
    both, first, second, neither = ([1 / s for s in side] for side in sides)
    turned = interaction(both, first, second, neither, Direction.LOWER)
    assert turned is not None
    assert (turned.low, turned.high) == pytest.approx((told.low, told.high))
    still = interaction([5.0, 5.0], [5.0] * 3, [5.0] * 2, [5.0] * 4, UP)
    assert still is not None
    least = 1e-8 * np.array([1 / 2, 1 / 3, 1 / 2, 1 / 4])
    half = stats.t.ppf(0.975, least.sum() ** 2 / np.sum(least**2 / [1, 2, 1, 3])) * math.sqrt(least.sum())
    assert (still.low, still.high) == pytest.approx((math.expm1(-half), math.expm1(half)))


_FOUR = ((0.13, 0.004, 6), (0.05, 0.002, 3), (0.04, 0.006, 4), (0.0, 0.001, 2))


@pytest.mark.parametrize("seed", range(4))
def test_a_knee_lies_where_a_bent_line_fits_best_and_its_range_is_all_that_fit_nearly_as_well(seed: int) -> None:
    """By least squares at every place by itself, with its range by F at 95 %."""
    points = sweep(law(0.9, 0.3, 4500.0 + 60.0 * seed), 0.003, seed)
    x, y = np.log([v for v, _ in points]), np.array([np.log(s).mean() for _, s in points])
    places = np.linspace(x[1], x[-2], 48)

    def bent(at: float) -> tuple[float, np.ndarray]:
        columns = np.stack([np.ones_like(x), x, np.maximum(x - at, 0.0)], axis=1)
        solved, left, *_ = np.linalg.lstsq(columns, y, rcond=None)
        return float(left[0]), solved

    rss = np.array([bent(at)[0] for at in places])
    best = int(np.argmin(rss))
    near = places[rss <= rss[best] * (1 + stats.t.ppf(0.975, len(x) - 4) ** 2 / (len(x) - 4))]
    half = (places[1] - places[0]) / 2
    knee = read_curve(points, UP).knee
    assert knee is not None
    assert np.log([knee.at, knee.low, knee.high]) == pytest.approx([places[best], near.min() - half, near.max() + half])
    _, before, change = bent(places[best])[1]
    assert (knee.before, knee.after) == pytest.approx((before, before + change))


@pytest.mark.parametrize("share", [0.1, 0.35, 0.55])
def test_the_part_that_does_not_scale_is_the_one_that_fits_best(share: float) -> None:
    """Amdahl's law without noise, settings and scores in any unit and any order, for scores and for times."""
    points = [(v, [250.0 / (share + (1 - share) * 4000.0 / v)]) for v in VALUES]
    told = read_curve(points[::-1], UP)
    assert told.shape is CurveShape.PART
    assert told.fixed_share == pytest.approx(share, abs=0.0051)
    times = read_curve([(v, [1 / s for s in scores]) for v, scores in points], Direction.LOWER)
    assert times.fixed_share == told.fixed_share
    assert times.last_third is not None
    assert told.last_third is not None
    assert told.last_third.settings == 5
    assert times.last_third.slope == pytest.approx(told.last_third.slope)


@pytest.mark.parametrize(
    ("after", "shape"), [(0.0, CurveShape.NEARLY_FLAT), (0.25, CurveShape.NEARLY_FLAT), (0.5, CurveShape.KNEE)]
)
def test_what_lies_above_a_bend_names_the_curve_by_its_slope(after: float, shape: CurveShape) -> None:
    assert read_curve(sweep(law(0.95, after, 4600.0), 0.0005), UP).shape is shape


@pytest.mark.parametrize("knee", [4300.0, 4900.0])
def test_a_bend_near_an_end_is_read_by_what_lies_beyond_it(knee: float) -> None:
    """By halves the upper one would have the bend in it, or the lower one."""
    reading = read_curve(sweep(law(0.95, 0.05, knee), 0.0003), UP)
    assert reading.shape is CurveShape.NEARLY_FLAT
    assert reading.knee is not None
    assert reading.knee.at == pytest.approx(knee, rel=0.01)
