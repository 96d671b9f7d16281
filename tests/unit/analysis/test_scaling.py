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
