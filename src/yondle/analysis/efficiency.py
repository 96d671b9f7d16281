"""What a score costs: score per watt, energy per unit of work, and the settings that no other beats."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.margins import FEWEST_PASSES, LEAST_VARIATION, RISK, turned_logs
from yondle.analysis.regression import Array
from yondle.analysis.shapes import CurveReading, read_curve
from yondle.model.knobs import Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import METER, Channel, Quantity
from yondle.model.steps import PassRecord
from yondle.model.workloads import Direction, Metric

JOULES_PER_WH = 3600.0
LITTLE = 0.005
"""A share of score, power or fan speed that nobody would give anything for."""
_SAME_POWER = 0.01
"""Settings whose power differs by less are one point of the curve over power."""
_SECONDS = {"s": 1.0, "sec": 1.0, "min": 60.0, "h": 3600.0}
_DURATIONS = {"s": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0}


@dataclass(frozen=True, slots=True)
class Trade:
    """Passes of one setting: scores, and what they cost in watts and in turns of the fan a minute (empty where not read)."""

    scores: Sequence[float]
    watts: Sequence[float]
    fan: Sequence[float]


def power_channel(declaration: RigDeclaration) -> Channel | None:
    """The power that efficiency is told by: an outside meter's, else the whole machine's, else the processor's own."""
    powers = [c for c in declaration.channels if c.quantity is Quantity.POWER]
    meters = [c for c in powers if c.id.startswith(METER)]
    whole = [c for c in powers if c.subsystem is Subsystem.WHOLE]
    return next(iter(meters or whole or powers), None)


def fan_channel(declaration: RigDeclaration) -> Channel | None:
    """The fan that stands for noise where nothing measures it: the first that is read."""
    return next((c for c in declaration.channels if c.quantity is Quantity.FAN), None)


def work_unit(metric: Metric) -> str:
    """Name one unit of the work a score counts, as 'frame' for frames a minute; a whole run for a duration.

    Empty where a score counts no work, as latencies and points do.
    """
    if metric.direction is Direction.LOWER:
        return "run" if metric.unit in _DURATIONS else ""
    what, per, time = metric.unit.rpartition("/")
    if not per or time not in _SECONDS or not what:
        return ""
    return what[:-1] if len(what) > 2 and what.endswith("s") and what.islower() else what


def joules_per_unit(score: float, watts: float, metric: Metric) -> float | None:
    """Give the energy of one unit of work in J: power x time / work. None where a score counts no work."""
    if not work_unit(metric) or score <= 0.0:
        return None
    if metric.direction is Direction.LOWER:
        return watts * score * _DURATIONS[metric.unit]
    return watts * _SECONDS[metric.unit.rpartition("/")[2]] / score


def unbeaten(trades: Sequence[Trade], direction: Direction) -> list[bool]:
    """Tell which settings none beats on score, power and noise together (Pareto).

    One beats another where it is surely better in one of the three, by Welch's 95 % interval on logs, and in none worse by
    more than LITTLE on the mean; a cost that wasn't read on both sides counts for nothing, and one without a score beats
    none. Held against each are the settings of the plain front, that none is ahead of in all means.
    """
    if not trades:
        return []
    sides = [
        _logs([turned_logs(list(t.scores), direction) for t in trades]),
        *(_logs([-turned_logs(list(side), Direction.HIGHER) for side in costs]) for costs in _costs(trades)),
    ]
    means = np.stack([np.nan_to_num(side.mean, nan=-np.inf) for side in sides], axis=1)
    front = [
        i
        for i, own in enumerate(means)
        if math.isfinite(own[0]) and not np.any(np.all(means >= own, axis=1) & np.any(means > own, axis=1))
    ]
    gaps = [side.mean[None, front] - side.mean[:, None] for side in sides]
    better = np.any([_sure(side, front, gap) for side, gap in zip(sides, gaps, strict=True)], axis=0)
    worse = np.any([gap < -LITTLE for gap in gaps], axis=0)
    return [not beaten for beaten in np.any(better & ~worse, axis=1)]


def power_curve(trades: Sequence[Trade], direction: Direction) -> CurveReading:
    """Read how scores answer to power along settings, in W."""
    points: list[tuple[float, list[float]]] = []
    for trade in sorted(trades, key=lambda t: float(np.mean(t.watts))):
        watts = float(np.mean(trade.watts))
        if points and watts < points[-1][0] * (1.0 + _SAME_POWER):
            points[-1][1].extend(trade.scores)
        else:
            points.append((watts, list(trade.scores)))
    return read_curve(points, direction)


def _costs(trades: Sequence[Trade]) -> tuple[list[Sequence[float]], list[Sequence[float]]]:
    return [t.watts for t in trades], [t.fan for t in trades]


class _Side(NamedTuple):
    """Means, variances of a mean, and degrees of freedom of many settings; nan without passes, variance nan with one."""

    mean: Array
    variance: Array
    degrees: Array


def _logs(sides: Sequence[Array]) -> _Side:
    rows = []
    for logs in sides:
        n = len(logs)
        spread = max(float(np.var(logs, ddof=1)), LEAST_VARIATION**2) / n if n >= FEWEST_PASSES else math.nan
        rows.append((float(logs.mean()) if n else math.nan, spread, float(n - 1)))
    return _Side(*np.array(rows, dtype=np.float64).T)


def _sure(side: _Side, front: list[int], gap: Array) -> NDArray[np.bool_]:
    """Tell where settings of the front (columns) are surely better than settings (rows)."""
    from scipy.special import stdtrit

    own, other = side.variance[None, front], side.variance[:, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        degrees = (own + other) ** 2 / (own**2 / side.degrees[None, front] + other**2 / side.degrees[:, None])
        return np.asarray(gap > stdtrit(degrees, 1.0 - RISK / 2.0) * np.sqrt(own + other))


def score_per_watt(passes: Iterable[PassRecord], power: Channel, direction: Direction) -> float | None:
    """Mean score over mean power of the passes that count; for durations, runs per hour and watt. None without both."""
    pairs = [
        (p.result.score, p.result.measured.mean[power.id])
        for p in passes
        if p.counts and p.result is not None and p.result.score and power.id in p.result.measured.mean
    ]
    watts = sum(w for _, w in pairs)
    if not pairs or watts <= 0:
        return None
    scores = [s if direction is Direction.HIGHER else 3600.0 / s for s, _ in pairs]
    return sum(scores) / watts
