"""The gain of a group of benchmarks."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.group import GroupGain, Member, group_gain
from yondle.analysis.margins import gain, spread
from yondle.model.quantities import ranged
from yondle.model.workloads import Direction


def drawn(seed: int, benchmarks: int = 8, spread: float = 0.01) -> GroupGain:
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
    told = [g for seed in range(120) if (g := drawn(seed, benchmarks).drawn) is not None]
    assert sum(g.low <= math.expm1(0.02) <= g.high for g in told) >= 0.88 * 120


@pytest.mark.parametrize("benchmarks", [1, 3, 8])
def test_the_margin_of_these_benchmarks_covers_their_own_mean_and_no_wider(benchmarks: int) -> None:
    """Benchmarks that gain 2 % and 30 % by turns: what they gained is known to the noise of their passes alone."""
    truths = [0.02 if i % 2 else 0.3 for i in range(benchmarks)]
    mean, inside, widths = sum(truths) / benchmarks, 0, []
    for seed in range(400):
        rng = np.random.default_rng(seed)
        sides = [(np.exp(rng.normal(t, 0.008, 5)), np.exp(rng.normal(0.0, 0.008, 5))) for t in truths]
        told = group_gain([Member(a.tolist(), b.tolist(), Direction.HIGHER) for a, b in sides])
        assert told is not None
        inside += told.these.low <= math.expm1(mean) <= told.these.high
        widths.append(told.these.margin)
    assert 0.92 * 400 <= inside <= 0.985 * 400
    assert np.mean(widths) == pytest.approx(2.0 * 0.008 * math.sqrt(2 / 5 / benchmarks) * math.exp(mean), rel=0.25)


def test_a_group_is_told_the_same_every_time() -> None:
    assert drawn(1) == drawn(1)


def test_benchmarks_that_agree_tell_more_than_those_that_do_not() -> None:
    alike, apart = drawn(3, spread=0.0), drawn(3, spread=0.05)
    assert alike.drawn is not None
    assert apart.drawn is not None
    assert alike.drawn.margin < apart.drawn.margin
    assert alike.these.margin == pytest.approx(apart.these.margin, rel=0.2)


def test_two_benchmarks_have_a_mean_and_say_nothing_of_others() -> None:
    member = Member([1.0, 1.1], [1.0, 1.0], Direction.HIGHER)
    told = group_gain([member, member, Member([1.0], [1.0, 2.0], Direction.HIGHER)])
    assert told is not None
    assert (told.benchmarks, told.drawn) == (2, None)
    assert group_gain([Member([1.0], [1.0, 2.0], Direction.HIGHER)]) is None


def test_a_count_that_was_ever_nothing_has_no_ratio_and_a_range_from_nothing_on() -> None:
    """Frames dropped: 0 is a figure, not a pass to leave out."""
    zeros = Member([0.0, 3.0], [12.0, 15.0], Direction.LOWER)
    before = Member([4.0, 3.0], [0.0, 15.0], Direction.LOWER)
    usable = Member([4.0, 3.0], [12.0, 15.0], Direction.LOWER)
    assert group_gain([zeros, before]) is None
    left = group_gain([zeros, usable, before])
    assert left is not None
    assert left.benchmarks == 1
    assert gain([0.0, 3.0], [12.0, 15.0], Direction.LOWER) is None
    told = spread([0.0, 3.0, 0.0, 57.0])
    assert told is not None
    assert (told.n, told.mean, told.low) == (4, 15.0, 0.0)
    assert told.high > 15.0
    assert ranged(told.mean, told.low, told.high, "frames") == "15 (0 to 60)\u202fframes"


def test_both_margins_of_a_group_are_those_of_their_formulas() -> None:
    """Sides of differing size; worked out again with SciPy, and a count of resampled means."""
    rng = np.random.default_rng(9)
    sizes = [(3, 4), (5, 2), (4, 6)]
    sides = [
        (np.exp(rng.normal(0.05 * i, 0.01, n)), np.exp(rng.normal(0.0, 0.02, m))) for i, (n, m) in enumerate(sizes)
    ]
    told = group_gain([Member(a.tolist(), b.tolist(), Direction.HIGHER) for a, b in sides])
    assert told is not None
    assert told.drawn is not None
    gains = np.array([np.log(a).mean() - np.log(b).mean() for a, b in sides])
    each = np.array([stats.sem(np.log(side)) ** 2 for pair in sides for side in pair])
    free = np.array([n - 1 for pair in sizes for n in pair])
    degrees, error = each.sum() ** 2 / np.sum(each**2 / free), math.sqrt(each.sum()) / 3
    critical = stats.t.ppf(0.975, degrees)
    these = told.these
    assert (these.n, these.n_baseline) == (3, 2)
    assert np.log1p([these.fraction, these.low, these.high, these.visible]) == pytest.approx(
        [gains.mean(), gains.mean() - critical * error, gains.mean() + critical * error,
         (critical + stats.t.ppf(0.8, degrees)) * error]
    )  # fmt: skip
    redrawn = np.array([
        np.mean([np.mean(rng.choice(np.log(sides[b][0]), sizes[b][0])) - np.mean(rng.choice(np.log(sides[b][1]), sizes[b][1]))
                 for b in rng.integers(0, 3, 3)])
        for _ in range(4000)
    ])  # fmt: skip
    within = sum(np.var(np.log(side)) / len(side) for pair in sides for side in pair)
    by_hand = math.sqrt((np.sum((gains - gains.mean()) ** 2) + (2 - 1 / 3) * within) / 9)
    half = math.log1p(told.drawn.high) - gains.mean()
    assert half == pytest.approx(stats.t.ppf(0.975, 2) * by_hand * math.sqrt(3 / 2))
    assert (told.drawn.n, told.drawn.n_baseline) == (3, 2)
    assert half / stats.t.ppf(0.975, 2) == pytest.approx(redrawn.std() * math.sqrt(3 / 2), rel=0.05)
    assert math.log1p(told.drawn.low) == pytest.approx(gains.mean() - half)
    assert math.log1p(told.drawn.visible) / half == pytest.approx(1 + stats.norm.ppf(0.8) / stats.t.ppf(0.975, 2))
