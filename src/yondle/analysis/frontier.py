"""Where an edge lies as the other settings change: one law for all of them, from every run there is.

At n notches of a knob, with other settings that shift the edge by a·z, a load fails at a rate of exp((n - e - a·z - d)/w) an
hour: e is the edge where nothing else is changed, d what is the load's own, w how fast it gets worse. All of e, a, d and
log w are normal beforehand; what the runs leave is taken as normal about where it is likeliest (Laplace's method; MacKay,
Information Theory, Inference, and Learning Algorithms, 2003, chapter 27). It is for expecting an edge where none was looked
for; what is recommended rests on runs at its own settings (hazards.py).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from yondle.analysis.hold import FIRST_SECOND_S, Believed
from yondle.analysis.regression import Array
from yondle.analysis.stability import HOUR_S

LOADS_DIFFER_NOTCHES = 2.0
"""How far apart two loads' edges are beforehand (one standard deviation)."""
_MOST_STEPS, _ENOUGH, _LARGEST = 60, 1e-6, 30.0
_LEAST_DAMPING, _MOST_DAMPING = 1e-8, 1e8


@dataclass(frozen=True, slots=True)
class Exposure:
    """One run: the notch of the knob, what else was set, which load, seconds, and how often it failed in them."""

    notch: float
    others: Array
    load: int
    seconds: float
    failures: int


@dataclass(frozen=True, slots=True)
class Beforehand:
    """What is believed before any run: of the edge, of what each other feature shifts it by, and of the width's logarithm."""

    edge: float
    edge_spread: float
    shifts: Array
    shift_spreads: Array
    log_width: float
    log_width_spread: float


class Frontier:
    """What runs say of an edge over other settings; made anew from all runs, which takes a few milliseconds."""

    def __init__(self, before: Beforehand, loads: int, runs: Sequence[Exposure], near: Frontier | None = None) -> None:
        """Fit all runs; `near` is one that was fitted to nearly as many, from where it is quickly done."""
        many = len(before.shifts)
        self._many, self._loads = many, loads
        self._mean = np.concatenate([[before.edge], before.shifts, np.zeros(loads), [before.log_width]])
        spread = np.concatenate(
            [
                [before.edge_spread],
                before.shift_spreads,
                np.full(loads, LOADS_DIFFER_NOTCHES if loads > 1 else 1e-3),
                [before.log_width_spread],
            ]
        )
        self._precision = 1.0 / np.maximum(spread, 1e-4) ** 2
        self.middle = self._mean.copy()
        self.covariance = np.diag(1.0 / self._precision)
        if runs:
            if near is not None and near.middle.shape == self.middle.shape:
                self.middle = near.middle.copy()
            self._fit(_together(runs))

    def edge(self, others: Array, load: int) -> tuple[Array, Array]:
        """Give the middle and the spread of the edge, in notches, for features of shape (..., others)."""
        features = self._features(others, load)
        middle = features @ self.middle[:-1]
        variance = ((features @ self.covariance[:-1, :-1]) * features).sum(axis=-1)
        return np.asarray(middle), np.asarray(np.sqrt(np.maximum(variance, 0.0)))

    def shifts(self, others: Array) -> Array:
        """Give by how many notches other features, shape (..., others), move the edge, in the middle of what is believed."""
        return np.asarray(others @ self.middle[1 : 1 + self._many])

    def at_stock(self, load: int | None) -> float:
        """Give the edge with no other feature, in notches, of one load, or of the worst of all."""
        own = self.middle[1 + self._many : -1]
        return float(self.middle[0] + (own.min() if load is None else own[load]))

    def shift(self, by: Array) -> tuple[float, float]:
        """Give by how many notches a change of other features moves the edge, and how sure that is."""
        shifts, covariance = self.middle[1 : 1 + self._many], self.covariance[1 : 1 + self._many, 1 : 1 + self._many]
        return float(by @ shifts), math.sqrt(max(float(by @ covariance @ by), 0.0))

    def believed(self, others: Array, load: int, least_spread: float = 0.0) -> Believed:
        """Give what is expected of the edge at other settings, as a search begins with it."""
        middle, spread = self.edge(others, load)
        width = math.sqrt(max(float(self.covariance[-1, -1]), 0.0))
        return Believed(float(middle), math.hypot(float(spread), least_spread), float(self.middle[-1]), width)

    @property
    def width(self) -> float:
        """How many notches it takes to fail e times as often."""
        return math.exp(float(self.middle[-1]))

    def _features(self, others: Array, load: int) -> Array:
        shape = others.shape[:-1]
        own = np.zeros((*shape, self._loads))
        own[..., load] = 1.0
        return np.concatenate([np.ones((*shape, 1)), others, own], axis=-1)

    def _fit(self, runs: Sequence[Exposure]) -> None:
        """Climb to the likeliest parameters with damped Newton steps (Levenberg), and take the curvature there.

        What no run differed in keeps what was believed of it: it hangs together with nothing.
        """
        features = self._features(np.array([run.others for run in runs]), 0)
        loads = np.array([run.load for run in runs])
        features[:, -self._loads :] = loads[:, None] == np.arange(self._loads)
        used = np.append(np.any(features != 0.0, axis=0), True)
        whole_mean, whole_precision = self._mean, self._precision
        self._mean, self._precision = whole_mean[used], whole_precision[used]
        middle, covariance = self._climb(self.middle[used], features[:, used[:-1]], runs)
        self._mean, self._precision = whole_mean, whole_precision
        self.middle = whole_mean.copy()
        self.middle[used] = middle
        self.covariance[np.ix_(used, used)] = covariance

    def _climb(self, start: Array, features: Array, runs: Sequence[Exposure]) -> tuple[Array, Array]:
        notches, seconds = np.array([r.notch for r in runs]), np.array([max(r.seconds, 1e-3) for r in runs])
        failures = np.array([float(r.failures) for r in runs])
        at, damping = start, 1e-3
        value, slope, curve = self._likely(at, features, notches, seconds, failures)
        for _ in range(_MOST_STEPS):
            step = np.linalg.solve(curve + damping * np.diag(np.diag(curve)), slope)
            step[-1] = min(max(step[-1], -0.5), 0.5)
            ahead = self._likely(at + step, features, notches, seconds, failures)
            if ahead[0] >= value - 1e-12:
                gained, at = ahead[0] - value, at + step
                value, slope, curve = ahead
                damping = max(damping / 4.0, _LEAST_DAMPING)
                if gained < _ENOUGH:
                    break
            else:
                damping *= 6.0
                if damping > _MOST_DAMPING:
                    break
        return at, np.asarray(np.linalg.inv(curve))

    def _likely(
        self, at: Array, features: Array, notches: Array, seconds: Array, failures: Array
    ) -> tuple[float, Array, Array]:
        """Give the logarithm of how likely it is, its slope, and a curvature that is never negative (Fisher's information)."""
        width = math.exp(float(at[-1]))
        beyond = np.clip((notches - features @ at[:-1]) / width, -_LARGEST, _LARGEST)
        rate = np.exp(beyond) / HOUR_S
        expected = rate * seconds
        early = (failures > 0) & (seconds <= FIRST_SECOND_S)
        lasting = np.where(early, rate * FIRST_SECOND_S, expected)
        # Failing in the first second is one kind of event; else a Poisson number of failures at this rate.
        gone = -np.expm1(-np.minimum(lasting, _LARGEST))
        likely = np.where(
            early, np.log(np.maximum(gone, 1e-300)), failures * np.log(np.maximum(rate, 1e-300)) - expected
        )
        by_rate = np.where(
            early, lasting * np.exp(-np.minimum(lasting, _LARGEST)) / np.maximum(gone, 1e-300), failures - expected
        )
        informed = np.where(early, by_rate**2 + 1e-9, np.maximum(expected, 1e-12))
        grown = np.concatenate([-features / width, -beyond[:, None]], axis=1)
        off = at - self._mean
        value = float(likely.sum()) - 0.5 * float(self._precision @ off**2)
        slope = grown.T @ by_rate - self._precision * off
        curve = (grown * informed[:, None]).T @ grown + np.diag(self._precision)
        return value, np.asarray(slope), np.asarray(curve)


def _together(runs: Sequence[Exposure]) -> list[Exposure]:
    """Join runs that held at one place: their seconds add up."""
    held: dict[tuple[float, int, bytes], Exposure] = {}
    failed = []
    for run in runs:
        if run.failures:
            failed.append(run)
            continue
        key = run.notch, run.load, run.others.tobytes()
        before = held.get(key)
        held[key] = run if before is None else replace(before, seconds=before.seconds + run.seconds)
    return [*held.values(), *failed]
