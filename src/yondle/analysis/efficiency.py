"""What a score costs: score per watt over the passes of a setting."""

from __future__ import annotations

from collections.abc import Iterable

from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import METER, Channel, Quantity
from yondle.model.steps import PassRecord
from yondle.model.workloads import Direction


def power_channel(declaration: RigDeclaration) -> Channel | None:
    """The power that efficiency is told by: that of an outside meter, which sees all of it, else the processor's own."""
    powers = [c for c in declaration.channels if c.quantity is Quantity.POWER]
    meters = [c for c in powers if c.id.startswith(METER)]
    return next(iter(meters or powers), None)


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
