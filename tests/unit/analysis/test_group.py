"""The gain of a group of benchmarks."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.group import GroupGain, group_gain
from yondle.analysis.levels import Difference, Levels, Visit
from yondle.analysis.margins import Basis, spread
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
        members.append(_in_turns(scores.tolist(), baseline.tolist(), Direction.LOWER if down else Direction.HIGHER))
    told = group_gain([member for member in members if member is not None])
    assert told is not None
    return told


def _in_turns(scores: list[float], baseline: list[float], direction: Direction = Direction.HIGHER) -> Difference | None:
    """The difference of two sides that one test has taken in turns: only their passes are noise."""
    return Levels([Visit(0, "base", 0.0, baseline), Visit(0, "step", 1.0, scores)], direction).difference(
        "step", "base"
    )


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
        told = group_gain([d for a, b in sides if (d := _in_turns(a.tolist(), b.tolist())) is not None])
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


def test_what_attempts_add_does_not_average_out_over_benchmarks() -> None:
    """By the formulas, of differences of differing size; and two benchmarks say nothing of others of their kind."""
    basis = Basis(1, 1, 0, 0.01, 0.01, 0.0, 3, 0.0)
    parts = ((0.02, 4e-6, 9e-6, 8.0, 0.001), (0.05, 1e-6, 4e-6, 5.0, 0.0), (0.01, 9e-6, 0.0, 6.0, 0.002))
    members = [Difference(*part, n, m, basis) for part, n, m in zip(parts, (3, 5, 4), (4, 2, 6), strict=True)]
    told = group_gain(members)
    assert told is not None
    assert told.drawn is not None
    value, own, shared, free, beside = np.array(parts).T
    variance = own.sum() / 9 + (np.sqrt(shared).sum() / 3) ** 2
    degrees = variance**2 / np.sum((own / 9 + (np.sqrt(shared).sum() / 3) ** 2 / 3) ** 2 / free)
    error, critical = math.sqrt(variance), stats.t.ppf(0.975, degrees)
    half = critical * error + beside.mean()
    these = told.these
    assert (these.n, these.n_baseline) == (3, 2)
    assert np.log1p([these.fraction, these.low, these.high, these.visible]) == pytest.approx(
        [value.mean(), value.mean() - half, value.mean() + half, half + stats.t.ppf(0.8, degrees) * error]
    )
    resampled = (np.sum((value - value.mean()) ** 2) + (2 - 1 / 3) * own.sum()) / 9
    wide = stats.t.ppf(0.975, 2) * math.sqrt(resampled * 3 / 2 + (np.sqrt(shared).sum() / 3) ** 2)
    assert np.log1p([told.drawn.low, told.drawn.high]) == pytest.approx([value.mean() - wide, value.mean() + wide])
    two = group_gain(members[:2])
    assert two is not None
    assert (two.benchmarks, two.drawn) == (2, None)
    assert group_gain([]) is None


def test_a_count_that_was_ever_nothing_has_no_ratio_and_a_range_from_nothing_on() -> None:
    """Frames dropped: 0 is a figure, not a pass to leave out."""
    assert _in_turns([0.0, 3.0], [12.0, 15.0], Direction.LOWER) is None
    assert _in_turns([4.0, 3.0], [0.0, 15.0], Direction.LOWER) is None
    told = spread([0.0, 3.0, 0.0, 57.0])
    assert told is not None
    assert (told.n, told.mean, told.low) == (4, 15.0, 0.0)
    assert told.high > 15.0
    assert ranged(told.mean, told.low, told.high, "frames") == "15 (0 to 60)\u202fframes"
