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
