"""Where the simulated core's edge lies, and how failures come: as hazards, drawn once per run, kind by kind.

f_edge(V, T) = f0 + a(V-V0) - b(V-V0)² - c(T-T0) - s(load) is the clock at which failures come once an hour; the hazard is
(1/3600)·exp((f - f_edge)/w) per second plus a small floor. Below the vertex of the parabola more voltage helps; past it
the edge is held flat, so more voltage never lowers it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from random import Random

from yondle.model.verdicts import Failure
from yondle.rigs.simulated.rigfile import EdgePart, LoadPart

_LARGEST_EXPONENT = 30.0


class Edge:
    """The hazard of a load at a clock, voltage and temperature."""

    def __init__(self, part: EdgePart) -> None:
        self._part = part
        self._knee_v = part.mhz_per_v / (2.0 * part.mhz_per_v2) if part.mhz_per_v2 else math.inf
        self._floor_per_s = part.floor_per_h / 3600.0

    def clock_mhz(self, voltage_v: float, die_c: float, load: LoadPart) -> float:
        """Give the clock in MHz at which this load fails once an hour."""
        part = self._part
        over = min(voltage_v - part.at_v, self._knee_v)
        lifted = part.mhz_per_v * over - part.mhz_per_v2 * over * over
        return part.clock_mhz + lifted - part.mhz_per_k * (die_c - part.at_c) - load.edge_lowered_mhz

    def hazard_per_s(self, clock_mhz: float, edge_mhz: float) -> float:
        """Give the failures per second at a clock whose edge is known."""
        beyond = min((clock_mhz - edge_mhz) / self._part.width_mhz, _LARGEST_EXPONENT)
        return math.exp(beyond) / 3600.0 + self._floor_per_s

    def starts(self, clock_mhz: float, edge_mhz: float) -> bool:
        """Tell whether the machine gets going at all this far beyond its edge."""
        return clock_mhz <= edge_mhz + self._part.start_margin_mhz


@dataclass(slots=True)
class Fate:
    """How much accumulated hazard a run survives, drawn when it starts; times to failure are exponential with it."""

    until_crash: float
    until_wrong: float
    kind: Failure

    @classmethod
    def drawn(cls, load: LoadPart, chance: Random) -> Fate:
        """Draw the fate of one run of a load."""
        kinds = (Failure.FROZE, Failure.RESTARTED, Failure.PROGRAM_CRASHED)
        weights = (load.freezes, load.restarts, load.program_crashes)
        until_crash, until_wrong = chance.expovariate(1.0), chance.expovariate(1.0)
        return cls(until_crash, until_wrong, chance.choices(kinds, weights)[0])
