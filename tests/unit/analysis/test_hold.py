"""The posterior over the edge, and the choice of the next test."""

from __future__ import annotations

import math
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import quad
from scipy.stats import chi2, poisson
from tests.unit.analysis.knobs import CLOCK, VOLTAGE

from yondle.analysis.hazards import believed
from yondle.analysis.hold import Believed, Posterior, Scale
from yondle.analysis.runs import Run
from yondle.analysis.stability import PER_HOUR, Standard, least_per_hour, most_per_hour, seconds_to_prove
from yondle.model.knobs import Knob, Risk
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


def _rates(notch: float, edge: np.ndarray, width: np.ndarray) -> np.ndarray:
    return np.exp(np.minimum((notch - edge) / width, 40.0)) / 3600


def test_the_posterior_is_bayes_rule_on_a_grid_of_edges_widths_ends_and_lags() -> None:
    """All of it once more by hand, lags integrated numerically: held, failed late, cool and at once, and what is expected."""
    floor = 0.002 / 3600
    axes = np.linspace(-6, 46, 209), WIDTHS, np.array([2.0, 5.0, 11.0]), np.array([0.0, 3.0])
    edge, width, instant, lag = (axis.ravel() for axis in np.meshgrid(*axes, indexing="ij"))
    dead = edge + width * lag + instant
    log = -0.5 * (np.log(width / (0.33 * WIDTHS[-1])) / 0.8) ** 2

    def lived(notch: float, seconds: float, warmth: float) -> np.ndarray:
        soaked = [
            quad(lambda t, g=g: math.exp(-g * (1 - warmth) * math.exp(-t / 500)), 0, seconds)[0] for g in (0.0, 3.0)
        ]
        return _rates(notch, edge, width) * np.where(lag > 0, soaked[1], soaked[0]) + floor * seconds

    for notch, seconds, warmth in ((18, 300, 1.0), (20, 500, 0.0), (20, 100, 0.6)):
        log -= np.where(notch > dead, 40.0, lived(notch, seconds, warmth))
    for notch, seconds, warmth in ((24, 90, 1.0), (23, 240, 0.2)):
        now = lag * (1 - warmth) * math.exp(-seconds / 500)
        hazard = _rates(notch, edge, width) * np.exp(-now) + floor
        log += np.where(notch > dead, -40.0, np.log(hazard) - lived(notch, seconds, warmth))
    log += np.where(dead < 30, 0.0, np.log(-np.expm1(-lived(30, 1.0, 1.0))))
    log += -2.5 * np.log1p(((edge - 21.0) / 3.0) ** 2 / 4) - 0.5 * ((np.log(width) - 0.1) / 0.7) ** 2
    weight = np.exp(log - log.max()) / np.exp(log - log.max()).sum()

    told = posterior((18, 300, False))
    told.held_often(20, np.array([500.0, 100.0]), np.array([0.0, 0.6]))
    told.failed(24, 90)
    told.take(23, 240, 1, 0.2)
    told.take(30, 0.3, 1)
    told.expect(Believed(21.0, 3.0, 0.1, 0.7))
    middle = told.middle()
    mean, logs = weight @ edge, weight @ np.log(width)
    assert (middle.edge, middle.edge_spread) == pytest.approx((mean, math.sqrt(weight @ (edge - mean) ** 2)), abs=1e-5)
    assert (middle.log_width, middle.log_width_spread) == pytest.approx(
        (logs, math.sqrt(weight @ (np.log(width) - logs) ** 2)), abs=1e-5
    )
    lasting = np.where(dead < 22.0, 0.0, np.exp(-lived(22.0, 900.0, 1.0)))
    assert told.chance([22.0], 900.0)[0] == pytest.approx(weight @ lasting, abs=1e-5)
    reached = np.cumsum(weight[np.argsort(edge, kind="stable")])
    ends = np.sort(edge)[[np.argmax(reached >= share) for share in (0.05, 0.95)]]
    assert told.edge_range(0.9) == pytest.approx(tuple(ends))
    for per_hour in (6.0, 1 / 8):
        acceptable = [
            max(n for n in range(-1, 41) if n < 0 or (n <= d and math.exp((n - e) / w) + 0.002 <= per_hour))
            for e, w, d in zip(edge, width, dead, strict=True)
        ]
        wanted = np.bincount(np.array(acceptable) + 1, weight, 42)
        assert told.answers(per_hour) == pytest.approx(wanted, abs=1e-5)
    assert (told.tests, posterior().tests) == (2, 0)


def test_a_pruned_posterior_has_a_point_for_every_answer_it_still_gives() -> None:
    told = posterior((38, 3600, False), (39, 7200, False))
    assert told.answers(6.0).shape == (NOTCHES + 2,)
    assert told.answers(6.0).sum() == pytest.approx(1.0)
    assert told.answers(6.0).argmax() == NOTCHES + 1, "the edge may lie beyond the range: the riskiest is fine"
    nothing = posterior(*((float(n), 0.5, True) for n in range(3)))
    assert nothing.answers(1 / 8)[0] > 0.3, "even the safest fails"
    times = np.array([0.0, 60.0, 3600.0])
    lasting = told.survival(39.0, times, 0.4)
    assert lasting.shape == (3, len(told.weights))
    assert lasting[0] == pytest.approx(1.0)


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


@pytest.mark.parametrize(("knob", "risky"), [(CLOCK, CLOCK.high), (VOLTAGE, VOLTAGE.low)])
def test_values_and_notches_count_towards_the_risky_end(knob: Knob, risky: float) -> None:
    scale = Scale(knob)
    assert (scale.stride, scale.notches) == (1, knob.notches)
    assert scale.notch(knob.high + knob.low - risky) == pytest.approx(0.0)
    assert (scale.value(knob.notches), scale.place(knob.notches + 9.0)) == (pytest.approx(risky), risky)
    assert scale.notch(scale.value(3)) == pytest.approx(3.0)
    assert scale.place(3.0) == pytest.approx(scale.value(3))
    assert scale.place(-2.0) == pytest.approx(scale.value(0))


def test_a_knob_of_very_many_values_is_taken_in_strides() -> None:
    fine = replace(VOLTAGE, step=VOLTAGE.step / 100)
    scale = Scale(fine)
    assert scale.stride == math.ceil(fine.notches / 500)
    assert scale.notches == fine.notches // scale.stride
    assert scale.value(3) == pytest.approx(fine.high - 3 * scale.stride * fine.step)
    assert scale.notch(scale.value(7)) == pytest.approx(7.0)
    assert scale.place(2.5) == pytest.approx(fine.high - 2.5 * scale.stride * fine.step)
    assert scale.widths()[-1] == pytest.approx(max(2.4, 0.0135 * fine.high / (fine.step * scale.stride)))
    assert scale.widths()[:2] == pytest.approx([0.12, 0.12 * (scale.widths()[-1] / 0.12) ** (1 / 9)])
    with pytest.raises(ValueError, match="no edge"):
        Scale(replace(CLOCK, risk=Risk.NONE))


def test_limits_of_a_rate_are_those_of_a_poisson_count() -> None:
    for failures, seconds in ((1, 1800.0), (4, 9000.0)):
        hours = seconds / 3600
        assert poisson.cdf(failures, most_per_hour(failures, seconds) * hours) == pytest.approx(0.05)
        assert poisson.sf(failures - 1, least_per_hour(failures, seconds) * hours) == pytest.approx(0.05)
        needed = seconds_to_prove(Standard.SESSION, failures)
        assert poisson.cdf(failures, needed / 3600) == pytest.approx(0.05)
    assert least_per_hour(0, 3600.0) == 0.0
    assert most_per_hour(0, 0.5) == pytest.approx(2.9957 * 7200, rel=1e-3)
    assert least_per_hour(1, 0.0) == pytest.approx(chi2.ppf(0.05, 2) / 2 * 3600)


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


@pytest.mark.parametrize(("at", "warmth"), [(None, 1.0), (19, 0.2)])
def test_the_next_test_is_the_one_that_lowers_the_expected_loss_most_for_its_price(
    at: int | None, warmth: float
) -> None:
    """Every notch with every length by itself, over the grid points one at a time."""
    lengths, bounds = (
        (30.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0),
        [0.0, 1, 4, 12, 30, 60, 120, 300, 600, 1200, 1800, 3600],
    )
    told = posterior((18, 900, False), (24, 20, True))
    weights, prices = told.weights, Prices(50.0, 20.0, 700.0)
    chosen = Chooser(DAILY, prices, 3, 30, warmth)
    picked = chosen.next_test([told], 0.0, at)
    right = told.arranged(DAILY.per_hour)
    weights = told.weights
    said = np.arange(3, 31)
    loss = np.maximum(right[:, None] - said, 0) + (1 / 0.08 - 1) * np.maximum(said - right[:, None], 0)

    def least(share: np.ndarray) -> tuple[float, int]:
        expected = (weights * share) @ loss
        return float(expected.min()), int(said[expected.argmin()])

    now = least(np.ones_like(weights))[0]
    worth: dict[tuple[int, float], tuple[float, float, int, int]] = {}
    for notch in range(3, 31):
        lasting = np.vstack([np.ones_like(weights), told.survival(notch, np.array(bounds[1:]), warmth)])
        alive = lasting @ weights
        for length in lengths:
            last = bounds.index(length)
            fell = [least(lasting[i] - lasting[i + 1])[0] for i in range(last)]
            held, if_held = least(lasting[last])
            running = np.trapezoid(alive[: last + 1], bounds[: last + 1])
            price = (20.0 if notch == at else 50.0) + running + (1 - alive[last]) * 700.0
            gain = 3600.0 * (now - sum(fell) - held) / price
            worth[notch, length] = gain, float(alive[last]), if_held, least(1 - lasting[last])[1]
    best = max(worth, key=lambda key: worth[key][0])
    longest = max(length for length in lengths if worth[best[0], length][0] >= 0.95 * worth[best][0])
    assert picked is not None
    assert (picked.load, picked.notch, picked.seconds) == (0, best[0], longest)
    gain, chance, held, failed = worth[best[0], longest]
    assert (picked.gain_per_hour, picked.chance) == (pytest.approx(gain, rel=1e-3), pytest.approx(chance, rel=1e-4))
    assert (picked.if_held, picked.if_failed) == (held, failed)
    assert chosen.recommended([told]) == least(np.ones_like(weights))[1]
    assert chosen.next_test([told], worth[best][0] * 1.01, at) is None


def test_under_two_loads_the_lower_answer_counts_and_both_have_to_meet_the_aim() -> None:
    one, other = posterior((18, 3000, False), (24, 20, True)), posterior((15, 3000, False), (22, 300, True))
    spreads = [each.answers(DAILY.per_hour) for each in (one, other)]
    joint = np.outer(*spreads)
    lower = np.minimum.outer(np.arange(-1, NOTCHES + 1), np.arange(-1, NOTCHES + 1))
    meets = [joint[lower >= notch].sum() for notch in range(NOTCHES + 1)]
    assert chooser().chances_right([one, other]) == pytest.approx(meets, abs=1e-9)
    expected = [np.sum(joint * np.where(lower >= n, lower - n, 11.5 * (n - lower))) for n in range(NOTCHES + 1)]
    assert chooser().recommended([one, other]) == int(np.argmin(expected))
