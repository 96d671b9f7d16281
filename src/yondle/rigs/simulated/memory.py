"""Memory: the latency and bandwidth that follow from rate and timings, and the edge of what modules and controller hold.

A timing of n clocks lasts 2000·n/rate ns. A part that needs t ns of it at its voltage demands t/(2000·n/rate) of what it
gets; the largest demand, softly taken, divides the rate to give the edge: the rate at which failures come once an hour.
Refresh steals tRFC out of every tREFI (JEDEC terms); cells keep their charge half as long for so many kelvin more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import Enum

from yondle.model.knobs import Subsystem
from yondle.rigs.simulated.parts import MemoryEdgePart, MemoryPart
from yondle.rigs.simulated.settings import ResolvedSettings

BYTES_PER_TRANSFER = 8.0
BANDWIDTH_REFERENCE_C = 30.0
_ROW_MISS_SHARE, _ROW_CONFLICT_SHARE = 0.5, 0.3
_ROW_CYCLE_REFERENCE_NS = 40.0
_CEILING_SHARPNESS = 6.0
_DEMAND_SHARPNESS = 40.0
_RETENTION_WEIGHT = 0.15
_LARGEST_EXPONENT = 30.0


class Short(Enum):
    """What the memory is short of when it fails: time or voltage at the modules, or rate at the controller."""

    MODULES = Subsystem.MEMORY
    CONTROLLER = Subsystem.CONTROLLER


@dataclass(frozen=True, slots=True)
class MemoryEdge:
    """The rate in MT/s at which failures come once an hour, and what is short there."""

    rate_mt_s: float
    short: Short


def clock_ns(rate_mt_s: float) -> float:
    """Give the length of one memory clock in ns: two transfers per clock."""
    return 2000.0 / rate_mt_s


def latency_ns(part: MemoryPart, s: ResolvedSettings) -> float:
    """Give the mean latency of a dependent access in ns."""
    tick = clock_ns(s.memory_rate_mt_s)
    rows = s.cas + _ROW_MISS_SHARE * s.trcd + _ROW_CONFLICT_SHARE * s.trp + (1.0 if s.two_cycle else 0.0)
    controller = part.controller_ns + part.controller_cycles * tick * (2.0 if s.half_ratio else 1.0)
    return controller + rows * tick + 0.5 * _refresh_duty(s) * s.trfc * tick


def bandwidth_gb_s(part: MemoryPart, s: ResolvedSettings, case_c: float) -> float:
    """Give the bandwidth in GB/s: what the modules yield, under the controller's ceiling, less in a warm case."""
    tick = clock_ns(s.memory_rate_mt_s)
    peak = s.memory_rate_mt_s * 1e-3 * BYTES_PER_TRANSFER * s.channels
    rows = part.row_cycle_share * ((s.tras + s.trp) * tick / _ROW_CYCLE_REFERENCE_NS - 1.0)
    modules = peak * part.efficiency * (1.0 - _refresh_duty(s)) / max(0.2, 1.0 + rows)
    ceiling = part.controller_gb_s / (1.25 if s.half_ratio else 1.0)
    both: float = (modules**-_CEILING_SHARPNESS + ceiling**-_CEILING_SHARPNESS) ** (-1.0 / _CEILING_SHARPNESS)
    lost = part.bandwidth_loss_per_k * max(0.0, case_c - BANDWIDTH_REFERENCE_C)
    return both * (1.0 - min(lost, 0.5))


def edge(part: MemoryEdgePart, s: ResolvedSettings, memory_c: float, lowered_mt_s: float) -> MemoryEdge:
    """Give the edge of the memory for a load that lowers it by so much."""
    rate = s.memory_rate_mt_s
    over = min(s.memory_voltage_v, part.knee_v) - part.at_v
    need = math.exp(-part.ns_share_per_v * over)
    tick = clock_ns(rate)
    io = part.io_mt_s + _parabola(part.io_mt_s_per_v, part.io_mt_s_per_v2, s.memory_voltage_v - part.at_v)
    io -= part.io_mt_s_per_k * (memory_c - part.at_c)
    io += part.two_cycle_mt_s if s.two_cycle else 0.0
    kept_us = part.retention_us * 2.0 ** (-(memory_c - part.at_c) / part.retention_halves_per_k)
    waited_us = s.refresh_interval * tick * 1e-3
    modules = (
        rate / max(io, 100.0),
        part.cas_ns * need / (s.cas * tick),
        part.trcd_ns * need / (s.trcd * tick),
        part.trp_ns * need / (s.trp * tick),
        part.tras_ns * need / (s.tras * tick),
        part.trfc_ns * need / (s.trfc * tick),
        (waited_us / kept_us) ** _RETENTION_WEIGHT,
    )
    held = part.controller_mt_s + _parabola(
        part.controller_mt_s_per_v, part.controller_mt_s_per_v2, s.controller_voltage_v - part.controller_at_v
    )
    controller = rate / max(held * (part.half_ratio_factor if s.half_ratio else 1.0), 100.0)
    demand: float = (sum(d**_DEMAND_SHARPNESS for d in modules) + controller**_DEMAND_SHARPNESS) ** (
        1.0 / _DEMAND_SHARPNESS
    )
    short = Short.CONTROLLER if controller >= max(modules) else Short.MODULES
    return MemoryEdge(rate / demand - lowered_mt_s, short)


def hazard_per_s(part: MemoryEdgePart, rate_mt_s: float, edge_mt_s: float) -> float:
    """Give the failures per second at a rate whose edge is known."""
    return math.exp(min((rate_mt_s - edge_mt_s) / part.width_mt_s, _LARGEST_EXPONENT)) / 3600.0


def _refresh_duty(s: ResolvedSettings) -> float:
    return min(0.5, s.trfc / s.refresh_interval)


def _parabola(slope: float, bend: float, over: float) -> float:
    """a·x - b·x² up to its vertex, flat beyond it: more voltage never lowers the edge."""
    x = min(over, slope / (2.0 * bend)) if bend else over
    return slope * x - bend * x * x
