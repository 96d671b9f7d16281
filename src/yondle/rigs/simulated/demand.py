"""How long a unit of a benchmark's work takes on the simulated machine, and the figure a pass of it yields."""

from __future__ import annotations

from random import Random
from typing import NamedTuple

from yondle.language.saying import named
from yondle.model.workloads import Direction, Metric
from yondle.rigs.simulated.parts import WorkloadPart

_HITCH_CHANCE, _HITCH_MOST = 0.004, 2.5
_MOST_FRAMES = 200_000


class Speeds(NamedTuple):
    """What the machine offers a benchmark at one moment; the graphics speeds are infinite where there is none."""

    cores: int
    threads: int
    clock_ghz: float
    bandwidth_gb_s: float
    latency_ns: float
    graphics_ghz: float
    graphics_gb_s: float
    link_gb_s: float


def unit_s(work: WorkloadPart, speeds: Speeds) -> float:
    """Give the seconds one unit of work takes: its parts one after the other, each at the speed of what it needs."""
    gain = 1.0 + work.second_thread_gain if speeds.threads > 1 else 1.0
    seconds = (
        work.compute_gcycles / (speeds.cores * speeds.clock_ghz * gain)
        + work.serial_gcycles / speeds.clock_ghz
        + work.traffic_gb / speeds.bandwidth_gb_s
        + work.khops * speeds.latency_ns * 1e-6
        + work.fixed_s
    )
    if work.graphics_gcycles or work.graphics_traffic_gb or work.link_gb:
        seconds += (
            work.graphics_gcycles / speeds.graphics_ghz
            + work.graphics_traffic_gb / speeds.graphics_gb_s
            + work.link_gb / speeds.link_gb_s
        )
    return seconds


def graphics_share(work: WorkloadPart, speeds: Speeds) -> float:
    """Give the share of a unit's time that graphics is at work, from 0 to 1."""
    busy = work.graphics_gcycles / speeds.graphics_ghz + work.graphics_traffic_gb / speeds.graphics_gb_s
    return busy / unit_s(work, speeds) if busy else 0.0


def metric_of(work: WorkloadPart) -> Metric:
    """Declare the figure of a benchmark from its entry in the rig file."""
    direction = Direction.LOWER if work.figure == "seconds" else Direction.HIGHER
    per = 60.0 if work.figure == "per minute" else 1.0
    cap = work.cap_per_s * per if work.cap_per_s and work.figure != "seconds" else None
    return Metric(named(work.name), work.unit, direction, work.digits, cap)


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


def frame_times_ms(work: WorkloadPart, frames_per_s: float, seconds: float, chance: Random) -> tuple[float, ...]:
    """Draw the frame times of a pass in ms: lognormal about their mean, with a hitch now and then, no shorter than a cap."""
    drawn = []
    for _ in range(min(round(frames_per_s * seconds), _MOST_FRAMES)):
        time = chance.lognormvariate(0.0, work.frame_spread)
        if chance.random() < _HITCH_CHANCE:
            time *= 1.0 + chance.random() * _HITCH_MOST
        drawn.append(time)
    scale = 1000.0 / frames_per_s * len(drawn) / sum(drawn) if drawn else 0.0
    shortest = 1000.0 / work.cap_per_s if work.cap_per_s else 0.0
    return tuple(round(max(time * scale, shortest), 3) for time in drawn)
