"""Readings of sensors over time: figures of a span, dips under what was asked, the hottest of several, and two runs compared.

A trace is a rising array of times in seconds and one array of readings a channel, nan where a sensor gave none. Every reading
stands for the time since the one before it, at most a few times the usual step, so that a gap counts for nothing.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.regression import Array

Mask = NDArray[np.bool_]
Values = NDArray[np.floating]
BELOW_SHARE = 0.995
"""A clock under this share of what was asked is below it."""
_LONGEST_STEPS = 5.0


@dataclass(frozen=True, slots=True)
class SpanFigures:
    """Lowest, mean over time and highest reading of a span, and how many readings it holds; nan without any."""

    lowest: float
    mean: float
    highest: float
    readings: int


@dataclass(frozen=True, slots=True)
class Dip:
    """A stretch below what was asked, in seconds of the trace, and the lowest reading in it."""

    from_s: float
    to_s: float
    lowest: float

    @property
    def lasted_s(self) -> float:
        """How long it lasted."""
        return self.to_s - self.from_s


@dataclass(frozen=True, slots=True)
class Below:
    """How long readings lay below what was asked, of how long in all, and each dip in order."""

    below_s: float
    whole_s: float
    dips: tuple[Dip, ...]

    @property
    def share(self) -> float:
        """The share of the time below; nan where no time passed."""
        return self.below_s / self.whole_s if self.whole_s > 0.0 else math.nan

    @property
    def deepest(self) -> Dip | None:
        """The dip with the lowest reading."""
        return min(self.dips, key=lambda dip: dip.lowest, default=None)


@dataclass(frozen=True, slots=True)
class Hottest:
    """Which of several channels was highest, for what share of the time, and its peak."""

    place: int
    share: float
    peak: float


def durations(times: Array) -> Array:
    """Give the seconds every reading stands for, shape of `times`."""
    if len(times) < 2:
        return np.zeros_like(times)
    steps = np.diff(times, prepend=times[0])
    usual = float(np.median(steps[1:]))
    steps[0] = usual
    return np.clip(steps, 0.0, _LONGEST_STEPS * usual)


def within(times: Array, low: float, high: float) -> slice:
    """Give the readings of a span, both ends included."""
    return slice(int(np.searchsorted(times, low, "left")), int(np.searchsorted(times, high, "right")))


def span_figures(times: Array, values: Values, low: float, high: float) -> SpanFigures:
    """Work out the figures of a span."""
    span = within(times, low, high)
    inside, weights = np.asarray(values[span], dtype=np.float64), durations(times[span])
    known = np.isfinite(inside)
    if not known.any():
        return SpanFigures(math.nan, math.nan, math.nan, 0)
    inside, weights = inside[known], weights[known]
    mean = float(np.average(inside, weights=weights)) if weights.sum() > 0.0 else float(inside.mean())
    return SpanFigures(float(inside.min()), mean, float(inside.max()), int(known.sum()))


def below(times: Array, values: Values, asked: float, loaded: Mask | None = None) -> Below:
    """Find where readings lie under BELOW_SHARE of what was asked; `loaded` marks the readings that count, all without it."""
    weights = durations(times)
    counted = np.isfinite(values) & (loaded if loaded is not None else True)
    low = counted & (np.nan_to_num(values, nan=math.inf) < BELOW_SHARE * asked)
    dips = [
        Dip(float(times[i] - weights[i]), float(times[j - 1]), float(np.min(values[i:j]))) for i, j in stretches(low)
    ]
    return Below(float(weights[low].sum()), float(weights[counted].sum()), tuple(dips))


def time_on(times: Array, flags: Values, loaded: Mask | None = None) -> tuple[float, float]:
    """Give the seconds a flag was up, and the seconds that count; a flag's reading may be the share of its interval."""
    weights = durations(times)
    counted = np.isfinite(flags) & (loaded if loaded is not None else True)
    up = np.clip(np.nan_to_num(flags), 0.0, 1.0)
    return float((weights * up)[counted].sum()), float(weights[counted].sum())


def stretches(mask: Mask) -> list[tuple[int, int]]:
    """Give the runs of true places as pairs of first place and place after the last."""
    edges = np.flatnonzero(np.diff(mask.astype(np.int8), prepend=0, append=0))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def in_spans(times: Array, spans: Sequence[tuple[float, float]]) -> Mask:
    """Mark the readings that fall into any of some spans."""
    mask = np.zeros(len(times), dtype=np.bool_)
    for low, high in spans:
        mask[within(times, low, high)] = True
    return mask


def hottest(times: Array, channels: Sequence[Values], low: float, high: float) -> Hottest | None:
    """Follow the highest of several channels through a span; None where nothing was read."""
    span = within(times, low, high)
    if not channels or span.stop <= span.start:
        return None
    readings = np.stack([np.asarray(values[span], dtype=np.float64) for values in channels])
    read = np.isfinite(readings).any(axis=0)
    if not read.any():
        return None
    readings, weights = readings[:, read], durations(times[span])[read]
    leads = np.argmax(np.where(np.isfinite(readings), readings, -np.inf), axis=0)
    weights = weights if weights.sum() > 0.0 else np.ones_like(weights)
    lead = np.bincount(leads, weights=weights, minlength=len(channels))
    place = int(np.argmax(lead))
    return Hottest(place, float(lead[place] / lead.sum()), float(np.nanmax(readings[place])))


def difference(times: Array, values: Values, other_times: Array, other: Values, offset_s: float) -> Array:
    """Give a trace less another that begins `offset_s` later on the first one's clock; nan where they don't overlap.

    The other is read between its readings in a straight line; a gap in it stays a gap.
    """
    known = np.isfinite(other)
    if known.sum() < 2:
        return np.full(len(times), np.nan)
    at = times - offset_s
    read = np.interp(at, other_times[known], other[known], left=np.nan, right=np.nan)
    usual = float(np.median(np.diff(other_times))) if len(other_times) > 1 else 0.0
    places = np.searchsorted(other_times[known], at)
    before = other_times[known][np.clip(places - 1, 0, None)]
    after = other_times[known][np.clip(places, None, int(known.sum()) - 1)]
    read[after - before > _LONGEST_STEPS * usual] = np.nan
    return np.asarray(values - read, dtype=np.float64)
