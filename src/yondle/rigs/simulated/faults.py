"""Where the simulated core's edge lies, and how failures come: as hazards, drawn once per run, kind by kind.

f_edge(V, T) = f0 + a(V-V0) - b(V-V0)² - c(T-T0) - s(load) is the clock at which failures come once an hour; the hazard is
(1/3600)·exp((f - f_edge)/w) per second plus a small floor. Below the vertex of the parabola more voltage helps; past it
the edge is held flat, so more voltage never lowers it. Errors that the machine corrects come by the same law from an edge
a little lower; each costs a moment, so scores sag before anything crashes.
"""

from __future__ import annotations

import math
from random import Random
from typing import NamedTuple

from yondle.model.verdicts import Failure
from yondle.rigs.simulated.memory import Short
from yondle.rigs.simulated.parts import EdgePart, LoadPart

_LARGEST_EXPONENT = 30.0
REPLAY_S = 0.05
"""What one corrected error costs: the work since the last good state is done again."""
MOST_LOST = 0.3


class HiddenEdge:
    """The hazard of a load at a clock, voltage and temperature."""

    def __init__(self, part: EdgePart) -> None:
        self._part = part
        self._knee_v = part.mhz_per_v / (2.0 * part.mhz_per_v2) if part.mhz_per_v2 else math.inf
        self._floor_per_s = part.floor_per_h / 3600.0

    def clock_mhz(self, voltage_v: float, die_c: float, load: LoadPart, lowered_mhz: float = 0.0) -> float:
        """Give the clock in MHz at which this load fails once an hour."""
        part = self._part
        over = min(voltage_v - part.at_v, self._knee_v)
        lifted = part.mhz_per_v * over - part.mhz_per_v2 * over * over
        return part.clock_mhz + lifted - part.mhz_per_k * (die_c - part.at_c) - load.edge_lowered_mhz - lowered_mhz

    def hazard_per_s(self, clock_mhz: float, edge_mhz: float) -> float:
        """Give the failures per second at a clock whose edge is known."""
        beyond = min((clock_mhz - edge_mhz) / self._part.width_mhz, _LARGEST_EXPONENT)
        return math.exp(beyond) / 3600.0 + self._floor_per_s

    def corrected_per_s(self, clock_mhz: float, edge_mhz: float) -> float:
        """Give the corrected errors per second; 0 on a machine that corrects none."""
        lead = self._part.corrected_lead_mhz
        if lead is None:
            return 0.0
        width = self._part.corrected_width_mhz or self._part.width_mhz
        return math.exp(min((clock_mhz - edge_mhz + lead) / width, _LARGEST_EXPONENT)) / 3600.0

    def lowered_by_regulator_mhz(self, mean_power_w: float) -> float:
        """Give how far a voltage regulator that has soaked up this power for long lowers the edge."""
        return self._part.regulator_mhz_per_w * mean_power_w

    def starts(self, clock_mhz: float, edge_mhz: float) -> bool:
        """Tell whether the machine gets going at all this far beyond its edge."""
        return clock_mhz <= edge_mhz + self._part.start_margin_mhz


class Rates(NamedTuple):
    """Hazards per second of one moment, by what fails."""

    core: float
    core_wrong: float
    memory: float = 0.0
    graphics_wrong: float = 0.0
    graphics: float = 0.0


_KINDS = (Failure.FROZE, Failure.RESTARTED, Failure.PROGRAM_CRASHED, Failure.WRONG_RESULTS)
_MEMORY_WEIGHTS = {Short.MODULES: (1, 1, 2, 6), Short.CONTROLLER: (4, 4, 1, 1)}
_GRAPHICS_WEIGHTS = (2, 1, 4, 0)


class Fate:
    """How much accumulated hazard a run survives, drawn when it starts; times to failure are exponential with it."""

    def __init__(self, load: LoadPart, chance: Random, others: Random) -> None:
        self._core, self._core_wrong = chance.expovariate(1.0), chance.expovariate(1.0)
        self._core_kind = chance.choices(_KINDS[:3], (load.freezes, load.restarts, load.program_crashes))[0]
        self._memory, self._graphics_wrong, self._graphics = (others.expovariate(1.0) for _ in range(3))
        self._memory_kinds = {s: others.choices(_KINDS, weights)[0] for s, weights in _MEMORY_WEIGHTS.items()}
        self._graphics_kind = others.choices(_KINDS, _GRAPHICS_WEIGHTS)[0]
        self._others = others

    def spend(self, rates: Rates, short: Short, dt_s: float) -> tuple[Failure, float] | None:
        """Live through `dt_s` seconds of hazard; gives the failure and the seconds until it, if one comes."""
        due = [
            (self._core / rates.core if rates.core else math.inf, self._core_kind),
            (self._core_wrong / rates.core_wrong if rates.core_wrong else math.inf, Failure.WRONG_RESULTS),
        ]
        self._core -= rates.core * dt_s
        self._core_wrong -= rates.core_wrong * dt_s
        if rates.memory:
            due.append((self._memory / rates.memory, self._memory_kinds[short]))
            self._memory -= rates.memory * dt_s
        if rates.graphics:
            due.append((self._graphics_wrong / rates.graphics_wrong, Failure.WRONG_RESULTS))
            due.append((self._graphics / rates.graphics, self._graphics_kind))
            self._graphics_wrong -= rates.graphics_wrong * dt_s
            self._graphics -= rates.graphics * dt_s
        seconds, failure = min(due, key=lambda pair: pair[0])
        return (failure, max(seconds, 0.0)) if seconds < dt_s else None

    def corrected(self, expected: float) -> int:
        """Draw how many errors were corrected when so many are expected (Poisson; Knuth's method, normal above 30)."""
        if expected > 30.0:
            return max(0, round(self._others.gauss(expected, math.sqrt(expected))))
        if expected < 1e-6:
            return 0
        limit, product, count = math.exp(-expected), self._others.random(), 0
        while product > limit:
            product *= self._others.random()
            count += 1
        return count
