"""The gain of a group of benchmarks."""

from __future__ import annotations

import math

import numpy as np
import pytest

from yondle.analysis.group import Member, group_gain
from yondle.analysis.margins import Gain
from yondle.model.workloads import Direction


def drawn(seed: int, benchmarks: int = 8, spread: float = 0.01) -> Gain:
    """A group whose benchmarks gain 2 % on the mean, five passes each, every other one in seconds."""
    rng = np.random.default_rng(seed)
    members = []
    for i, truth in enumerate(rng.normal(0.02, spread, benchmarks)):
        down = i % 2 == 1
        scores, baseline = (np.exp(rng.normal(level, 0.008, 5)) for level in (truth, 0.0))
        if down:
            scores, baseline = 1 / scores, 1 / baseline
        members.append(Member(scores.tolist(), baseline.tolist(), Direction.LOWER if down else Direction.HIGHER))
    told = group_gain(members)
    assert told is not None
    return told


@pytest.mark.parametrize("benchmarks", [3, 8])
def test_the_margin_of_a_group_covers_the_truth_about_as_often_as_it_says(benchmarks: int) -> None:
    inside = sum((g := drawn(seed, benchmarks)).low <= math.expm1(0.02) <= g.high for seed in range(120))
    assert inside >= 0.88 * 120


def test_a_group_is_told_the_same_every_time() -> None:
    assert drawn(1) == drawn(1)


def test_benchmarks_that_agree_tell_more_than_those_that_do_not() -> None:
    assert drawn(3, spread=0.0).margin < drawn(3, spread=0.05).margin


def test_two_benchmarks_are_no_group() -> None:
    member = Member([1.0, 1.1], [1.0, 1.0], Direction.HIGHER)
    assert group_gain([member, member]) is None
    assert group_gain([member, member, Member([1.0], [1.0, 2.0], Direction.HIGHER)]) is None
