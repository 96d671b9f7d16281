"""Which test tells most for its price: the next setting and run length in a search for the edge, and when to stop.

The loss of recommending notch r when k is the highest that meets the standard is k - r where r is short of it and
(1/risk - 1)(r - k) where r is beyond, so that the best r is the highest that is too high with probability `risk` at most.
Of all tests the one is chosen whose expected fall of that loss per expected second is largest: a one-step look ahead
(value of information; Raiffa and Schlaifer, Applied Statistical Decision Theory, 1961).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from yondle.analysis.hazards import Pairs
from yondle.analysis.hold import Posterior
from yondle.analysis.regression import Array
from yondle.analysis.stability import HOUR_S

RISK = 0.08
"""A recommended setting may be too high with this probability, under a prior that is wide on purpose."""

RISK_OF_TWO = 0.05
"""The same on a machine that counts corrected errors: where they begin, and how slowly they grow, nobody knows beforehand."""

_BOUNDS_S = np.array([1.0, 4.0, 12.0, 30.0, 60.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0])
LENGTHS_S = (30.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0)
_LENGTH_AT = [int(np.searchsorted(_BOUNDS_S, length)) + 1 for length in LENGTHS_S]
_CASES = (0.1, 0.3, 0.5, 0.7, 0.9)
"""Probabilities at which the answers of other loads are taken to see what a test of this one is worth."""
_MOST_PLACES = 24
"""As many settings are weighed at a time; a wide range is looked at in strides first."""


class Style(StrEnum):
    """How much a crash may cost beyond the time it takes."""

    BOLD = "bold"
    EVEN = "even"
    CAREFUL = "careful"


LEAST_GAIN_PER_H = 0.6
"""A search ends when no test is expected to be worth so many notches an hour any more, of a knob of so many notches:"""
USUAL_NOTCHES = 60
WATCHED_LONGER = 0.8
"""Where errors are counted a search goes on down to this share of that: what is rare needs time to be seen."""

NEARLY_BEST = 0.95
"""Of tests at one setting the longest is taken that is nearly as good as the best: fewer tests to read afterwards."""

CRASH_PRICE_S = {Style.BOLD: 300.0, Style.EVEN: 1200.0, Style.CAREFUL: 5400.0}
"""What a crash counts for beyond the restart it takes, in seconds of the tuner's time."""


@dataclass(frozen=True, slots=True)
class Aim:
    """What is sought: a setting with at most so many failures an hour, too high with at most this probability.

    `lower` is how many notches the edges will lie below where they are now, once the room is as warm as it gets.
    """

    per_hour: float
    risk: float = RISK
    lower: float = 0.0


@dataclass(frozen=True, slots=True)
class Prices:
    """Seconds that a test takes besides its load: change and settle, starting again at the same value, and a failure."""

    change_s: float
    again_s: float
    failure_s: float


@dataclass(frozen=True, slots=True)
class NextTest:
    """A test worth running: which load, at which notch, for how long, and what it is expected to bring.

    `gain_per_hour` is in notches, `chance` that to hold; `if_held` and `if_failed` are what would be recommended then.
    """

    load: int
    notch: int
    seconds: float
    gain_per_hour: float
    chance: float
    if_held: int
    if_failed: int


Load = Posterior | Pairs
"""What is believed of a load."""


class Chooser:
    """Weighs tests for one aim; what is believed of several loads is told apart, and the worst of them decides.

    `warmth` is how warm the machine will be when the next test begins (soak.py).
    """

    def __init__(self, aim: Aim, prices: Prices, least: int, most: int, warmth: float = 1.0) -> None:
        self._aim = aim
        self._prices = prices
        self._least, self._most, self._warmth = least, most, warmth

    def recommended(self, loads: Sequence[Load]) -> int:
        """Give the highest notch that is too high for any load with at most the aim's probability."""
        return self._best(self._worst_of(loads))

    def chances_right(self, loads: Sequence[Load]) -> list[float]:
        """Give the probability that a notch meets the aim for every load, for every notch."""
        return [float(p) for p in _tail(self._worst_of(loads))[1:]]

    def next_test(self, loads: Sequence[Load], least_gain_per_hour: float, at: int | None = None) -> NextTest | None:
        """Give the best next test; None when none is worth its time. `at` is the notch in force."""
        spreads = [load.answers(self._aim.per_hour, self._aim.lower) for load in loads]
        best: NextTest | None = None
        for number, load in enumerate(loads):
            others = _together(spreads[:number] + spreads[number + 1 :], len(spreads[number]))
            floor = best.gain_per_hour if best is not None else least_gain_per_hour
            best = self._weigh(number, load, spreads[number], others, floor, at) or best
        return best

    def _weigh(
        self, number: int, load: Load, before: Array, others: Array, least: float, here: int | None
    ) -> NextTest | None:
        """Weigh every place with every length for one load; None when no test is expected to bring more than `least`."""
        places = self._places(before, here)
        lasting, up, spread = self._outcomes(load, places, before)
        lost_failing = self._least_loss(spread[:, :-1] - spread[:, 1:], others)
        lost_surviving = self._least_loss(spread[:, 1:], others)
        now = float(self._least_loss(before[None, :], others)[0])
        bounds = np.concatenate([[0.0], _BOUNDS_S])
        running = np.cumsum((up[:, 1:] + up[:, :-1]) / 2.0 * np.diff(bounds), axis=1)
        change = np.where(np.array(places) == here, self._prices.again_s, self._prices.change_s)
        rates = np.empty((len(places), len(_LENGTH_AT)))
        for column, at in enumerate(_LENGTH_AT):
            after = lost_failing[:, :at].sum(axis=1) + lost_surviving[:, at - 1]
            price = change + running[:, at - 1] + (1.0 - up[:, at]) * self._prices.failure_s
            rates[:, column] = (now - after) / price
        i, column = divmod(int(np.argmax(rates)), len(_LENGTH_AT))
        if rates[i, column] <= least / HOUR_S:
            return None
        column = max(c for c in range(len(_LENGTH_AT)) if rates[i, c] >= NEARLY_BEST * rates[i, column])
        at = _LENGTH_AT[column]
        ends = (spread[i, at], before - spread[i, at])
        held, failed = (self._best(_lesser(end, others)) for end in ends)
        gain = float(rates[i, column]) * HOUR_S
        return NextTest(number, places[i], float(bounds[at]), gain, float(lasting[i, at]), held, failed)

    def _outcomes(self, load: Load, places: list[int], before: Array) -> tuple[Array, Array, Array]:
        """Give the chance to last to every bound, that to stay up, (places, bounds), and the spread of the right answer.

        A run in which errors are corrected goes on to its end: only what takes the load down ends it, and costs.
        """
        answers, firsts = np.unique(load.arranged(self._aim.per_hour, self._aim.lower) + 1, return_index=True)
        weights = load.weights.astype(np.float32)
        survived = np.zeros((len(places), len(_BOUNDS_S) + 1, len(before)))
        survived[:, 0] = before
        up = np.ones((len(places), len(_BOUNDS_S) + 1))
        for i, place in enumerate(places):
            lasting, staying = load.survivals(place, _BOUNDS_S, self._warmth)
            survived[i, 1:, answers] = np.add.reduceat(lasting * weights, firsts, axis=1).T
            up[i, 1:] = staying @ weights
        return survived.sum(axis=2), up, survived

    def _places(self, before: Array, here: int | None) -> list[int]:
        """Give the notches worth looking at: from a little below what is sure to a little above what is possible."""
        reached = np.cumsum(before)
        low = min(max(int(np.searchsorted(reached, 0.002)) - 1, self._least), self._most)
        high = max(min(int(np.searchsorted(reached, 0.998)) + 5, self._most), self._least)
        stride = max(1, -(-(high - low + 1) // _MOST_PLACES))
        places = set(range(high, low - 1, -stride))
        return sorted(places | {here} if here is not None and low <= here <= high else places)

    def _worst_of(self, loads: Sequence[Load]) -> Array:
        spreads = [load.answers(self._aim.per_hour, self._aim.lower) for load in loads]
        return _lesser(spreads[0], _together(spreads[1:], len(spreads[0])))

    def _losses(self, size: int) -> Array:
        """Loss of recommending r (columns, from the least to the most) where k (rows, from -1) is right."""
        right = np.arange(-1, size - 1)[:, None]
        said = np.arange(self._least, self._most + 1)[None, :]
        beyond = (1.0 / self._aim.risk - 1.0) * np.maximum(said - right, 0.0)
        return np.asarray(np.maximum(right - said, 0.0) + beyond)

    def _least_loss(self, spread: Array, others: Array) -> Array:
        """Give the loss of the best recommendation, on average over what the other loads may turn out to allow.

        Were they taken as they are now, no test of one load would be worth anything while another is unknown.
        """
        losses = self._losses(spread.shape[-1])
        cases = [(_lesser(spread, case) @ losses).min(axis=-1) for case in _known(others)]
        return np.asarray(sum(cases) / len(cases))

    def _best(self, spread: Array) -> int:
        return self._least + int(np.argmin(spread @ self._losses(len(spread))))


def _tail(spread: Array) -> Array:
    """Give the probability of every answer or a higher one, along the last axis."""
    return np.asarray(np.flip(np.cumsum(np.flip(spread, axis=-1), axis=-1), axis=-1))


def _together(spreads: list[Array], size: int) -> Array:
    """Give the probability that all of some answers are as high as every answer, or higher."""
    together = np.ones(size)
    for spread in spreads:
        together = together * _tail(spread)
    return together


def _known(tail: Array) -> list[Array]:
    """Give tails of answers as they would be if known, at evenly spread probabilities; the tail itself where all are sure."""
    if tail[-1] >= 1.0:
        return [tail]
    answers = [int(np.sum(tail > share)) for share in _CASES]
    return [(np.arange(len(tail)) < answer).astype(np.float64) for answer in answers]


def _lesser(spread: Array, others: Array) -> Array:
    """Give the spread of the lower of two answers, the other told by its tail."""
    together = _tail(spread) * others
    return np.asarray(together - np.pad(together, [(0, 0)] * (together.ndim - 1) + [(0, 1)])[..., 1:])
