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
