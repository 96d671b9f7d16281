"""How long a setting holds: the posterior over where a knob's edge lies, from everything that held and failed so far.

Model (named wherever it is used: *exponential hazard*): at x notches towards the risky end a machine soaked with heat fails
at a rate of floor + exp((x - e)/w) an hour, with e the edge (one failure an hour) and w how fast it gets worse; a cool one
fails exp(lag) times more rarely until it is warm (soak.py); more than h beyond the edge a setting fails at once. The
posterior is taken on a grid of e, w, h, floor and lag; what follows from it is *estimated under the model*, no more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.regression import Array
from yondle.analysis.soak import soaked_seconds, warmed
from yondle.analysis.stability import HOUR_S
from yondle.language.saying import say
from yondle.model.knobs import Knob, Risk

FIRST_SECOND_S = 1.0
"""Failures in the first second are one kind: how early in it is chance or start-up."""

MOST_NOTCHES = 500
_EDGES_A_NOTCH = 4
_MOST_EDGES = 600
_BELOW, _ABOVE = 6, 6
"""How far outside the knob's range the edge may lie, in notches: everything fails, or nothing does."""
_WIDTHS = 10
_NARROWEST_NOTCHES, _WIDEST_NOTCHES, _WIDEST_SHARE = 0.12, 2.4, 0.0135
_USUAL_WIDTH_SHARE, _WIDTH_SPREAD = 0.33, 0.8
"""The prior of the width is normal on logs, about this share of the widest, with this standard deviation."""
_INSTANT_NOTCHES = (2.0, 5.0, 11.0)
FLOORS_PER_H = ((0.002, 1.0),)
"""Failures an hour that have nothing to do with the knob, each with the probability it has beforehand.

A second, higher floor as a hypothesis of its own changed nothing that shows (docs/numbers.md).
"""
GAINS_COOL = np.array([0.0, 3.0])
"""How much rarer a cool machine may fail than one soaked with heat, as a logarithm; each as probable beforehand."""
_LEAST_LOG = 20.0
"""Grid points less likely than the likeliest by this on logs are no longer looked at."""
LARGEST_EXPONENT = 40.0
_IMPOSSIBLE = -2.0 * _LEAST_LOG
"""What speaks against a grid point that a run rules out: finite, so that a record that contradicts itself leaves something."""


@dataclass(frozen=True, slots=True)
class Scale:
    """A knob's values as notches towards its risky end, 0 the safest, and the widths that are possible there.

    A knob of very many values is taken in strides of several of them: `notches` is never above MOST_NOTCHES.
    """

    knob: Knob

    def __post_init__(self) -> None:
        if self.knob.risk is Risk.NONE:
            raise ValueError(say("a knob without a risky direction has no edge"))

    @property
    def stride(self) -> int:
        """How many of the knob's steps a notch is."""
        return max(1, math.ceil(self.knob.notches / MOST_NOTCHES))

    @property
    def notches(self) -> int:
        """The notch of the riskiest value."""
        return self.knob.notches // self.stride

    def notch(self, value: float) -> float:
        """Give the place of a value, which need not be one the knob takes."""
        exact = (value - self.knob.low) / self.knob.step
        return (exact if self.knob.risk is Risk.UP else self.knob.notches - exact) / self.stride

    def value(self, notch: int) -> float:
        """Give the value at a notch counted from the safest end."""
        steps = notch * self.stride
        return self.knob.at(steps if self.knob.risk is Risk.UP else self.knob.notches - steps)

    def place(self, notch: float) -> float:
        """Give where a place between notches lies among the values, not outside the knob's range."""
        knob, off = self.knob, notch * self.stride * self.knob.step
        return min(max(knob.low + off if knob.risk is Risk.UP else knob.high - off, knob.low), knob.high)

    def widths(self) -> Array:
        """Give widths in notches, evenly spaced on logs: wide on purpose, a prior too narrow here ruins the answer."""
        size = max(abs(self.knob.stock), abs(self.knob.high))
        widest = max(_WIDEST_NOTCHES, _WIDEST_SHARE * size / (self.knob.step * self.stride))
        return np.geomspace(_NARROWEST_NOTCHES, widest, _WIDTHS)


@dataclass(frozen=True, slots=True)
class Believed:
    """The middle and the standard deviation of what is believed of an edge, and of the logarithm of its width, in notches."""

    edge: float
    edge_spread: float
    log_width: float
    log_width_spread: float


class Posterior:
    """What is believed of the edge on a range of notches; `held` and `failed` add what a run said."""

    def __init__(
        self, notches: int, widths: Array, floors_per_h: tuple[tuple[float, float], ...] = FLOORS_PER_H
    ) -> None:
        self.notches = notches
        grid = _grid(notches, tuple(map(float, widths)), floors_per_h)
        self.edge, self.width, self.cool = grid.edge, grid.width, grid.cool
        self.dead_beyond, self.floor_per_h = grid.dead_beyond, grid.floor_per_h
        self._highest = np.zeros(self.edge.shape, dtype=np.int64)
        self._arranged_for: tuple[float, float] | None = None
        self._log_weight = grid.log_weight
        self.tests = 0
        self._log_total, self.before = grid.log_total, grid.middle

    def take(self, notch: float, seconds: float, failures: int, warmth: float = 1.0) -> None:
        """Learn from a run that held for so long, or failed so often in that time, begun at this warmth."""
        self.tests += 1
        for _ in range(failures):
            self.failed(notch, seconds / failures, warmth)
        if not failures:
            self.held(notch, seconds, warmth)

    def held(self, notch: float, seconds: float, warmth: float = 1.0) -> None:
        """Learn that a setting held for so long."""
        self.held_often(notch, np.array([seconds]), np.array([warmth]))

    def held_often(self, notch: float, seconds: Array, warmth: Array) -> None:
        """Learn that a setting held in several runs, shape (runs,) each."""
        if seconds.sum() > 0.0:
            soaked = soaked_seconds(GAINS_COOL[:, None] * (1.0 - warmth), seconds).sum(axis=1)
            change = -(self._rate(notch) * soaked[self.cool] + self.floor_per_h / HOUR_S * seconds.sum())
            change[notch > self.dead_beyond] = _IMPOSSIBLE
            self._learn(change)

    def failed(self, notch: float, seconds: float, warmth: float = 1.0) -> None:
        """Learn that a setting failed after so long."""
        early = seconds <= FIRST_SECOND_S
        lasted = max(seconds, FIRST_SECOND_S)
        soaked = soaked_seconds(GAINS_COOL * (1.0 - warmth), np.array(lasted))[self.cool]
        rate, floor = self._rate(notch), self.floor_per_h / HOUR_S
        lived = rate * soaked + floor * lasted
        lag = GAINS_COOL[self.cool] * (1.0 - warmed(warmth, seconds))
        change = np.log(-np.expm1(-lived)) if early else np.log(floor + rate * np.exp(-lag)) - lived
        change[notch > self.dead_beyond] = 0.0 if early else _IMPOSSIBLE
        self._learn(change)

    def expect(self, there: Believed) -> None:
        """Take it beforehand that edge and width lie about here.

        The edge by Student's t with 4 degrees, so that a surprise stays possible; the logarithm of the width is normal.
        """
        off = (self.edge - there.edge) / there.edge_spread
        wide = (np.log(self.width) - there.log_width) / there.log_width_spread
        self._learn(-2.5 * np.log1p(off**2 / 4.0) - 0.5 * wide**2)

    def middle(self) -> Believed:
        """Give where the edge and the width are by now believed to lie."""
        return _middle(self.edge, self.width, self.weights)

    @property
    def weights(self) -> Array:
        """The probability of every grid point that is still possible, shape (points,)."""
        return _weights(self._log_weight)

    @property
    def span_notches(self) -> float:
        """The range over which the edge may lie, in notches."""
        return float(self.notches + _BELOW + _ABOVE)

    @property
    def evidence(self) -> float:
        """How likely what was learned is under all that was believed beforehand together, as a logarithm."""
        return _log_total(self._log_weight) - self._log_total

    def survivals(
        self, notch: float, times_s: Array, warmth: float = 1.0
    ) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Give `survival` twice: without any failure, and staying up, which is one and the same here."""
        lasting = self.survival(notch, times_s, warmth)
        return lasting, lasting

    def survival(self, notch: float, times_s: Array, warmth: float = 1.0) -> NDArray[np.float32]:
        """Give the chance of every grid point to last so long at a notch, shape (times, points), in single precision."""
        soaked = soaked_seconds(GAINS_COOL[:, None] * (1.0 - warmth), times_s).astype(np.float32)
        rate, floor = self._rate(notch).astype(np.float32), (self.floor_per_h / HOUR_S).astype(np.float32)
        lived = soaked.T[:, self.cool] * rate
        lived += np.outer(times_s.astype(np.float32), floor)
        lasting: NDArray[np.float32] = np.exp(-lived)
        lasting[:, notch > self.dead_beyond] = 0.0
        return lasting

    def chance(self, notches: list[float], seconds: float) -> list[float]:
        """Give the chance to last `seconds` of load at each notch."""
        weights, time = self.weights, np.array([seconds])
        return [float(self.survival(notch, time)[0] @ weights) for notch in notches]

    def arranged(self, per_hour: float, lower: float = 0.0) -> NDArray[np.int64]:
        """Arrange the grid points by the highest notch with no more failures an hour than this, and give it for each.

        -1 where even the safest fails more often. The edge is taken to lie `lower` notches below where the tests found it.
        """
        if self._arranged_for != (per_hour, lower):
            highest = self._highest_acceptable(per_hour, lower)
            order = np.argsort(highest, kind="stable")
            self._highest, self._arranged_for = highest, (per_hour, lower)
            self._keep(order)
        return self._highest

    def _highest_acceptable(self, per_hour: float, lower: float) -> NDArray[np.int64]:
        spare = np.maximum(per_hour - self.floor_per_h, 1e-12)
        notch = self.edge + np.minimum(self.width * np.log(spare), self.dead_beyond - self.edge) - lower
        return np.asarray(np.clip(np.floor(notch + 1e-9), -1, self.notches), dtype=np.int64)

    def answers(self, per_hour: float, lower: float = 0.0) -> Array:
        """Give the probability of every highest acceptable notch, from -1 (there is none), shape (notches + 2,)."""
        counts = np.bincount(self.arranged(per_hour, lower) + 1, self.weights, self.notches + 2)
        return np.asarray(counts, dtype=np.float64)

    def edge_range(self, share: float = 0.95) -> tuple[float, float]:
        """Give the notches between which the edge lies with this probability, the same share left out on either side."""
        return weighted_range(self.edge, self.weights, share)

    def _rate(self, notch: float) -> Array:
        """Failures per second at a notch when soaked, for every grid point, without the floor."""
        beyond = np.minimum((notch - self.edge) / self.width, LARGEST_EXPONENT)
        return np.asarray(np.exp(beyond) / HOUR_S)

    def _learn(self, change: Array) -> None:
        after = self._log_weight + change
        self._log_weight = after
        self._keep(after > after.max() - _LEAST_LOG)

    def _keep(self, which: NDArray[np.bool_] | NDArray[np.intp]) -> None:
        """Keep some grid points, or all in another order."""
        self._log_weight = self._log_weight[which]
        self.edge, self.width = self.edge[which], self.width[which]
        self.dead_beyond, self.floor_per_h = self.dead_beyond[which], self.floor_per_h[which]
        self._highest, self.cool = self._highest[which], self.cool[which]


@dataclass(frozen=True, slots=True, eq=False)
class _Grid:
    """The points a posterior begins with, and what is believed there beforehand; posteriors share it, none changes it."""

    edge: Array
    width: Array
    cool: NDArray[np.int8]
    dead_beyond: Array
    floor_per_h: Array
    log_weight: Array
    log_total: float
    middle: Believed


@lru_cache(maxsize=8)
def _grid(notches: int, widths: tuple[float, ...], floors_per_h: tuple[tuple[float, float], ...]) -> _Grid:
    span = notches + _BELOW + _ABOVE
    edges = np.linspace(-_BELOW, notches + _ABOVE, min(_EDGES_A_NOTCH * span + 1, _MOST_EDGES))
    floors, shares = zip(*floors_per_h, strict=True)
    axes = edges, np.array(widths), np.array(_INSTANT_NOTCHES), np.array(floors), np.arange(len(GAINS_COOL))
    grid = np.meshgrid(*axes, indexing="ij")
    edge, width, instant, floor, cool = (axis.ravel() for axis in grid)
    taper = -0.5 * (np.log(width / (_USUAL_WIDTH_SHARE * widths[-1])) / _WIDTH_SPREAD) ** 2
    log_weight = np.log(np.broadcast_to(np.array(shares)[:, None], grid[0].shape)).ravel() + taper
    dead_beyond = edge + width * GAINS_COOL[cool] + instant
    middle = _middle(edge, width, _weights(log_weight))
    made = _Grid(edge, width, cool.astype(np.int8), dead_beyond, floor, log_weight, _log_total(log_weight), middle)
    for shared in (made.edge, made.width, made.cool, made.dead_beyond, made.floor_per_h, made.log_weight):
        shared.flags.writeable = False
    return made


def _middle(edges: Array, widths: Array, weights: Array) -> Believed:
    log_widths = np.log(widths)
    edge, width = float(edges @ weights), float(log_widths @ weights)
    spreads = (np.sqrt(((of - at) ** 2) @ weights) for of, at in ((edges, edge), (log_widths, width)))
    edge_spread, width_spread = (float(s) for s in spreads)
    return Believed(edge, edge_spread, width, width_spread)


def _weights(log_weights: Array) -> Array:
    weight = np.exp(log_weights - log_weights.max())
    return np.asarray(weight / weight.sum())


def _log_total(log_weights: Array) -> float:
    highest = float(log_weights.max())
    return highest + math.log(float(np.exp(log_weights - highest).sum()))


def weighted_range(places: Array, weights: Array, share: float) -> tuple[float, float]:
    """Give the places between which this share of the weight lies, the same left out on either side; weights sum to 1."""
    order = np.argsort(places, kind="stable")
    reached = np.cumsum(weights[order])
    ends = np.searchsorted(reached, [(1.0 - share) / 2.0, (1.0 + share) / 2.0])
    low, high = places[order][np.minimum(ends, len(order) - 1)]
    return float(low), float(high)
