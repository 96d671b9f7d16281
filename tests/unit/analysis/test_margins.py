from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from scipy.special import stdtrit

from yondle.analysis.margins import GainWord, gain, passes_needed, spread
from yondle.analysis.student import quantile, t_quantile
from yondle.model.workloads import Direction

HIGHER, LOWER = Direction.HIGHER, Direction.LOWER


def test_the_margin_is_welchs_interval_on_logs_as_scipy_has_it() -> None:
    chance = np.random.default_rng(7)
    for _ in range(50):
        base = list(200 * np.exp(chance.normal(0, 0.01, int(chance.integers(2, 9)))))
        step = list(204 * np.exp(chance.normal(0, 0.02, int(chance.integers(2, 9)))))
        ours = gain(step, base, HIGHER)
        theirs = stats.ttest_ind(np.log(step), np.log(base), equal_var=False).confidence_interval(0.95)
        assert ours is not None
        assert (math.log1p(ours.low), math.log1p(ours.high)) == pytest.approx((theirs.low, theirs.high), rel=1e-9)


def test_the_margin_covers_the_truth_as_often_as_it_says() -> None:
    chance = np.random.default_rng(11)
    covered = 0
    for _ in range(2000):
        base, step = 100 * np.exp(chance.normal(0, 0.008, 5)), 103 * np.exp(chance.normal(0, 0.008, 5))
        found = gain(list(step), list(base), HIGHER)
        assert found is not None
        covered += found.low <= 0.03 <= found.high
    assert 0.935 <= covered / 2000 <= 0.97


def test_fewer_seconds_are_a_gain_where_lower_is_better() -> None:
    found = gain([1.0, 1.01, 0.99], [2.0, 2.01, 1.99], LOWER)
    assert found is not None
    assert found.word is GainWord.GAIN
    assert found.fraction == pytest.approx(1.0, rel=0.02)


def test_a_difference_inside_the_noise_is_called_so() -> None:
    found = gain([100.0, 101.2, 99.5], [100.1, 99.0, 101.0], HIGHER)
    assert found is not None
    assert found.word is GainWord.WITHIN_NOISE
    assert found.low < 0 < found.high


@pytest.mark.parametrize(
    ("step", "base"), [([], [1.0, 2.0]), ([1.0], []), ([float("nan")], [1.0, 2.0]), ([0.0, -3.0], [1.0, 2.0])]
)
def test_without_usable_passes_there_is_no_gain(step: list[float], base: list[float]) -> None:
    assert gain(step, base, HIGHER) is None


def test_one_pass_never_makes_a_gain() -> None:
    found = gain([150.0], [100.0, 101.0, 99.0], HIGHER)
    assert found is not None
    assert found.word is GainWord.TOO_FEW
    assert math.isnan(found.low)


def test_equal_figures_at_a_cap_are_no_gain() -> None:
    found = gain([60.0, 60.0, 60.0], [60.0, 60.0, 60.0], HIGHER)
    assert found is not None
    assert found.word is GainWord.WITHIN_NOISE


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
    shown = 0
    for _ in range(400):
        step, base = (np.exp(rng.normal(level, 0.01, n)).tolist() for level in (math.log(1.01), 0.0))
        told = gain(step, base, Direction.HIGHER)
        shown += told is not None and told.word is GainWord.GAIN
    assert 0.75 < shown / 400 < 0.93


def test_passes_for_no_effect_are_not_a_number() -> None:
    with pytest.raises(ValueError, match="known"):
        passes_needed(0.0, 0.01)


@given(st.floats(1.0, 1e5), st.sampled_from([0.8, 0.95, 0.975, 0.99, 0.9999, 0.2]))
def test_the_quantile_worked_out_without_scipy_is_scipys(degrees: float, probability: float) -> None:
    assert quantile(degrees, probability) == pytest.approx(float(stdtrit(degrees, probability)), rel=1e-9)
    assert t_quantile(degrees, probability) == pytest.approx(quantile(degrees, probability), rel=1e-9)


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


def test_an_effect_is_visible_when_it_shows_in_four_of_five_cases_and_many_comparisons_ask_for_more() -> None:
    base, step = [100.0, 101.0, 99.4, 100.3], [102.0, 103.1, 101.5]
    a, b = (stats.sem(np.log(side)) ** 2 for side in (step, base))
    degrees = (a + b) ** 2 / (a**2 / 2 + b**2 / 3)
    for comparisons in (1, 6):
        told = gain(step, base, HIGHER, comparisons)
        critical = stats.t.ppf(1 - 0.025 / comparisons, degrees)
        assert told is not None
        assert (told.n, told.n_baseline) == (3, 4)
        assert math.log1p(told.visible) == pytest.approx((critical + stats.t.ppf(0.8, degrees)) * math.sqrt(a + b))
        assert math.log1p(told.high) - math.log1p(told.low) == pytest.approx(2 * critical * math.sqrt(a + b))
        assert told.margin == (told.high - told.low) / 2.0
    worse = gain(base, [110.0, 110.2, 110.1], HIGHER)
    assert worse is not None
    assert worse.word is GainWord.LOSS
    still = gain([60.0] * 3, [60.0] * 2, HIGHER)
    least = 1e-8 * np.array([1 / 3, 1 / 2])
    assert still is not None
    assert math.log1p(still.high) == pytest.approx(
        stats.t.ppf(0.975, least.sum() ** 2 / (least**2 @ [1 / 2, 1])) * math.sqrt(least.sum())
    )
    assert gain([0.0, 1.0], [1.0, 1.0], HIGHER) is None
    assert gain([1.0, 1.0], [0.0, 1.0], HIGHER) is None
