"""What a score costs: what none beats, energy per unit of work, and where more power stops paying."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.efficiency import Trade, joules_per_unit, power_curve, unbeaten, work_unit
from yondle.analysis.shapes import CurveShape
from yondle.model.workloads import Direction, Metric


def _settings(watts: list[float], bend_w: float) -> list[Trade]:
    """Settings whose score follows the power in proportion up to a bend, and hardly after it."""
    chance = np.random.default_rng(7)
    made = []
    for drawn in watts:
        score = 2.0 * min(drawn, bend_w) * (max(drawn, bend_w) / bend_w) ** 0.1
        noise = chance.normal(1.0, 0.003, (2, 4))
        made.append(Trade((score * noise[0]).tolist(), (drawn * noise[1]).tolist(), []))
    return made


def test_the_power_past_which_more_pays_less_is_found_whatever_the_order() -> None:
    settings = _settings([40.0, 90.0, 50.0, 60.0, 70.0, 80.0, 45.0, 55.0, 65.0, 75.0, 85.0], 63.0)
    knee = power_curve(settings, Direction.HIGHER).knee
    assert knee is not None
    assert knee.low <= 63.0 <= knee.high
    assert knee.after < 0.3 < knee.before


def test_settings_of_one_power_are_one_point_and_tell_no_bend() -> None:
    assert power_curve(_settings([40.0, 60.0, 60.1, 60.2, 60.3, 60.15, 60.05], 61.0), Direction.HIGHER).place is None
    assert power_curve([], Direction.HIGHER).shape is CurveShape.TOO_FEW


def _beaten_by_some(trades: list[Trade]) -> list[bool]:
    """Try every pair with SciPy: surely better in one of the three, and in none worse by more than half a per cent."""

    def beats(one: Trade, other: Trade) -> bool:
        sides = [(one.scores, other.scores), (other.watts, one.watts), (other.fan, one.fan)]
        read = [(np.log(a), np.log(b)) for a, b in sides if len(a) and len(b)]
        sure = [
            a.mean() > b.mean() and stats.ttest_ind(a, b, equal_var=False).pvalue < 0.05
            for a, b in read
            if min(len(a), len(b)) > 1
        ]
        return any(sure) and all(a.mean() - b.mean() >= -0.005 for a, b in read)

    return [any(beats(one, other) for one in trades if one is not other) for other in trades]


@pytest.mark.parametrize("seed", range(12))
def test_what_none_beats_is_what_welchs_test_over_every_pair_says(seed: int) -> None:
    chance = np.random.default_rng(seed)

    def passes(mean: float, cv: float, fewest: int = 2) -> list[float]:
        return (mean * np.exp(chance.normal(0.0, cv, int(chance.integers(fewest, 7))))).tolist()

    trades = [
        Trade(
            passes(100.0 * chance.uniform(0.97, 1.03), chance.uniform(0.002, 0.02)),
            passes(150.0 * chance.uniform(0.97, 1.03), chance.uniform(0.002, 0.02)),
            passes(1500.0 * chance.uniform(0.97, 1.03), 0.01) if seed % 3 else [],
        )
        for _ in range(14)
    ]
    told = unbeaten(trades, Direction.HIGHER)
    assert told == [not beaten for beaten in _beaten_by_some(trades)]
    assert True in told
    turned = [Trade([1.0 / s for s in t.scores], t.watts, t.fan) for t in trades]
    assert unbeaten(turned, Direction.LOWER) == told
    assert unbeaten([], Direction.HIGHER) == []


@pytest.mark.parametrize(
    ("metric", "work", "joules"),
    [
        (Metric("frames", "frames/min", Direction.HIGHER), "frame", 60.0 * 200.0 / 50.0),
        (Metric("nodes", "Mn/s", Direction.HIGHER), "Mn", 200.0 / 50.0),
        (Metric("runs", "runs/h", Direction.HIGHER), "run", 3600.0 * 200.0 / 50.0),
        (Metric("time", "s", Direction.LOWER), "run", 200.0 * 50.0),
        (Metric("time", "ms", Direction.LOWER), "run", 200.0 * 0.05),
        (Metric("time", "min", Direction.LOWER), "run", 60.0 * 200.0 * 50.0),
        (Metric("latency", "ns", Direction.LOWER), "", None),
        (Metric("points", "points", Direction.HIGHER), "", None),
        (Metric("work", "ops/s", Direction.HIGHER), "op", 200.0 / 50.0),
        (Metric("work", "ps/s", Direction.HIGHER), "ps", 200.0 / 50.0),
        (Metric("work", "GFs/s", Direction.HIGHER), "GFs", 200.0 / 50.0),
        (Metric("work", "mesh/s", Direction.HIGHER), "mesh", 200.0 / 50.0),
        (Metric("work", "cells/step/min", Direction.HIGHER), "cells/step", 60.0 * 200.0 / 50.0),
        (Metric("odd", "/s", Direction.HIGHER), "", None),
        (Metric("odd", "GB/op", Direction.HIGHER), "", None),
    ],
)
def test_energy_is_power_times_the_time_of_one_unit_of_work(metric: Metric, work: str, joules: float | None) -> None:
    assert work_unit(metric) == work
    assert joules_per_unit(50.0, 200.0, metric) == (pytest.approx(joules) if joules else None)
    assert joules_per_unit(0.0, 200.0, metric) is None
    assert (joules_per_unit(0.5, 200.0, metric) is None) == (joules is None)


def test_settings_whose_power_differs_by_less_than_one_per_cent_are_one_point_and_times_are_turned() -> None:
    watts = [40.0, 45.0, 50.0, 55.0, 60.0, 65.0, 70.0, 75.0, 80.0]
    settings = _settings(watts, 58.0)
    split = [Trade([s], [w * 1.0045], []) for t, w in zip(settings, watts, strict=True) for s in t.scores[:1]]
    whole, halved = (power_curve(each, Direction.HIGHER).knee for each in (settings, [*settings, *split]))
    assert whole is not None
    assert halved is not None
    assert halved.at == pytest.approx(whole.at, rel=0.02)
    turned = power_curve([Trade([1.0 / s for s in t.scores], t.watts, []) for t in settings], Direction.LOWER).knee
    assert turned is not None
    assert (turned.at, turned.before) == (pytest.approx(whole.at), pytest.approx(whole.before))


def test_a_setting_without_passes_beats_none_and_is_beaten_by_none() -> None:
    good, poor = Trade([10.0, 10.1], [50.0, 50.1], []), Trade([5.0, 5.1], [60.0, 60.1], [])
    assert unbeaten([poor, Trade([], [40.0, 40.1], []), good], Direction.HIGHER) == [False, True, True]
