"""Graphics: the clock its power limit leaves, its one heat node, its edge, and the retries of memory clocked too high.

The voltage follows the clock along a straight line; power is idle + u·(C·V²·f + c·f_memory), held at its limit over a
window like the processor's. Memory that is clocked too high repeats transfers before it fails, so more gets to be less.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from yondle.rigs.simulated.parts import GraphicsPart
from yondle.rigs.simulated.settings import ResolvedSettings

_REFINEMENTS = 3
_LOWEST_SHARE = 0.3
_LARGEST_EXPONENT = 30.0
_RETRY_COST = 0.004
"""Share of the memory's time lost at the clock where retries set in; it grows with the width from there."""


class GraphicsDraw(NamedTuple):
    """The state of graphics: effective clock in MHz, power in W, and whether its power limit lowers the clock."""

    clock_mhz: float
    power_w: float
    power_limited: bool


class Graphics:
    """Solves for clock, power, heat and hazards; holds no state of its own."""

    def __init__(self, part: GraphicsPart) -> None:
        self.part = part

    def draw(self, s: ResolvedSettings, use: float, mean_power_w: float, dt_s: float) -> GraphicsDraw:
        """Solve for the state at a use from 0 to 1, given the mean power of the window so far."""
        decay = math.exp(-dt_s / self.part.power_window_s)
        allowed = (s.graphics_power_w - decay * mean_power_w) / (1.0 - decay)
        asked = s.graphics_clock_mhz
        power = self._power_w(s, asked, use)
        if power <= allowed:
            return GraphicsDraw(asked, power, False)
        low, high = _LOWEST_SHARE * asked, asked
        low_w, high_w = self._power_w(s, low, use), power
        clock = low
        if low_w < allowed:
            for _ in range(_REFINEMENTS):
                clock = low + (high - low) * (allowed - low_w) / (high_w - low_w)
                watts = self._power_w(s, clock, use)
                if watts > allowed:
                    high, high_w = clock, watts
                else:
                    low, low_w = clock, watts
        return GraphicsDraw(clock, self._power_w(s, clock, use), True)

    def heated(self, s: ResolvedSettings, now_c: float, room_c: float, power_w: float, dt_s: float) -> float:
        """Give the temperature after `dt_s` seconds of constant power."""
        part = self.part
        spread = part.to_room_full_w_per_k - part.to_room_still_w_per_k
        conductance = part.to_room_still_w_per_k + spread * s.graphics_fan_percent / 100.0
        steady = room_c + power_w / conductance
        return steady + (now_c - steady) * math.exp(-dt_s * conductance / part.joules_per_k)

    def edge_mhz(self, die_c: float, lowered_mhz: float) -> float:
        """Give the clock at which a load crashes graphics once an hour."""
        return self.part.edge_mhz - self.part.mhz_per_k * (die_c - self.part.at_c) - lowered_mhz

    def hazards_per_s(
        self, s: ResolvedSettings, clock_mhz: float, die_c: float, lowered_mhz: float
    ) -> tuple[float, float]:
        """Give the hazards of wrong pixels and of a crash, each from the clock and from the memory's clock."""
        part = self.part
        over = (clock_mhz - self.edge_mhz(die_c, lowered_mhz)) / part.width_mhz
        memory = (s.graphics_memory_mhz - part.memory_edge_mhz) / part.memory_width_mhz
        lead = part.artefact_lead_mhz / part.width_mhz
        by_memory = _exp(memory)
        return (_exp(over + lead) + 4.0 * by_memory) / 3600.0, (_exp(over) + by_memory) / 3600.0

    def starts(self, clock_mhz: float, die_c: float) -> bool:
        """Tell whether graphics comes up at all at a clock."""
        return clock_mhz <= self.edge_mhz(die_c, 0.0) + self.part.start_margin_mhz

    def memory_gb_s(self, s: ResolvedSettings) -> float:
        """Give the bandwidth of graphics memory, with what its retries cost."""
        part = self.part
        onset = part.memory_edge_mhz - part.memory_retry_lead_mhz
        lost = _RETRY_COST * _exp((s.graphics_memory_mhz - onset) / part.memory_width_mhz)
        return s.graphics_memory_mhz * 1e-3 * part.bytes_per_clock * (1.0 - min(lost, 0.5))

    def link_gb_s(self, s: ResolvedSettings) -> float:
        """Give the bandwidth of the link to the processor at the lanes that are really in use."""
        return self.part.link_gb_s_per_lane * s.lanes

    def _power_w(self, s: ResolvedSettings, clock_mhz: float, use: float) -> float:
        part = self.part
        volt = max(0.6, part.volt_at_clock_v + part.volt_per_ghz * (clock_mhz - part.clock_mhz) * 1e-3)
        memory = part.memory_w_per_ghz * s.graphics_memory_mhz * 1e-3
        return part.idle_w + use * (part.switching_w_per_ghz_v2 * volt * volt * clock_mhz * 1e-3 + memory)


def _exp(x: float) -> float:
    return math.exp(min(x, _LARGEST_EXPONENT))
