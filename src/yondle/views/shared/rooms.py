"""How warm the room was, as the machine or its tuner told it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from yondle.language.saying import later
from yondle.model.steps import StepRecord

ROOM = later("room temperature in °C")
"""The condition that tells it, of an attempt."""
LATELY_S = 48 * 3600.0
"""Rooms of longer ago say nothing about the coming night."""


def room_told(conditions: Mapping[str, str | float]) -> float | None:
    """Read the room's temperature, °C, from what was told; None where nothing was, or no number."""
    told = conditions.get(ROOM)
    try:
        return float(told.replace(",", ".").removesuffix("°C")) if isinstance(told, str) else told
    except ValueError:
        return None


def warmest_room(steps: Iterable[StepRecord]) -> float | None:
    """Give the warmest room of the last two days of a book, °C; None where nobody told."""
    made = [(a.passes[0].started_s, room_told(a.conditions)) for r in steps for a in r.attempts if a.passes]
    latest = max((at for at, _ in made), default=0.0)
    return max((room for at, room in made if room is not None and at >= latest - LATELY_S), default=None)
