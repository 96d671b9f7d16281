"""Where two curves cross, who is ahead where, and how far passes tell ranks apart."""

from __future__ import annotations

import math

import numpy as np
import pytest

from yondle.analysis.crossing import crossing, leads
from yondle.analysis.ranking import Rank, ranks
from yondle.model.workloads import Direction

UP = Direction.HIGHER
VALUES = [4000.0 + 100.0 * i for i in range(13)]
MEET = 4000.0 * math.exp(0.1)
Points = list[tuple[float, list[float]]]


def sweep(start: float, slope: float, seed: int, values: list[float] = VALUES, knee: float = 1e9) -> Points:
    rng = np.random.default_rng(seed)
    return [
        (v, [100 * math.exp(start + slope * math.log(min(v, knee) / 4000) + e) for e in rng.normal(0, 0.002, 5)])
        for v in values
    ]


@pytest.mark.parametrize("knee", [1e9, 4800.0])
@pytest.mark.parametrize("other", [VALUES, [v + 37.0 for v in VALUES]])
def test_a_crossing_is_found_with_its_interval_whatever_the_shape_and_the_settings(
    knee: float, other: list[float]
) -> None:
    found = crossing(sweep(-0.04, 0.8, 2, knee=knee), sweep(0.0, 0.4, 3, other, knee), UP)
    assert found is not None
    assert found.low <= MEET <= found.high
    assert found.at == pytest.approx(MEET, rel=0.015)
    assert not found.first_below
    turned = crossing(sweep(-0.04, 0.8, 2, knee=knee), sweep(0.0, 0.4, 3, other, knee), Direction.LOWER)
    assert turned is not None
    assert turned.first_below


def test_who_is_ahead_is_told_stretch_by_stretch() -> None:
    told = leads(sweep(-0.04, 0.8, 2), sweep(0.0, 0.4, 3), UP)
    assert [lead.ahead for lead in told] == [-1, 0, 1]
    assert told[0].gap < 0.0 < told[-1].gap
    assert (told[0].low, told[-1].high) == (pytest.approx(4000.0), pytest.approx(5200.0))


def test_curves_apart_or_alike_do_not_cross() -> None:
    assert crossing(sweep(0.0, 0.5, 2), sweep(0.1, 0.5, 3), UP) is None
    assert [lead.ahead for lead in leads(sweep(0.0, 0.5, 2), sweep(0.1, 0.5, 3), UP)] == [-1]
    assert crossing(sweep(0.0, 0.5, 2), sweep(0.0, 0.5, 3), UP) is None
    assert leads([(1.0, [1.0])], sweep(0.0, 0.5, 2), UP) == ()
    assert leads(sweep(0.0, 0.5, 2), sweep(0.0, 0.5, 2, [v + 9000 for v in VALUES]), UP) == ()


def test_ranks_stay_open_where_passes_do_not_tell_settings_apart() -> None:
    rng = np.random.default_rng(4)
    sides = [(level * np.exp(rng.normal(0, 0.004, 5))).tolist() for level in (100.0, 110.0, 110.2, 130.0)]
    assert ranks(sides, UP) == [Rank(4, 4), Rank(2, 3), Rank(2, 3), Rank(1, 1)]
    assert ranks(sides, Direction.LOWER)[0] == Rank(1, 1)
    assert ranks([[1.0], [2.0], []], UP) == [Rank(1, 2), Rank(1, 2), None]
