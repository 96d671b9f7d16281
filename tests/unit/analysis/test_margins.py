from __future__ import annotations

import math
import sys
from types import ModuleType

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from scipy.special import stdtrit

from yondle.analysis.margins import passes_needed, spread
from yondle.analysis.student import quantile, t_quantile


def test_spread_of_one_pass_has_no_range() -> None:
    one = spread([213.0])
    assert one is not None
    assert one.n == 1
    assert math.isnan(one.low)
    assert spread([]) is None


@pytest.mark.parametrize(
    ("effect", "variation", "passes"), [(0.01, 0.008, 9), (0.005, 0.008, 33), (0.01, 0.02, 51), (-0.01, 0.008, 9)]
)
def test_passes_needed_agree_with_the_normal_approximation(effect: float, variation: float, passes: int) -> None:
    assert passes_needed(effect, variation, 3.0) == passes


def test_as_many_passes_as_are_said_to_be_needed_show_the_effect_in_four_of_five_cases() -> None:
    rng = np.random.default_rng(6)
    n = passes_needed(0.01, 0.01)
    sides = (np.exp(rng.normal(level, 0.01, (400, n))) for level in (math.log(1.01), 0.0))
    tests = stats.ttest_ind(*(np.log(side) for side in sides), axis=1, equal_var=False)
    assert 0.75 < np.mean((tests.pvalue < 0.05) & (tests.statistic > 0.0)) < 0.93


def test_passes_for_no_effect_are_not_a_number() -> None:
    with pytest.raises(ValueError, match="known"):
        passes_needed(0.0, 0.01)


@given(st.floats(1.0, 1e5), st.sampled_from([0.8, 0.95, 0.975, 0.99, 0.9999, 0.2]))
def test_the_quantile_worked_out_without_scipy_is_scipys(degrees: float, probability: float) -> None:
    assert quantile(degrees, probability) == pytest.approx(float(stdtrit(degrees, probability)), rel=1e-9)
    assert t_quantile(degrees, probability) == pytest.approx(quantile(degrees, probability), rel=1e-9)


def test_the_quantile_is_worked_out_while_another_thread_is_loading_the_library(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setitem(sys.modules, "scipy.special", ModuleType("scipy.special"))
    assert t_quantile(17.5, 0.971) == pytest.approx(quantile(17.5, 0.971))


def test_the_quantile_has_its_ends_and_refuses_what_is_none() -> None:
    assert quantile(math.inf, 0.975) == pytest.approx(1.959963985, rel=1e-9)
    assert quantile(5.0, 0.5) == 0.0
    for wrong in ((0.0, 0.9), (math.nan, 0.9), (5.0, 1.0), (5.0, 0.0)):
        with pytest.raises(ValueError, match="no quantile"):
            quantile(*wrong)


def test_the_spread_of_passes_is_students_interval_on_logs_and_that_of_counts_on_counts() -> None:
    scores = [203.0, 199.5, 201.2, 198.8]
    logs, counts = np.log(scores), [0.0, 3.0, 7.0, 11.0, 5.0]
    told, counted = spread([*scores, math.nan, -1.0]), spread([*counts, math.nan, -2.0])
    assert told is not None
    assert counted is not None
    low, high = stats.t.interval(0.95, 3, logs.mean(), stats.sem(logs))
    assert told.n == 4
    assert (told.mean, told.low, told.high) == pytest.approx((stats.gmean(scores), math.exp(low), math.exp(high)))
    assert told.variation == pytest.approx(np.std(logs, ddof=1))
    low, high = stats.t.interval(0.95, 4, np.mean(counts), stats.sem(counts))
    assert (counted.n, counted.mean) == (5, pytest.approx(5.2))
    assert (counted.low, counted.high) == pytest.approx((max(low, 0.0), high))
    assert counted.variation == pytest.approx(np.std(counts, ddof=1) / 5.2)
    steady = spread([0.0, 10.0, 10.0, 10.0, 10.0, 10.0, 10.0, 10.0])
    assert steady is not None
    assert steady.low == pytest.approx(8.75 - stats.t.ppf(0.975, 7) * stats.sem([0.0] + [10.0] * 7))
    none = spread([0.0, 0.0])
    assert none is not None
    assert (none.mean, none.low, none.high, none.variation) == (0.0, 0.0, 0.0, 0.0)
    once = spread([0.0])
    assert once is not None
    assert (once.n, once.mean) == (1, 0.0)
    assert math.isnan(once.low)
