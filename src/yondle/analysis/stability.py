"""The chance to hold: a posterior over where a knob's edge lies, from everything held and failed so far.

Model (named wherever it is used: exponential hazard): failures per second at setting x are
floor + exp((x - e)/w)/3600, with e the edge (one failure an hour), w how fast it gets worse; beyond h above the edge a
setting fails at once. The posterior is taken on a grid of e, w and h; it is *estimated under the model*, no more.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.model.knobs import Knob, Risk

FLOOR_PER_S = 1.0 / (48 * 3600.0)
FIRST_SECOND_S = 1.0
_WIDTHS_NOTCHES = np.geomspace(0.12, 2.4, 9)
_INSTANT_NOTCHES = np.array([3.0, 6.0, 12.0])
_EDGES_A_NOTCH = 2
_MOST_EDGES = 400
_CLIP = 40.0

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Exposure:
    """What one attempt says about a setting: seconds it was loaded, and whether it failed at their end."""

    value: float
    seconds: float
    failed: bool


class HoldModel:
    """Posterior over the edge of one knob for one load; answers the chance to survive a run at any value."""

    def __init__(self, knob: Knob, seen: list[Exposure]) -> None:
        if knob.risk is Risk.NONE:
            raise ValueError("a knob without a risky direction has no edge")
        self._knob = knob
        self._sign = 1.0 if knob.risk is Risk.UP else -1.0
        notches = knob.notches
        count = min(_EDGES_A_NOTCH * (notches + 9) + 1, _MOST_EDGES)
        edges = np.linspace(-4.0, notches + 5.0, count)
        e, w, h = np.meshgrid(edges, _WIDTHS_NOTCHES, _INSTANT_NOTCHES, indexing="ij")
        self._e, self._w, self._h = e.ravel(), w.ravel(), h.ravel()
        log_weight = np.zeros_like(self._e)
        for value, seconds, failures in _gathered(seen):
            log_weight += self._log_likelihood(self._notch(value), seconds, failures)
        weight = np.exp(log_weight - log_weight.max())
        self._weight = weight / weight.sum()

    def chance(self, values: list[float], seconds: float) -> list[float]:
        """Give the chance to survive `seconds` of load at each value."""
        chances = []
        for value in values:
            notch = self._notch(value)
            survived = np.exp(-self._hazard(notch) * seconds)
            survived[notch > self._e + self._h] = 0.0
            chances.append(float(np.dot(self._weight, survived)))
        return chances

    def _notch(self, value: float) -> float:
        knob = self._knob
        exact = (value - knob.low) / knob.step
        return exact if self._sign > 0 else knob.notches - exact

    def _hazard(self, notch: float) -> Array:
        hazard: Array = FLOOR_PER_S + np.exp(np.clip((notch - self._e) / self._w, -_CLIP, _CLIP)) / 3600.0
        return hazard

    def _log_likelihood(self, notch: float, seconds: float, failures: list[float]) -> Array:
        hazard = self._hazard(notch)
        instant = notch > self._e + self._h
        total = -hazard * seconds
        total[instant & (seconds > 0.0)] = -_CLIP
        for time in failures:
            early = time <= FIRST_SECOND_S
            one = np.log(-np.expm1(-hazard * FIRST_SECOND_S)) if early else np.log(hazard) - hazard * time
            one[instant] = 0.0 if early else -_CLIP
            total += one
        return total


def _gathered(seen: list[Exposure]) -> list[tuple[float, float, list[float]]]:
    """Sum up exposures by value, so that a long history costs as much as a short one with the same values."""
    held: dict[float, float] = {}
    failures: dict[float, list[float]] = {}
    for item in seen:
        held.setdefault(item.value, 0.0)
        if item.failed:
            failures.setdefault(item.value, []).append(item.seconds)
        else:
            held[item.value] += item.seconds
    return [(value, seconds, failures.get(value, [])) for value, seconds in held.items()]
