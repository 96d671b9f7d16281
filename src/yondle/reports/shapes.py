"""What charts on paper are made of: strokes, marks and words, which SVG and PDF draw alike, and round ticks for their axes."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.model.quantities import number
from yondle.model.verdicts import Verdict

STRONG, PLAIN, MUTED, RULE = "accent", "ink", "muted", "rule"
"""Colours by the names they have in a report."""


@dataclass(frozen=True, slots=True)
class Stroke:
    """A line through points in px, y downward; dashes as in SVG."""

    points: tuple[tuple[float, float], ...]
    colour: str
    width: float
    dashes: str = ""
    opacity: float = 1.0


@dataclass(frozen=True, slots=True)
class Box:
    """A filled rectangle."""

    x: float
    y: float
    width: float
    height: float
    colour: str
    opacity: float


@dataclass(frozen=True, slots=True)
class Dot:
    """One pass."""

    x: float
    y: float
    colour: str
    opacity: float = 0.7


@dataclass(frozen=True, slots=True)
class Mark:
    """A verdict's mark."""

    x: float
    y: float
    size: float
    verdict: Verdict
    opacity: float = 1.0


@dataclass(frozen=True, slots=True)
class Text:
    """Words; `anchor` is start, middle or end, `size` in px."""

    x: float
    y: float
    words: str
    colour: str
    anchor: str = "start"
    strong: bool = False
    size: float = 11.0


Shape = Stroke | Box | Dot | Mark | Text


def nice_ticks(low: float, high: float, most: int = 7) -> list[float]:
    """Choose round numbers between two values, at most `most` of them, in steps of 1, 2, 2.5 or 5 times a power of ten."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low:
        return []
    raw = (high - low) / most
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(m * power for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * power >= raw * (1 - 1e-9))
    first = math.ceil(low / step - 1e-9)
    return [round(i * step, 12) for i in range(first, math.floor(high / step + 1e-9) + 1)]


def ticks(low: float, high: float, names: tuple[str, ...] = (), most: int = 6) -> list[tuple[float, str]]:
    """Give round values between two with their words; the names of the values 0, 1, 2 and so on where there are any."""
    if names:
        return [(float(i), name) for i, name in enumerate(names) if low <= i <= high]
    found = nice_ticks(low, high, most)
    step = found[1] - found[0] if len(found) > 1 else 1.0
    digits = max(0, -math.floor(math.log10(step) + 1e-9)) if step > 0 else 0
    return [(tick, number(tick, digits)) for tick in found]


def padded(values: list[float]) -> tuple[float, float]:
    """Give the lowest and the highest of some values with a little room around them."""
    low, high = min(values), max(values)
    pad = 0.07 * (high - low) or 0.02 * abs(high) or 1.0
    return low - pad, high + pad
