from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from yondle.analysis.scaling import at_cap, elasticity
from yondle.analysis.stability import Exposure, HoldModel
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.model.workloads import Direction

CLOCK = Knob("core_clock", "Core clock", "MHz", Subsystem.PROCESSOR, 3600, 5200, 25, 4200, risk=Risk.UP)
VOLTAGE = Knob("core_voltage", "Core voltage", "V", Subsystem.PROCESSOR, 0.9, 1.4, 0.005, 1.2, 3, risk=Risk.DOWN)


def test_elasticity_is_the_slope_of_logs_with_its_t_interval() -> None:
    chance = np.random.default_rng(3)
    xs = [4200.0, 4300.0, 4400.0, 4500.0, 4600.0]
    points = [(x, list(200 * (x / 4200) ** 0.86 * np.exp(chance.normal(0, 0.004, 5)))) for x in xs]
    fit = elasticity(points, Direction.HIGHER)
    line = stats.linregress(np.log(xs), [float(np.mean(np.log(s))) for _, s in points])
    half = stats.t.ppf(0.975, 3) * line.stderr
    assert fit is not None
    assert (fit.slope, fit.low, fit.high) == pytest.approx((line.slope, line.slope - half, line.slope + half))


def test_elasticity_needs_two_settings() -> None:
    assert elasticity([(4200.0, [1.0, 2.0])], Direction.HIGHER) is None
    assert elasticity([], Direction.HIGHER) is None


def test_a_cap_is_seen_only_where_every_setting_sits_at_it() -> None:
    assert at_cap([(1.0, [59.9, 60.0]), (2.0, [60.0])], 60.0)
    assert not at_cap([(1.0, [50.0]), (2.0, [60.0])], 60.0)
    assert not at_cap([(1.0, [60.0])], None)


exposures = st.lists(
    st.builds(Exposure, st.integers(0, 64).map(CLOCK.at), st.floats(0.5, 600), st.booleans()), min_size=1, max_size=12
)


@given(exposures)
def test_more_clock_never_raises_the_chance_to_hold(seen: list[Exposure]) -> None:
    chances = HoldModel(CLOCK, seen).chance(CLOCK.values(), 180)
    assert all(later <= earlier + 1e-9 for earlier, later in pairwise(chances))
    assert all(0.0 <= c <= 1.0 for c in chances)


@given(st.integers(0, 36).map(CLOCK.at), st.floats(0.5, 10))
def test_an_early_failure_lowers_the_chance_where_it_happened_and_a_hold_raises_it(
    value: float, seconds: float
) -> None:
    before = HoldModel(CLOCK, []).chance([value], 180)[0]
    assert HoldModel(CLOCK, [Exposure(value, seconds, True)]).chance([value], 180)[0] < before
    assert HoldModel(CLOCK, [Exposure(value, seconds, False)]).chance([value], 180)[0] > before


def test_for_a_voltage_the_risk_lies_downward() -> None:
    seen = [Exposure(1.25, 180, False), Exposure(1.2, 3, True)]
    low, high = HoldModel(VOLTAGE, seen).chance([1.19, 1.26], 180)
    assert low < 0.2
    assert high > 0.9


def test_contradictory_records_still_give_a_sensible_answer() -> None:
    seen = [Exposure(4600, 600, False), Exposure(4500, 2, True)]
    chances = HoldModel(CLOCK, seen).chance([4400, 4600, 4900], 180)
    assert all(0.0 <= c <= 1.0 for c in chances)
    assert chances[0] > chances[2]
