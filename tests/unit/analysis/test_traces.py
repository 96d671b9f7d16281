"""Figures of traces, dips and their pyramid, held against the plain way of working them out."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yondle.analysis.pyramid import Pyramid
from yondle.analysis.traces import below, difference, durations, hottest, in_spans, span_figures, time_on

TIMES = np.arange(0.0, 100.0, 0.5)


def test_the_mean_is_over_time_and_a_gap_counts_for_little() -> None:
    times = np.array([0.0, 1.0, 2.0, 3.0, 100.0])
    values = np.array([10.0, 10.0, 10.0, 10.0, 50.0])
    assert durations(times).tolist() == [1.0, 1.0, 1.0, 1.0, 5.0]
    told = span_figures(times, values, 0.0, 100.0)
    assert (told.lowest, told.highest, told.readings) == (10.0, 50.0, 5)
    assert told.mean == pytest.approx((4 * 10 + 5 * 50) / 9)
    assert span_figures(times, values, 10.0, 20.0).readings == 0
    assert math.isnan(span_figures(times, np.full(5, np.nan), 0.0, 100.0).mean)


def test_dips_are_found_counted_and_measured_only_under_load() -> None:
    values = np.full(len(TIMES), 4600.0)
    values[40:44], values[100:110], values[150] = 4400.0, 4300.0, np.nan
    values[180:] = 800.0
    loaded = in_spans(TIMES, [(0.0, 80.0)])
    told = below(TIMES, values, 4600.0, loaded)
    assert [(d.from_s, d.to_s, d.lowest) for d in told.dips] == [(19.5, 21.5, 4400.0), (49.5, 54.5, 4300.0)]
    assert told.below_s == pytest.approx(7.0)
    assert told.share == pytest.approx(7.0 / (80.5 - 0.5))
    assert told.deepest is not None
    assert told.deepest.lasted_s == pytest.approx(5.0)
    assert len(below(TIMES, values, 4600.0).dips) == 3
    assert below(TIMES, np.full(len(TIMES), 4590.0), 4600.0).dips == ()


def test_the_hottest_of_several_is_followed() -> None:
    first, second = np.full(len(TIMES), 60.0), np.full(len(TIMES), 55.0)
    second[150:] = 70.0
    told = hottest(TIMES, [first, second], 0.0, 100.0)
    assert told is not None
    assert (told.place, told.peak) == (0, 60.0)
    assert told.share == pytest.approx(0.75)
    late = hottest(TIMES, [first, second, np.full(len(TIMES), np.nan)], 80.0, 100.0)
    assert late is not None
    assert (late.place, late.share) == (1, 1.0)
    assert hottest(TIMES, [np.full(len(TIMES), np.nan)], 0.0, 100.0) is None


def test_a_flag_may_be_up_for_a_share_of_its_interval() -> None:
    flags = np.zeros(len(TIMES))
    flags[10:14] = 0.5
    assert time_on(TIMES, flags) == (pytest.approx(1.0), pytest.approx(100.0))


def test_the_difference_of_two_runs_is_taken_on_one_clock_and_keeps_gaps() -> None:
    other_times = np.concatenate([np.arange(0.0, 30.0), np.arange(60.0, 90.0)])
    told = difference(TIMES, TIMES * 2.0, other_times, other_times * 2.0, 5.0)
    assert np.isnan(told[TIMES < 5.0]).all()
    assert told[(TIMES >= 5.0) & (TIMES <= 34.0)] == pytest.approx(10.0)
    assert np.isnan(told[(TIMES > 34.0) & (TIMES < 65.0)]).all()


@given(
    st.integers(1, 60_000),
    st.integers(0, 2**32 - 1),
    st.floats(0.0, 1.0),
    st.floats(0.0, 1.0),
    st.integers(200, 5000),
)
def test_a_pyramid_never_loses_an_extreme(readings: int, seed: int, one: float, other: float, most: int) -> None:
    chance = np.random.default_rng(seed)
    times = np.cumsum(chance.uniform(0.01, 0.2, readings))
    values = chance.normal(size=readings).astype(np.float32)
    values[chance.random(readings) < 0.1] = np.nan
    low, high = sorted((one * times[-1], other * times[-1]))
    x, y = Pyramid(times, values).seen(low, high, most)
    inside = values[(times >= low) & (times <= high)]
    known = inside[np.isfinite(inside)]
    if len(known):
        assert np.nanmin(y) <= known.min()
        assert np.nanmax(y) >= known.max()
    assert len(x) == len(y)
    assert len(x) <= max(most * 2, 4096 * 2 + 8)
    assert (np.diff(x) >= 0.0).all()
    assert np.isin(y[np.isfinite(y)], values).all()


def test_columns_hold_the_most_telling_reading_and_bridge_what_lies_between_readings() -> None:
    times, values = np.arange(0.0, 10.0, 1.0), np.array([5.0, 6, 7, 20, 7, 6, 5, 4, np.nan, 3])
    pyramid = Pyramid(times, values)
    assert pyramid.columns(0.0, 10.0, 5).tolist() == [6.0, 20.0, 7.0, 5.0, 3.0]
    assert pyramid.columns(0.0, 10.0, 5, highest=False).tolist() == [5.0, 7.0, 6.0, 4.0, 3.0]
    fine = pyramid.columns(2.0, 4.0, 8)
    assert fine.tolist() == [7.0] * 4 + [20.0] * 4
    beyond = pyramid.columns(-4.0, 16.0, 10)
    assert np.isnan(beyond[0])
    assert np.isnan(beyond[-3:]).all()
    many = Pyramid(np.arange(100_000.0), np.sin(np.arange(100_000.0)))
    assert many.columns(0.0, 99_999.0, 100).min() > 0.99


def test_flags_and_dips_count_only_readings_that_are_there_and_under_load() -> None:
    times = np.arange(0.0, 10.0)
    flags = np.array([0.0, 1.0, np.nan, 0.5, 1.0, 2.0, -1.0, 1.0, 0.0, 1.0])
    loaded = times < 7.0
    assert time_on(times, flags, loaded) == (1.0 + 0.5 + 1.0 + 1.0, 6.0)
    assert time_on(times, flags) == (5.5, 9.0)
    told = below(times, np.where(np.isnan(flags), np.nan, 100.0 - flags), 100.0, loaded)
    assert [(d.from_s, d.to_s, d.lowest) for d in told.dips] == [(0.0, 1.0, 99.0), (3.0, 5.0, 98.0)]
    assert (told.below_s, told.whole_s) == (3.0, 6.0)
    assert math.isnan(below(times, flags, 100.0, times > 20.0).share)
    assert below(times, flags, 0.0).deepest is not None
    assert below(times, np.full(10, 99.5), 100.0).dips == ()


def test_a_single_reading_stands_for_no_time_and_the_first_of_several_for_a_usual_step() -> None:
    assert durations(np.array([3.0])).tolist() == [0.0]
    assert durations(np.array([3.0, 5.0])).tolist() == [2.0, 2.0]
    assert durations(np.array([0.0, 2.0, 4.0, 4.5, 40.0])).tolist() == [2.0, 2.0, 2.0, 0.5, 10.0]
    one = span_figures(np.array([3.0]), np.array([7.0]), 0.0, 5.0)
    assert (one.lowest, one.mean, one.highest, one.readings) == (7.0, 7.0, 7.0, 1)
    part = span_figures(np.arange(4.0), np.array([1.0, 2.0, np.nan, 4.0]), 1.0, 3.0)
    assert (part.lowest, part.mean, part.highest, part.readings) == (2.0, 3.0, 4.0, 2)


def test_a_difference_follows_a_straight_line_between_readings_and_ends_where_either_does() -> None:
    other = np.array([0.0, 1.0, 4.0, 9.0, np.nan, 25.0])
    told = difference(np.array([1.0, 1.5, 4.5, 5.0, 6.0, 6.5]), np.full(6, 10.0), np.arange(6.0), other, 1.0)
    assert told == pytest.approx([10.0, 9.5, 10.0 - 13.0, 10.0 - 17.0, 10.0 - 25.0, np.nan], nan_ok=True)
    assert np.isnan(difference(np.arange(3.0), np.ones(3), np.arange(2.0), np.array([1.0, np.nan]), 0.0)).all()
    gap = difference(np.arange(0.0, 20.0), np.zeros(20), np.array([0, 1, 2, 3, 8, 14, 15.0]), np.ones(7), 0.0)
    assert np.flatnonzero(np.isnan(gap)).tolist() == [9, 10, 11, 12, 13, 14, *range(16, 20)]


def test_the_hottest_is_followed_by_time_not_by_readings() -> None:
    times = np.array([0.0, 1.0, 2.0, 6.0])
    told = hottest(times, [np.array([9.0, 9.0, 9.0, 1.0]), np.array([np.nan, 1.0, 1.0, 8.0])], 0.0, 6.0)
    assert told is not None
    assert (told.place, told.peak) == (1, 8.0)
    assert told.share == pytest.approx(4.0 / 7.0)
    still = hottest(np.array([2.0]), [np.array([3.0]), np.array([4.0])], 0.0, 5.0)
    assert still is not None
    assert (still.place, still.share, still.peak) == (1, 1.0, 4.0)
    assert hottest(times, [], 0.0, 6.0) is None
    assert hottest(times, [np.ones(4)], 7.0, 9.0) is None


@pytest.mark.parametrize("readings", [20_000, 20_003])
def test_a_pyramid_gives_every_bunch_its_place_and_its_extremes(readings: int) -> None:
    values = np.random.default_rng(5).normal(size=readings)
    values[4000:4016] = np.nan
    times = np.arange(float(readings)) * 0.1
    pyramid = Pyramid(times, values)
    x, y = pyramid.seen(100.0, 1900.0, 3000)
    size = 16
    first, last = 999 // size, -(-19_002 // size)
    assert x[::2] == pytest.approx(times[np.arange(first, last) * size])
    assert x[1::2] == pytest.approx(times[np.arange(first, last) * size + size // 2])
    bunches = values[first * size : last * size].reshape(-1, size)
    with np.errstate(all="ignore"):
        assert y[::2] == pytest.approx(np.fmin.reduce(bunches, axis=1), nan_ok=True)
        assert y[1::2] == pytest.approx(np.fmax.reduce(bunches, axis=1), nan_ok=True)
    x, y = pyramid.seen(1990.0, 9999.0, 50_000)
    assert (x[0], x[-1], len(x)) == (times[19_899], times[-1], readings - 19_899)
    x, y = pyramid.seen(0.0, times[-1], 10)
    assert (x[0], np.nanmin(y), np.nanmax(y)) == (0.0, np.nanmin(values), np.nanmax(values))
    assert x[-1] <= times[-1]
    assert pyramid.span(0.0, 9999.0) == (np.nanmin(values), np.nanmax(values))
    assert Pyramid(times[:3], np.full(3, np.nan)).span(0.0, 1.0) is None
