"""Shapes of curves whose law is known, and odd input."""

from __future__ import annotations

import math

import numpy as np
import pytest
from benchmarks.shapes import LAWS, Law, is_true, sweeps
from scipy import stats

from yondle.analysis.shapes import CurveShape, read_curve
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


@pytest.mark.parametrize("law", LAWS, ids=lambda law: law.name)
def test_what_is_said_of_a_curve_is_so_whatever_its_law(law: Law) -> None:
    """Of 120 sweeps at most 5 are misread: with 1 % false that happens in one law of a thousand. `benchmarks.shapes` has more."""
    read = [(s, read_curve(s.points, UP)) for s in sweeps(law, 2, np.random.default_rng(5))]
    assert sum(is_true(s, reading) is False for s, reading in read) <= 5


def test_a_slope_that_falls_to_a_quarter_is_a_knee_at_its_place() -> None:
    reading = read_curve(sweep(law(0.9, 0.225)), UP)
    assert reading.knee is not None
    assert reading.knee.at == pytest.approx(4600, rel=0.01)
    assert reading.knee.low <= 4600 <= reading.knee.high
    assert reading.knee.before == pytest.approx(0.9, abs=0.1)
    assert reading.knee.after == pytest.approx(0.225, abs=0.1)


def test_a_straight_curve_and_one_of_which_a_part_does_not_scale_have_no_knee() -> None:
    straight = read_curve(sweep(law(0.8, 0.8)), UP)
    part = read_curve(sweep([-math.log(0.4 + 0.6 * 4000 / v) for v in VALUES], 0.0003), UP)
    assert (straight.shape, straight.knee) == (CurveShape.STRAIGHT, None)
    assert (part.shape, part.knee) == (CurveShape.PART, None)
    assert part.fixed is not None
    assert part.fixed.low <= 0.4 <= part.fixed.high


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


@pytest.mark.parametrize("seed", range(3))
def test_a_knee_lies_where_a_bent_line_fits_best_and_its_range_is_all_that_fit_nearly_as_well(seed: int) -> None:
    """By least squares at every place by itself, with its range by F at 98.5 %."""
    points = sweep(law(0.9, 0.3, 4500.0 + 60.0 * seed), 0.0015, seed)
    x, y = np.log([v for v, _ in points]), np.array([np.log(s).mean() for _, s in points])

    def left(at: float) -> float:
        columns = np.stack([np.ones_like(x), x, np.maximum(x - at, 0.0)], axis=1)
        return float(np.linalg.lstsq(columns, y, rcond=None)[1][0])

    places = np.linspace(x[1], x[-2], 2001)
    rss = np.array([left(at) for at in places])
    near = places[rss <= rss.min() * (1 + stats.t.ppf(0.9925, len(x) - 4) ** 2 / (len(x) - 4))]
    knee = read_curve(points, UP).knee
    assert knee is not None
    grid = float(x[-2] - x[1]) / 47
    assert math.log(knee.at) == pytest.approx(places[int(np.argmin(rss))], abs=grid / 20)
    assert np.log([knee.low, knee.high]) == pytest.approx([near.min(), near.max()], abs=grid)
    assert (knee.before, knee.after) == (pytest.approx(0.9, abs=0.1), pytest.approx(0.3, abs=0.1))


@pytest.mark.parametrize("share", [0.1, 0.35, 0.55])
def test_the_part_that_does_not_scale_is_the_one_that_fits_best(share: float) -> None:
    """Amdahl's law without noise, settings and scores in any unit and any order, for scores and for times."""
    points = [(v, [250.0 / (share + (1 - share) * 4000.0 / v)]) for v in VALUES]
    told = read_curve(points[::-1], UP)
    assert told.shape is CurveShape.PART
    assert told.fixed is not None
    assert told.fixed.share == pytest.approx(share, abs=0.0051)
    times = read_curve([(v, [1 / s for s in scores]) for v, scores in points], Direction.LOWER)
    assert times.fixed == told.fixed
    assert times.upper is not None
    assert told.upper is not None
    assert told.upper.settings == 5
    assert times.upper.slope == pytest.approx(told.upper.slope)


@pytest.mark.parametrize(
    ("after", "shape"), [(0.0, CurveShape.NEARLY_FLAT), (0.25, CurveShape.KNEE), (0.5, CurveShape.KNEE)]
)
def test_what_lies_above_a_bend_names_the_curve_by_its_slope(after: float, shape: CurveShape) -> None:
    assert read_curve(sweep(law(0.95, after, 4600.0), 0.0005), UP).shape is shape


@pytest.mark.parametrize(("knee", "shape"), [(4300.0, CurveShape.NEARLY_FLAT), (4900.0, CurveShape.KNEE)])
def test_a_bend_near_an_end_is_read_by_what_lies_beyond_it(knee: float, shape: CurveShape) -> None:
    """What is left above decides, not the slope: there has to be enough of the range to call it flat."""
    reading = read_curve(sweep(law(0.95, 0.05, knee), 0.0003), UP)
    assert reading.shape is shape
    assert reading.place == pytest.approx(knee, rel=0.035 if shape is CurveShape.NEARLY_FLAT else 0.002)
