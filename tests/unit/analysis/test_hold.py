"""The posterior over the edge, and the choice of the next test."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import chi2, poisson
from tests.unit.analysis.knobs import CLOCK, VOLTAGE

from yondle.analysis.hold import Posterior, Run, Scale, believed
from yondle.analysis.stability import PER_HOUR, Standard, most_per_hour, seconds_to_prove
from yondle.planning.edge_search import Aim, Chooser, Prices

NOTCHES = 40
WIDTHS = np.geomspace(0.12, 2.4, 10)
DAILY = Aim(PER_HOUR[Standard.DAILY])


def posterior(*seen: tuple[float, float, bool]) -> Posterior:
    made = Posterior(NOTCHES, WIDTHS)
    for notch, seconds, failed in seen:
        (made.failed if failed else made.held)(notch, seconds)
    return made


def chooser(price_s: float = 600.0) -> Chooser:
    return Chooser(DAILY, Prices(50.0, 50.0, 180.0 + price_s), 0, NOTCHES)


def test_a_clean_hour_proves_no_more_than_three_an_hour() -> None:
    assert most_per_hour(0, 3600.0) == pytest.approx(2.9957, abs=1e-3)
    assert most_per_hour(2, 7200.0) == pytest.approx(chi2.ppf(0.95, 6) / 4)
    assert most_per_hour(0, 0.0) == math.inf


def test_proof_by_passing_alone_takes_a_whole_day_for_daily() -> None:
    seconds = seconds_to_prove(Standard.DAILY)
    assert seconds / 3600 == pytest.approx(23.97, abs=0.01)
    assert poisson.cdf(0, seconds / 3600 / 8) == pytest.approx(0.05)


def test_the_chance_to_last_falls_with_every_notch_and_every_second() -> None:
    believed = posterior((20, 600, False), (26, 40, True))
    chances = believed.chance([float(n) for n in range(NOTCHES + 1)], 600.0)
    assert all(a >= b - 1e-12 for a, b in pairwise(chances))
    assert believed.chance([22.0], 60.0)[0] > believed.chance([22.0], 3600.0)[0]


def test_the_posterior_agrees_with_bayes_by_hand() -> None:
    """One survived and one failed run against the likelihood written out, on the prior's own grid."""
    believed, blank = posterior((18, 300, False), (22, 90, True)), posterior()
    edge, width = blank.edge, blank.width
    rate = [np.exp((n - edge) / width) / 3600 + blank.floor_per_h / 3600 for n in (18, 22)]
    likelihood = np.exp(-rate[0] * 300) * rate[1] * np.exp(-rate[1] * 90)
    likelihood[(blank.dead_beyond < 18) | (blank.dead_beyond < 22)] = 0.0
    weights = blank.weights * likelihood
    mean = float((weights / weights.sum()) @ edge)
    assert float(believed.weights @ believed.edge) == pytest.approx(mean, abs=1e-5)


def test_a_record_that_contradicts_itself_has_an_answer() -> None:
    believed = posterior((30, 3600, False), (10, 0.5, True), (30, 0.2, True))
    assert np.isfinite(believed.weights).all()
    low, high = believed.edge_range()
    assert low <= high


def test_a_safe_value_that_failed_at_once_and_a_riskier_one_that_held_have_an_answer() -> None:
    believed = posterior(*[(0, 1.0, True)] * 5, (12, 1.0, False), (20, 600.0, False))
    assert np.isfinite(believed.weights).all()
    assert all(0.0 <= c <= 1.0 for c in believed.chance([0.0, 12.0, 30.0], 60.0))


def test_ten_thousand_runs_are_taken_in() -> None:
    believed = posterior(*[(float(i % 20), 30.0, False) for i in range(10_000)], (25, 3, True))
    assert 20 <= believed.edge_range()[0] <= 26


def test_a_failure_lowers_what_is_recommended_and_a_long_run_raises_it() -> None:
    choose = chooser()
    first = choose.recommended([posterior((20, 600, False), (26, 40, True))])
    assert choose.recommended([posterior((20, 600, False), (26, 40, True), (22, 40, True))]) < first
    assert choose.recommended([posterior((20, 600, False), (26, 40, True), (21, 7200, False))]) > first


def test_the_worst_of_two_loads_decides() -> None:
    easy, hard = posterior((30, 3600, False), (36, 5, True)), posterior((12, 3600, False), (16, 5, True))
    choose = chooser()
    assert choose.recommended([easy, hard]) <= choose.recommended([hard])
    test = choose.next_test([easy, hard], 0.1)
    assert test is not None
    assert test.load == 1


def test_a_test_says_what_each_end_of_it_would_tell() -> None:
    test = chooser().next_test([posterior((20, 600, False), (30, 5, True))], 0.1)
    assert test is not None
    assert 20 <= test.notch <= 30
    assert test.if_failed < test.if_held


def test_where_crashes_cost_more_the_next_test_is_likelier_to_hold() -> None:
    bold, careful = (chooser(price).next_test([posterior()], 0.1) for price in (0.0, 7200.0))
    assert bold is not None
    assert careful is not None
    assert careful.chance > bold.chance


def test_nothing_is_tested_once_all_is_known() -> None:
    sure = posterior((20, 400 * 3600, False), (21, 60, True), (21, 80, True), (21, 70, True))
    assert chooser().next_test([sure], 1.0) is None


def test_a_knob_of_two_values_can_be_searched() -> None:
    choose = Chooser(DAILY, Prices(50, 50, 180), 0, 1)
    test = choose.next_test([Posterior(1, WIDTHS)], 0.01)
    assert test is None or test.notch in (0, 1)
    assert choose.recommended([Posterior(1, WIDTHS)]) in (0, 1)


@pytest.mark.parametrize(("least", "most"), [(0, 5), (35, 40)])
def test_a_range_on_one_side_of_all_that_is_believed_still_has_an_answer(least: int, most: int) -> None:
    choose = Chooser(DAILY, Prices(50, 50, 180), least, most)
    believed_near_20 = posterior((19, 3600, False), (22, 1, True))
    test = choose.next_test([believed_near_20], 0.01)
    assert test is None or least <= test.notch <= most
    assert choose.recommended([believed_near_20]) == (most if most == 5 else least)


def test_values_and_notches_count_towards_the_risky_end() -> None:
    scale = Scale(CLOCK)
    assert scale.notch(CLOCK.low) == 0
    assert scale.value(CLOCK.notches) == CLOCK.high


exposures = st.lists(
    st.builds(Run, st.just("mixed"), st.integers(0, 64).map(CLOCK.at), st.floats(0.5, 600), st.integers(0, 1)),
    min_size=1,
    max_size=12,
)


@settings(max_examples=40)
@given(exposures)
def test_more_clock_never_raises_the_chance_to_last(seen: list[Run]) -> None:
    chances = believed(CLOCK, seen).chance([float(n) for n in range(CLOCK.notches + 1)], 180)
    assert all(later <= earlier + 1e-6 for earlier, later in pairwise(chances))
    assert all(0.0 <= c <= 1.0 + 1e-6 for c in chances)


@settings(max_examples=40)
@given(st.integers(0, 36), st.floats(0.5, 10))
def test_an_early_failure_lowers_the_chance_where_it_happened_and_a_hold_raises_it(notch: int, seconds: float) -> None:
    def chance(*runs: Run) -> float:
        return believed(CLOCK, runs).chance([float(notch)], 180)[0]

    value = CLOCK.at(notch)
    assert chance(Run("mixed", value, seconds, 1)) < chance() <= chance(Run("mixed", value, seconds)) + 1e-6


def test_for_a_voltage_the_risk_lies_downward() -> None:
    scale = Scale(VOLTAGE)
    seen = [Run("mixed", 1.25, 180), Run("mixed", 1.2, 3, 1)]
    low, high = believed(VOLTAGE, seen).chance([scale.notch(v) for v in (1.19, 1.26)], 180)
    assert low < 0.2
    assert high > 0.9
