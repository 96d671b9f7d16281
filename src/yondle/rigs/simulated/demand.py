"""How long a unit of a benchmark's work takes on the simulated machine, and the figure a pass of it yields."""

from __future__ import annotations

from random import Random

from yondle.model.workloads import Direction, Metric
from yondle.rigs.simulated.rigfile import MemoryPart, WorkloadPart

BYTES_PER_TRANSFER = 8.0
_BANDWIDTH_REFERENCE_C = 30.0


class Memory:
    """Latency and bandwidth as they follow from rate, CAS latency and channels."""

    def __init__(self, part: MemoryPart) -> None:
        self._part = part
        self.latency_ns = 2000.0 * part.cas / part.rate_mt_s + part.controller_ns
        self._bandwidth_gb_s = part.rate_mt_s * 1e-3 * BYTES_PER_TRANSFER * part.channels * part.efficiency

    def bandwidth_gb_s(self, cooler_c: float) -> float:
        """Give the bandwidth in GB/s, a little lower when the inside of the case is warm."""
        lost = self._part.bandwidth_loss_per_k * max(0.0, cooler_c - _BANDWIDTH_REFERENCE_C)
        return self._bandwidth_gb_s * (1.0 - min(lost, 0.5))


def unit_s(work: WorkloadPart, cores: int, clock_ghz: float, memory: Memory, cooler_c: float) -> float:
    """Give the seconds one unit of work takes: compute, traffic and hops one after the other, and a fixed part."""
    return (
        work.compute_gcycles / (cores * clock_ghz)
        + work.traffic_gb / memory.bandwidth_gb_s(cooler_c)
        + work.khops * memory.latency_ns * 1e-6
        + work.fixed_s
    )


def metric_of(work: WorkloadPart) -> Metric:
    """Declare the figure of a benchmark from its entry in the rig file."""
    direction = Direction.LOWER if work.figure == "seconds" else Direction.HIGHER
    per = 60.0 if work.figure == "per minute" else 1.0
    cap = work.cap_per_s * per if work.cap_per_s and work.figure != "seconds" else None
    return Metric(work.name, work.unit, direction, work.digits, cap)


def figure(work: WorkloadPart, units_done: float, seconds: float, first: bool, chance: Random) -> float | None:
    """Turn work done into the figure of a pass, with its noise, a slow first pass and a rare outlier."""
    if work.figure == "none" or units_done <= 0:
        return None
    speed = units_done / seconds * chance.lognormvariate(0.0, work.noise)
    if first:
        speed *= 1.0 - work.slow_first
    if chance.random() < work.outlier_chance:
        speed *= 1.0 - chance.uniform(0.03, 0.08)
    if work.cap_per_s is not None:
        speed = min(speed, work.cap_per_s)
    if work.figure == "seconds":
        return 1.0 / speed
    return speed * (60.0 if work.figure == "per minute" else 1.0)
