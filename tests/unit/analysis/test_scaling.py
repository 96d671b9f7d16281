"""Slopes, caps and proportion."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.caps import at_cap, meets_cap
from yondle.analysis.scaling import elasticity, in_proportion
from yondle.model.workloads import Direction

UP = Direction.HIGHER


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
    assert meets_cap([(1.0, [50.0]), (2.0, [60.0])], 60.0)
    assert not meets_cap([(1.0, [50.0]), (2.0, [59.0])], 60.0)
    assert not meets_cap([(2.0, [60.0])], None)


def test_in_proportion_is_one_where_the_score_rises_as_the_setting_does() -> None:
    assert in_proportion(4400, 110, 4000, 100, UP) == pytest.approx(1.0)
    assert in_proportion(4400, 100 / 1.05, 4000, 100, Direction.LOWER) == pytest.approx(1.05 / 1.1)
