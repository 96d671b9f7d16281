"""Two ways a load fails: it goes down or computes wrongly, or errors are corrected. Each has edge and width; the sum decides.

Given the runs the two are independent of each other, since each adds its own factor to how likely the runs were; so each
has a posterior of its own (hold.py), and what follows from both is worked out on pairs of their points, drawn evenly
(a lattice by the golden ratio; Niederreiter, Random Number Generation and Quasi-Monte Carlo Methods, 1992, chapter 5).
Beforehand a machine that counts corrected errors corrects none here, or begins to somewhat below where it goes down.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.hold import GAINS_COOL, LARGEST_EXPONENT, Believed, Posterior, Scale, weighted_range
from yondle.analysis.regression import Array
from yondle.analysis.runs import Run
from yondle.analysis.soak import soaked_seconds
from yondle.analysis.stability import HOUR_S
from yondle.model.knobs import Knob

NONE_BEFOREHAND = 0.5
"""How probable it is that a machine that counts corrected errors corrects none under a load, before anything was run."""
LEAD_AFTER_NOTCHES = 0.5
"""Errors corrected only beyond where a machine goes down are taken to be rarer by e for every so many notches."""
CORRECTED_WIDER = 1.2
"""Errors that are corrected may grow by this much more slowly with the setting than what takes a machine down."""
_PAIRS = 4096
_GOLDEN = (math.sqrt(5.0) - 1.0) / 2.0
_NEVER = 1e6
"""The edge, in notches, of errors that never come."""


@dataclass(frozen=True, slots=True)
class BelievedHazards:
    """What is believed of where a load goes down, and of where errors are corrected; None where none ever were."""

    fatal: Believed
    corrected: Believed | None


class Hazards:
    """What is believed of a load's two hazards on a range of notches; `counts` tells a machine that counts corrected errors."""

    def __init__(self, notches: int, widths: Array, counts: bool) -> None:
        self.notches, self.counts, self.seen = notches, counts, False
        self.fatal, self.corrected = Posterior(notches, widths), Posterior(notches, widths * CORRECTED_WIDER)
        self._usual_lead = float(widths[-1])

    def __copy__(self) -> Hazards:
        other = object.__new__(Hazards)
        other.__dict__.update(self.__dict__, fatal=copy(self.fatal), corrected=copy(self.corrected))
        return other

    @property
    def tests(self) -> int:
        """How many runs were learned from."""
        return self.fatal.tests

    def take(self, notch: float, run: Run) -> None:
        """Learn from a run at a notch."""
        self.fatal.take(notch, run.seconds, run.failures - run.corrected, run.warmth)
        if run.corrected:
            self.counts = self.seen = True
        if run.corrected or not run.failures:
            self.corrected.take(notch, run.seconds, run.corrected, run.warmth)

    def middle(self) -> BelievedHazards:
        """Give where both edges and widths are by now believed to lie."""
        return BelievedHazards(self.fatal.middle(), self.corrected.middle() if self.seen else None)

    def expect(self, there: BelievedHazards) -> None:
        """Take it beforehand that edges and widths lie about here."""
        self.fatal.expect(there.fatal)
        if there.corrected is not None:
            self.counts = self.seen = True
            self.corrected.expect(there.corrected)

    def view(self) -> Posterior | Pairs:
        """Give what is believed of both together, as it is now."""
        if not self.counts:
            return self.fatal
        none = 0.0
        if not self.seen:
            odds = (1.0 - NONE_BEFOREHAND) / NONE_BEFOREHAND * math.exp(self.corrected.evidence)
            none = 1.0 / (1.0 + odds)
        return Pairs(self.fatal, self.corrected, none, self._usual_lead)


class Pairs:
    """Pairs of points of two posteriors, the points of a sum of hazards; read like a posterior, but nothing is learned.

    `none` is the probability that no errors are ever corrected, `usual_lead` how many notches before it goes down a machine
    usually begins to correct: half a Cauchy distribution with this scale.
    """

    def __init__(self, fatal: Posterior, corrected: Posterior, none: float, usual_lead: float) -> None:
        self.notches = fatal.notches
        strata = (np.arange(_PAIRS) + 0.5) / _PAIRS
        lattice = np.arange(1, _PAIRS + 1) * _GOLDEN % 1.0
        points = _drawn(fatal.weights, strata)
        others = _drawn(corrected.weights * (1.0 - none), lattice)
        never = lattice >= 1.0 - none
        self._edge, self._width = fatal.edge[points], fatal.width[points]
        self._floor, self._dead = fatal.floor_per_h[points], fatal.dead_beyond[points]
        self._cool, self._cool_corrected = fatal.cool[points], corrected.cool[others]
        self._corrected_edge = np.where(never, _NEVER, corrected.edge[others])
        self._corrected_width = corrected.width[others]
        span = corrected.span_notches
        usual = _lead_density(self._edge - self._corrected_edge, usual_lead) * span
        likely = np.where(never, 1.0, usual)
        self.weights = likely / likely.sum()
        self._highest = np.zeros(_PAIRS, dtype=np.int64)
        self._arranged_for: tuple[float, float] | None = None
        self._loaded: tuple[tuple[bytes, float], tuple[NDArray[np.float32], ...]] | None = None

    def arranged(self, per_hour: float, lower: float = 0.0) -> NDArray[np.int64]:
        """Arrange the pairs by the highest notch with no more failures an hour than this, and give it for each; -1 for none.

        Both edges are taken to lie `lower` notches below where the tests found them.
        """
        if self._arranged_for != (per_hour, lower):
            highest = np.floor(self._reaching(per_hour) - lower + 1e-9)
            highest = np.clip(highest, -1, self.notches).astype(np.int64)
            order = np.argsort(highest, kind="stable")
            self._arrange(order)
            self.weights, self._highest = self.weights[order], highest[order]
            self._arranged_for = per_hour, lower
        return self._highest

    def answers(self, per_hour: float, lower: float = 0.0) -> Array:
        """Give the probability of every highest acceptable notch, from -1 (there is none), shape (notches + 2,)."""
        counts = np.bincount(self.arranged(per_hour, lower) + 1, self.weights, self.notches + 2)
        return np.asarray(counts, dtype=np.float64)

    def survivals(
        self, notch: float, times_s: Array, warmth: float = 1.0
    ) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Give the chance of every pair to last so long without any failure, and to stay up, shape (times, pairs) each."""
        soaked, soaked_corrected, floor = self._load_of(times_s, warmth)
        down, corrected = (-part.astype(np.float32) for part in self._rates(notch))
        up = soaked * down
        up -= floor
        np.exp(up, out=up)
        up[:, notch > self._dead] = 0.0
        lasting = soaked_corrected * corrected
        np.exp(lasting, out=lasting)
        lasting *= up
        return lasting, up

    def _load_of(self, times_s: Array, warmth: float) -> tuple[NDArray[np.float32], ...]:
        """Give hours of soaked load for either kind, and the floor's failures, (times, pairs) each; kept for the next notch."""
        key = times_s.tobytes(), warmth
        if self._loaded is None or self._loaded[0] != key:
            hours = soaked_seconds(GAINS_COOL[:, None] * (1.0 - warmth), times_s).astype(np.float32).T / np.float32(
                HOUR_S
            )
            floor = np.outer(times_s, self._floor / HOUR_S).astype(np.float32)
            self._loaded = key, (hours[:, self._cool], hours[:, self._cool_corrected], floor)
        return self._loaded[1]

    def chance(self, notches: list[float], seconds: float) -> list[float]:
        """Give the chance to last `seconds` of load at each notch without any failure."""
        time = np.array([seconds])
        return [float(self.survivals(notch, time)[0][0] @ self.weights) for notch in notches]

    def edge_range(self, share: float = 0.95) -> tuple[float, float]:
        """Give the notches between which one failure an hour lies with this probability, the same share left out on a side."""
        return weighted_range(self._reaching(1.0), self.weights, share)

    def _arrange(self, order: NDArray[np.intp]) -> None:
        self._edge, self._width, self._cool = self._edge[order], self._width[order], self._cool[order]
        self._dead, self._floor = self._dead[order], self._floor[order]
        self._corrected_edge, self._corrected_width = self._corrected_edge[order], self._corrected_width[order]
        self._cool_corrected = self._cool_corrected[order]
        self._loaded = None

    def _rates(self, notch: float | Array) -> tuple[Array, Array]:
        """Failures an hour when soaked, of either kind, without the floor."""
        down = np.exp(np.minimum((notch - self._edge) / self._width, LARGEST_EXPONENT))
        beyond = (notch - self._corrected_edge) / self._corrected_width
        return down, np.exp(np.clip(beyond, -LARGEST_EXPONENT, LARGEST_EXPONENT))

    def _reaching(self, per_hour: float) -> Array:
        """Give the place, in notches, up to which a pair fails at most so often, by halving; far below where it always does."""
        spare = np.maximum(per_hour - self._floor, 1e-12)
        high = np.minimum(self._edge + self._width * np.log(spare), self._dead)
        high = np.minimum(high, self._corrected_edge + self._corrected_width * np.log(spare))
        low = high - math.log(2.0) * np.maximum(self._width, self._corrected_width)
        for _ in range(_HALVINGS):
            middle = (low + high) / 2.0
            fits = sum(self._rates(middle)) <= spare
            low, high = np.where(fits, middle, low), np.where(fits, high, middle)
        return np.asarray(low)


_HALVINGS = 10
"""The sum of two rates is reached between where the first of them reaches it alone and ln 2 widths below: 0.003 notches."""


def believed(knob: Knob, runs: Iterable[Run]) -> Posterior | Pairs:
    """Give what runs of any load say about a knob's edge."""
    scale = Scale(knob)
    hazards = Hazards(scale.notches, scale.widths(), counts=False)
    held: dict[float, list[Run]] = {}
    for run in runs:
        if run.failures:
            hazards.take(scale.notch(run.value), run)
        else:
            held.setdefault(run.value, []).append(run)
    for value, those in held.items():
        seconds, warmth = np.array([run.seconds for run in those]), np.array([run.warmth for run in those])
        for posterior in (hazards.fatal, hazards.corrected):
            posterior.held_often(scale.notch(value), seconds, warmth)
    return hazards.view()


def _drawn(weights: Array, at: NDArray[np.floating]) -> NDArray[np.intp]:
    reached = np.cumsum(weights)
    return np.minimum(np.searchsorted(reached, at), len(reached) - 1)


def _lead_density(lead: Array, usual: float) -> Array:
    """How probable a lead is, a notch: half a Cauchy distribution, and a quick end below 0."""
    falling = np.exp(np.minimum(lead, 0.0) / LEAD_AFTER_NOTCHES)
    return np.asarray(falling / (1.0 + (lead / usual) ** 2) / (usual * math.pi / 2.0 + LEAD_AFTER_NOTCHES))
