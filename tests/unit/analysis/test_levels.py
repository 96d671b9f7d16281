"""Levels of settings out of all attempts: against least squares written out, and against machines that aren't still."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from yondle.analysis.levels import Levels, Visit
from yondle.analysis.margins import GainWord, gain
from yondle.model.workloads import Direction

UP = Direction.HIGHER
CV = 0.008


def evening(steps: int, noise: str, seed: int, true: float = 0.0) -> list[Visit]:
    """A baseline, steps in turns with the one before, and the baseline again after every fourth; the last one gains `true`."""
    rng, visits, at = np.random.default_rng(seed), [], 0
    state = shift = 0.0

    def visit(attempt: int, setting: int, passes: int) -> Visit:
        nonlocal at
        at += passes
        drift = {"drift": 0.016 * at / 60.0, "states": state, "room": 0.01 * (at > 15 * steps / 2)}.get(noise, 0.0)
        level = 100.0 * math.exp(drift + math.log1p(true if setting == steps else 0.0))
        return Visit(attempt, setting, float(at), (level * np.exp(rng.normal(shift, CV, passes))).tolist())

    attempt = 0
    visits.append(visit(attempt, 0, 5))
    for step in range(1, steps + 1):
        attempt, state = attempt + 1, 0.012 * rng.integers(0, 2)
        one, two, three, four = (visit(attempt, setting, 2) for setting in (step, step - 1, step - 1, step))
        for first, last in ((one, four), (two, three)):
            both = (*first.scores, *last.scores)
            visits.append(Visit(attempt, first.setting, (first.at_s + last.at_s) / 2.0, both))
        if step % 4 == 0:
            attempt, state = attempt + 1, 0.012 * rng.integers(0, 2)
            visits.append(visit(attempt, 0, 4))
    return visits


def test_a_gain_is_generalised_least_squares_with_what_attempts_add() -> None:
    visits = evening(6, "states", 4, 0.02)
    levels = Levels(visits, UP)
    told, basis = levels.gain(6, 0), levels.basis(6, 0)
    assert told is not None
    assert basis is not None
    means = np.array([np.mean(np.log(v.scores)) for v in visits])
    places, attempts = np.array([v.setting for v in visits]), np.array([v.attempt for v in visits])
    free = np.array([len(v.scores) - 1.0 for v in visits])
    squares = np.array([np.var(np.log(v.scores)) * len(v.scores) for v in visits])
    shared = squares.sum() / free.sum()
    drawn = np.array([(10 * shared + squares[places == p].sum()) / (10 + free[places == p].sum()) for p in places])
    own = drawn / (free + 1.0)
    apart = basis.attempt_deviation**2 * (attempts[:, None] == attempts[None, :])
    walk = basis.walk_deviation**2 * np.minimum(attempts[:, None], attempts[None, :])
    inverse = np.linalg.inv(np.diag(own) + apart + walk)
    design = np.eye(7)[places]
    covariance = np.linalg.inv(design.T @ inverse @ design)
    level = covariance @ design.T @ inverse @ means
    contrast = np.array([-1.0, 0, 0, 0, 0, 0, 1.0])
    assert told.fraction == pytest.approx(math.expm1(level @ contrast))
    error = math.sqrt(contrast @ covariance @ contrast)
    half = math.log1p(told.high) - math.log1p(told.fraction)
    assert stats.norm.ppf(0.975) * error < half < stats.t.ppf(0.975, 4) * error
    assert basis.pass_deviation == pytest.approx(math.sqrt(shared))
    assert (basis.attempts, basis.attempts_before, basis.alternated, basis.repeats) == (1, 3, 0, len(visits) - 7)


@pytest.mark.parametrize("noise", ["none", "drift", "room", "states"])
def test_a_step_that_changes_nothing_is_seldom_called_a_gain_whatever_the_machine_does(noise: str) -> None:
    """In 160 evenings: of 5 % more than 10 % come once in a thousand times; Welch against the first baseline fails this."""
    wrong = {"start": 0, "baseline": 0}
    for seed in range(80):
        for steps in (1, 8):
            levels = Levels(evening(steps, noise, 1000 * steps + seed), UP)
            for name, before in (("start", steps - 1), ("baseline", 0)):
                told = levels.gain(steps, before)
                assert told is not None
                wrong[name] += told.word is not GainWord.WITHIN_NOISE
    assert max(wrong.values()) <= 16, wrong


def test_one_old_baseline_is_what_the_levels_are_better_than() -> None:
    wrong = 0
    for seed in range(80):
        visits = evening(8, "states", seed)
        last = next(v for v in reversed(visits) if v.setting == 8)
        told = gain(list(last.scores), list(visits[0].scores), UP)
        assert told is not None
        wrong += told.word is not GainWord.WITHIN_NOISE
    assert wrong > 16


def test_what_attempts_differ_by_is_learned_and_widens_what_one_attempt_alone_tells() -> None:
    rng = np.random.default_rng(2)

    def visits(apart: float) -> list[Visit]:
        made = [
            Visit(a, 0, 10.0 * a, (100 * np.exp(rng.normal(rng.normal(0, apart), CV, 5))).tolist()) for a in range(8)
        ]
        return [*made, Visit(8, 1, 80.0, (100 * np.exp(rng.normal(0, CV, 5))).tolist())]

    still, moved = (Levels(visits(apart), UP) for apart in (0.0, 0.02))
    first, second = still.gain(1, 0), moved.gain(1, 0)
    assert first is not None
    assert second is not None
    assert second.margin > 2.0 * first.margin
    assert moved.basis(1, 0).attempt_deviation > 2.0 * still.basis(1, 0).attempt_deviation  # type: ignore[union-attr]


def test_turned_it_turns_and_what_cannot_be_told_is_not() -> None:
    visits = evening(3, "none", 1, 0.01)
    up = Levels(visits, UP).gain(3, 0)
    inverted = [Visit(v.attempt, v.setting, v.at_s, [1e4 / s for s in v.scores]) for v in visits]
    down = Levels(inverted, Direction.LOWER).gain(3, 0)
    assert up is not None
    assert down is not None
    assert (down.low, down.high) == pytest.approx((up.low, up.high))
    levels = Levels([*visits, Visit("x", "single", 99.0, [100.0]), Visit("y", "none", 99.0, [0.0, 100.0])], UP)
    single = levels.gain("single", 0)
    assert single is not None
    assert single.word is GainWord.TOO_FEW
    assert math.isnan(single.low)
    assert levels.gain("none", 0) is None, "nothing is a ratio of a pass of 0"
    assert levels.gain(0, 0) is None
    assert levels.basis("none", 0) is None
    singles = Levels([Visit(0, 0, 0.0, [100.0]), Visit(1, 1, 1.0, [102.0])], UP)
    told = singles.gain(1, 0)
    assert told is not None
    assert (told.word, round(told.fraction, 12)) == (GainWord.TOO_FEW, 0.02)
    assert singles.basis(1, 0) is None
    assert Levels([], UP).gain(1, 0) is None


def test_what_lies_far_back_is_still_compared() -> None:
    """A logbook of a thousand tests holds its latest visits against each other, and older ones two by two."""
    rng = np.random.default_rng(9)
    visits = [Visit(a, a % 900, float(a), (100 * np.exp(rng.normal(0, CV, 4))).tolist()) for a in range(1000)]
    levels = Levels(visits, UP)
    near, far = levels.gain(899, 898), levels.gain(150, 898)
    assert near is not None
    assert far is not None
    one, two = (np.log([s for v in visits if v.setting == setting for s in v.scores]).mean() for setting in (150, 898))
    assert far.fraction == pytest.approx(math.expm1(one - two))
    assert far.margin > near.margin
