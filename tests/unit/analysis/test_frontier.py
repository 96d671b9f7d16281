"""One law of an edge over all settings, and slopes with beliefs: held against the same worked out another way."""

from __future__ import annotations

import math
from random import Random

import numpy as np
import pytest
from scipy import optimize

from yondle.analysis.answers import Answer
from yondle.analysis.frontier import Beforehand, Exposure, Frontier
from yondle.analysis.regression import Array

BEFORE = Beforehand(30.0, 8.0, np.array([10.0, 0.0]), np.array([6.0, 3.0]), math.log(0.8), 0.6)


def runs(chance: Random, many: int, edge: float = 34.0, shift: float = 14.0, width: float = 0.7) -> list[Exposure]:
    """Load a machine whose edge moves with the first of two other settings, and not with the second."""
    made = []
    for _ in range(many):
        others = np.array([chance.uniform(-0.2, 1.0), chance.uniform(-1.0, 1.0)])
        at = edge + shift * others[0]
        notch = round(at + chance.uniform(-6.0, 3.0))
        rate = math.exp((notch - at) / width) / 3600.0
        lasts, asked = chance.expovariate(rate), chance.choice((30.0, 120.0, 600.0))
        made.append(Exposure(notch, others, 0, min(lasts, asked), int(lasts < asked)))
    return made


def test_edge_and_shift_are_found_within_what_is_told() -> None:
    inside: list[bool] = []
    for seed in range(40):
        found = Frontier(BEFORE, 1, runs(Random(seed), 30))
        edge, spread = found.edge(np.zeros(2), 0)
        shift, unsure = found.shift(np.array([1.0, 0.0]))
        inside += [bool(abs(edge - 34.0) <= 1.96 * spread), abs(shift - 14.0) <= 1.96 * unsure]
        assert abs(edge - 34.0) < 3.0
    assert sum(inside) >= 0.85 * len(inside)


def test_without_runs_it_believes_what_it_did_and_more_of_them_make_it_surer() -> None:
    empty, few, many = (Frontier(BEFORE, 1, runs(Random(3), n)) for n in (0, 8, 60))
    assert empty.edge(np.array([1.0, 0.0]), 0)[0] == pytest.approx(40.0)
    spreads = [each.shift(np.array([1.0, 0.0]))[1] for each in (empty, few, many)]
    assert spreads == sorted(spreads, reverse=True)
    assert spreads[2] < 0.3 * spreads[0]


def test_it_stands_where_a_general_optimiser_ends() -> None:
    exposures = runs(Random(11), 25)
    found = Frontier(BEFORE, 1, exposures)

    def unlikely(at: Array) -> float:
        edge, shifts, own, log_width = at[0], at[1:3], at[3], at[4]
        total = 0.5 * ((edge - 30.0) / 8.0) ** 2 + 0.5 * float(np.sum(((shifts - [10.0, 0.0]) / [6.0, 3.0]) ** 2))
        total += 0.5 * (own / 1e-3) ** 2 + 0.5 * ((log_width - math.log(0.8)) / 0.6) ** 2
        for run in exposures:
            rate = math.exp((run.notch - edge - float(shifts @ run.others) - own) / math.exp(log_width)) / 3600.0
            if run.failures and run.seconds <= 1.0:
                total -= math.log(-math.expm1(-min(rate, 30.0)))
            else:
                total += rate * run.seconds - run.failures * math.log(rate)
        return total

    start = np.array([30.0, 10.0, 0.0, 0.0, math.log(0.8)])
    ended = optimize.minimize(
        unlikely, start, method="Nelder-Mead", options={"maxiter": 20000, "xatol": 1e-6, "fatol": 1e-9}
    )
    assert unlikely(found.middle) <= ended.fun + 1e-4
    assert found.middle[:3] == pytest.approx(ended.x[:3], abs=0.05)


def test_slopes_are_those_of_least_squares_with_beliefs_as_further_rows() -> None:
    chance = np.random.default_rng(5)
    rows, seen, variances = chance.normal(size=(12, 3)), chance.normal(size=12), chance.uniform(0.1, 2.0, 12)
    before, spread = np.array([0.5, 0.0, -1.0]), np.array([0.3, 1.0, 2.0])
    answer, at_once = Answer(before, spread), Answer(before, spread)
    for row, each, variance in zip(rows, seen, variances, strict=True):
        answer.learn(row, float(each), float(variance))
    at_once.learn_all(rows, seen, variances)
    stacked = np.concatenate([rows / np.sqrt(variances)[:, None], np.diag(1.0 / spread)])
    wanted, *_ = np.linalg.lstsq(stacked, np.concatenate([seen / np.sqrt(variances), before / spread]), rcond=None)
    covariance = np.linalg.inv(stacked.T @ stacked)
    for each in (answer, at_once):
        assert each.slopes == pytest.approx(wanted)
        assert each.spread(rows) == pytest.approx(np.sqrt(np.einsum("ij,jk,ik->i", rows, covariance, rows)))
