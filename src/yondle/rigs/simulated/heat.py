"""Two-node heat flow: die to cooler to room, advanced by the exact solution for constant power.

With die and cooler temperatures x = (Td, Tc), capacities Cd, Cc and conductances Gdc, Gca, the flow is
dx/dt = A (x - x_ss); over a step x(t+dt) = x_ss + exp(A dt)(x(t) - x_ss) (any text on linear systems). exp(A dt) depends
only on the fan level and dt and is kept.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.rigs.simulated.parts import HeatPart, RoomPart

SECONDS_PER_HOUR = 3600.0


@dataclass(frozen=True, slots=True)
class _Propagator:
    """exp(A dt), and how many kelvin the die gains per watt over the step."""

    m00: float
    m01: float
    m10: float
    m11: float
    die_k_per_w: float
    cooler_k_per_w: float
    gain_k_per_w: float


class Heat:
    """The thermal constants of a rig; temperatures are passed in and out."""

    def __init__(self, part: HeatPart, room: RoomPart) -> None:
        self._part = part
        self._room = room
        self._kept: dict[tuple[float, float], _Propagator] = {}

    def room_c(self, t_s: float) -> float:
        """Give the room temperature: cold in the evening, warming along a half cosine until dawn."""
        share = min(max(t_s / (self._room.hours_to_dawn * SECONDS_PER_HOUR), 0.0), 1.0)
        warmth = 0.5 - 0.5 * math.cos(math.pi * share)
        return self._room.evening_c + (self._room.dawn_c - self._room.evening_c) * warmth

    def cooler_to_room_w_per_k(self, fan_percent: float) -> float:
        """Give the conductance from cooler to room at a fan level in %."""
        part = self._part
        moved: float = (fan_percent / 100.0) ** part.fan_exponent
        return (
            part.cooler_to_room_still_w_per_k
            + (part.cooler_to_room_full_w_per_k - part.cooler_to_room_still_w_per_k) * moved
        )

    def advance(
        self, die_c: float, cooler_c: float, room_c: float, power_w: float, fan_percent: float, dt_s: float
    ) -> tuple[float, float]:
        """Give die and cooler temperature after `dt_s` seconds of constant power."""
        p = self._propagator(fan_percent, dt_s)
        die_ss = room_c + power_w * p.die_k_per_w
        cooler_ss = room_c + power_w * p.cooler_k_per_w
        dd, dc = die_c - die_ss, cooler_c - cooler_ss
        return die_ss + p.m00 * dd + p.m01 * dc, cooler_ss + p.m10 * dd + p.m11 * dc

    def power_to_reach(
        self, limit_c: float, die_c: float, cooler_c: float, room_c: float, fan_percent: float, dt_s: float
    ) -> float:
        """Give the constant power in W that brings the die to `limit_c` at the end of the step."""
        p = self._propagator(fan_percent, dt_s)
        unheated = room_c + p.m00 * (die_c - room_c) + p.m01 * (cooler_c - room_c)
        return (limit_c - unheated) / p.gain_k_per_w

    def _propagator(self, fan_percent: float, dt_s: float) -> _Propagator:
        key = (fan_percent, dt_s)
        kept = self._kept.get(key)
        if kept is None:
            if len(self._kept) > 512:
                self._kept.clear()
            kept = self._kept[key] = self._solve(fan_percent, dt_s)
        return kept

    def _solve(self, fan_percent: float, dt_s: float) -> _Propagator:
        part = self._part
        gdc, gca = part.die_to_cooler_w_per_k, self.cooler_to_room_w_per_k(fan_percent)
        a, b = -gdc / part.die_j_per_k, gdc / part.die_j_per_k
        c, d = gdc / part.cooler_j_per_k, -(gdc + gca) / part.cooler_j_per_k
        mean, half = (a + d) / 2.0, math.sqrt(((a - d) / 2.0) ** 2 + b * c)
        slow, fast = math.exp((mean + half) * dt_s), math.exp((mean - half) * dt_s)
        even, odd = (slow + fast) / 2.0, (slow - fast) / (2.0 * half)
        m00, m01 = even + (a - mean) * odd, b * odd
        m10, m11 = c * odd, even + (d - mean) * odd
        cooler = 1.0 / gca
        die = cooler + 1.0 / gdc
        return _Propagator(m00, m01, m10, m11, die, cooler, die - m00 * die - m01 * cooler)
