"""Electrical side of the simulated processor: load line, power, and the clock that power and heat limits leave.

Dynamic power of CMOS logic is C·u·V²·f (Weste and Harris, CMOS VLSI Design, ch. 5); leakage grows exponentially with
temperature. Currents give the voltage drop along the load line in closed form, so nothing is iterated but the clock
that just meets a power allowance.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from yondle.rigs.simulated.parts import ChipPart

_REFINEMENTS = 3
"""Power is nearly a straight line over the clock: three chords meet the allowance to within milliwatts."""


class Draw(NamedTuple):
    """The electrical state of the chip: effective clock in GHz, voltage at the cores in V, package power in W."""

    clock_ghz: float
    voltage_v: float
    power_w: float
    power_limited: bool
    heat_limited: bool


class Chip:
    """Solves for the chip's clock, voltage and power; holds nothing but its constants and `fit`."""

    def __init__(self, part: ChipPart) -> None:
        self._part = part
        self._load_line_ohm = part.load_line_mohm / 1000.0
        self._switching = part.switching_w_per_v2_ghz * part.cores
        self._lowest_ghz = part.lowest_clock_mhz / 1000.0

    def fit(self, cores: int, load_line_share: float) -> None:
        """Set how many cores are in use and what share of the full load-line resistance is left."""
        self._load_line_ohm = self._part.load_line_mohm / 1000.0 * load_line_share
        self._switching = self._part.switching_w_per_v2_ghz * cores

    def draw(
        self, asked_ghz: float, set_v: float, activity: float, die_c: float, limit_w: float, heat_w: float
    ) -> Draw:
        """Solve for the state at an asked clock when the window average leaves `limit_w` and heat `heat_w` watts."""
        leak_a = self._leak_a(die_c)
        voltage, power = self._at(asked_ghz, set_v, activity, leak_a)
        allowed = limit_w if limit_w < heat_w else heat_w
        if power <= allowed:
            return Draw(asked_ghz, voltage, power, False, False)
        clock = self._clock_for(allowed, asked_ghz, power, set_v, activity, leak_a)
        voltage, power = self._at(clock, set_v, activity, leak_a)
        return Draw(clock, voltage, power, limit_w <= heat_w, heat_w < limit_w)

    def _leak_a(self, die_c: float) -> float:
        part = self._part
        return part.leakage_w_per_v * math.exp((die_c - part.leakage_at_c) / part.leakage_e_fold_k)

    def _at(self, clock_ghz: float, set_v: float, activity: float, leak_a: float) -> tuple[float, float]:
        switching = self._switching * activity * clock_ghz
        voltage = (set_v - self._load_line_ohm * leak_a) / (1.0 + self._load_line_ohm * switching)
        return voltage, voltage * (switching * voltage + leak_a) + self._part.uncore_w

    def _clock_for(
        self, allowed_w: float, asked_ghz: float, power_w: float, set_v: float, activity: float, leak_a: float
    ) -> float:
        low, high = self._lowest_ghz, asked_ghz
        _, low_w = self._at(low, set_v, activity, leak_a)
        if low_w >= allowed_w:
            return low
        high_w = power_w
        clock = high
        for _ in range(_REFINEMENTS):
            clock = low + (high - low) * (allowed_w - low_w) / (high_w - low_w)
            _, watts = self._at(clock, set_v, activity, leak_a)
            if watts > allowed_w:
                high, high_w = clock, watts
            else:
                low, low_w = clock, watts
        return clock
