"""Whether figures only show a known cap, so that they say nothing about the setting."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import fmean

CAP_SHARE = 0.995
"""Setting means within half a per cent of a known cap count as sitting at it."""
Points = Sequence[tuple[float, Sequence[float]]]
"""Settings with their scores."""


def at_cap(points: Points, cap: float | None) -> bool:
    """Tell whether every setting's mean sits at a known cap, so that the figures say nothing about the knob."""
    if cap is None:
        return False
    means = [fmean(scores) for _, scores in points if scores]
    return bool(means) and min(means) >= cap * CAP_SHARE


def meets_cap(points: Points, cap: float | None) -> bool:
    """Tell whether a setting's mean sits at a known cap, so that what the knob brings there can't be seen."""
    means = [fmean(scores) for _, scores in points if scores]
    return cap is not None and bool(means) and max(means) >= cap * CAP_SHARE
