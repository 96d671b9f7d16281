"""Where more power stops paying."""

from __future__ import annotations

import numpy as np

from yondle.analysis.efficiency import Trade, power_knee
from yondle.model.workloads import Direction


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
    knee = power_knee(settings, Direction.HIGHER)
    assert knee is not None
    assert knee.low <= 63.0 <= knee.high
    assert knee.after < 0.3 < knee.before


def test_settings_of_one_power_are_one_point_and_tell_no_bend() -> None:
    assert power_knee(_settings([40.0, 60.0, 60.1, 60.2, 60.3, 60.15, 60.05], 61.0), Direction.HIGHER) is None
    assert power_knee([], Direction.HIGHER) is None
