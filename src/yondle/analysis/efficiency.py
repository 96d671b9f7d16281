"""What a score costs: score per watt, energy per unit of work, and the settings that no other beats."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yondle.analysis.margins import GainWord, gain
from yondle.model.knobs import Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import METER, Channel, Quantity
from yondle.model.steps import PassRecord
from yondle.model.workloads import Direction, Metric

JOULES_PER_WH = 3600.0
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
    """Tell which settings no other beats on score, power and noise together (Pareto).

    One beats another where it is surely better in one of the three and surely worse in none, by Welch's 95 % interval;
    costs that weren't read on both sides count for nothing. Settings without power are beaten by none and beat none.
    """
    return [
        not any(_beats(other, trade, direction) for other in trades if other is not trade) if trade.watts else False
        for trade in trades
    ]


def _beats(one: Trade, other: Trade, direction: Direction) -> bool:
    if not one.watts:
        return False
    told = [
        gain(list(one.scores), list(other.scores), direction),
        gain(list(one.watts), list(other.watts), Direction.LOWER),
        gain(list(one.fan), list(other.fan), Direction.LOWER),
    ]
    words = [each.word for each in told if each is not None]
    return GainWord.GAIN in words and GainWord.LOSS not in words


def score_per_watt(passes: Iterable[PassRecord], power: Channel, direction: Direction) -> float | None:
    """Mean score over mean power of the passes that count; for durations, runs per hour and watt. None without both."""
    pairs = [
        (p.result.score, float(p.result.facts[f"mean {power.id}"]))
        for p in passes
        if p.counts and p.result is not None and p.result.score and f"mean {power.id}" in p.result.facts
    ]
    watts = sum(w for _, w in pairs)
    if not pairs or watts <= 0:
        return None
    scores = [s if direction is Direction.HIGHER else 3600.0 / s for s, _ in pairs]
    return sum(scores) / watts
