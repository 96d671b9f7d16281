"""How a score answers to a knob: slope, shape, knee, cap, peak, and what two knobs do together.

Everything is worked out on logarithms, scores turned so that up is better, and on setting means, not on passes: settings
carry a noise of their own, and passes of one setting share it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

import numpy as np

from yondle.analysis.margins import LEAST_VARIATION, turned_logs
from yondle.analysis.regression import Array, fit
from yondle.analysis.student import t_quantile
from yondle.language.saying import say
from yondle.model.workloads import Direction

CAP_SHARE = 0.995
"""Setting means within half a per cent of a known cap count as sitting at it."""
CAPPED_BELOW, NEARLY_FLAT_BELOW = 0.1, 0.33
"""Upper limits of the slope of the upper half under which a curve is capped, or nearly flat."""
BUNCHED_SHARE, BUNCHED_AT_MOST = 0.4, 0.002
"""Passes bunch at a cap when they spread by less than this share of what they spread by below it, and by less than this.

The share alone isn't enough: where a limiter acts below, passes spread more there than where the machine is left alone.
"""
FEWEST_FOR_SHAPE, FEWEST_FOR_KNEE = 4, 6
_KNEE_RISK = 0.01
_KNEE_PLACES = 48
_SHORTEST = 1e-6
_DRAWS = 20000
_MOST_DRAWN = 40
"""With more settings than this the critical value hardly changes, so every other one is left out of the draws."""

Points = Sequence[tuple[float, Sequence[float]]]
"""Settings with their scores."""


class CurveShape(StrEnum):
    """What a curve may be called."""

    TOO_FEW = "too few settings"
    NOTHING_SEEN = "nothing seen yet"
    FLAT = "flat"
    STRAIGHT = "straight"
    PART = "part of it does not scale"
    KNEE = "knee"
    NEARLY_FLAT = "nearly flat above"
    CAPPED = "capped"
    PEAK = "peak"


@dataclass(frozen=True, slots=True)
class Elasticity:
    """Per cent of score per per cent of setting, with its 95 % range (nan with two settings), over `settings` settings."""

    slope: float
    low: float
    high: float
    settings: int


@dataclass(frozen=True, slots=True)
class Knee:
    """Where a curve bends, with the 95 % range of the place, and the slopes before and after it."""

    at: float
    low: float
    high: float
    before: float
    after: float


@dataclass(frozen=True, slots=True)
class CurveReading:
    """What a curve says: its shape, the slope over all settings and over the last third, its knee, its fixed share.

    `fixed_share` is the part of the work, at the lowest setting, that doesn't get faster with the knob.
    """

    shape: CurveShape
    whole: Elasticity | None
    last_third: Elasticity | None = None
    knee: Knee | None = None
    fixed_share: float | None = None


@dataclass(frozen=True, slots=True)
class Interaction:
    """How much more two changes bring together than apart, as a fraction with its 95 % range."""

    fraction: float
    low: float
    high: float

    @property
    def words(self) -> str:
        """Say it."""
        if self.low > 0.0:
            return say("they help each other")
        return (
            say("they hinder each other") if self.high < 0.0 else say("no sign that one changes what the other brings")
        )


def elasticity(points: Points, direction: Direction) -> Elasticity | None:
    """Fit the slope of log score on log setting through setting means; None below two different settings.

    Huber's fit with the t interval of the slope.
    """
    return _slope(*setting_means(points, direction))


def read_curve(points: Points, direction: Direction, cap: float | None = None) -> CurveReading:
    """Read a curve of settings above 0 with their scores; `cap` is a score the benchmark can't pass, where it has one."""
    x, y = setting_means(points, direction)
    whole = _slope(x, y)
    if len(x) < FEWEST_FOR_SHAPE or whole is None:
        return CurveReading(CurveShape.TOO_FEW, whole)
    third = max(3, math.ceil(len(x) / 3))
    last = _slope(x[-third:], y[-third:])
    fixed_share, part_rss = _part(x, y)
    knee = _knee(x, y, part_rss) if len(x) >= FEWEST_FOR_KNEE else None
    shape = _shape(points, direction, cap, whole, knee, x, y)
    if shape is CurveShape.STRAIGHT and part_rss < _line_rss(x, y):
        shape = CurveShape.PART
    return CurveReading(shape, whole, last, knee, fixed_share if shape is CurveShape.PART else None)


def at_cap(points: Points, cap: float | None) -> bool:
    """Tell whether every setting's mean sits at a known cap, so that the figures say nothing about the knob."""
    if cap is None:
        return False
    means = [float(np.mean(scores)) for _, scores in points if scores]
    return bool(means) and min(means) >= cap * CAP_SHARE


def in_proportion(value: float, score: float, first_value: float, first_score: float, direction: Direction) -> float:
    """Give the score ratio over the setting ratio: 1 where the score rises in proportion to the setting."""
    ratio = score / first_score if direction is Direction.HIGHER else first_score / score
    return ratio / (value / first_value)


def interaction(
    both: Sequence[float],
    first: Sequence[float],
    second: Sequence[float],
    neither: Sequence[float],
    direction: Direction,
) -> Interaction | None:
    """Compare what two changes bring together with what they bring apart, from the scores of the four settings.

    (both - first - second + neither) on logs, with the interval of Welch and Satterthwaite. None with under two passes
    anywhere.
    """
    sides = [turned_logs(list(scores), direction) for scores in (both, first, second, neither)]
    if any(len(side) < 2 for side in sides):
        return None
    signs = (1.0, -1.0, -1.0, 1.0)
    estimate = sum(sign * float(np.mean(side)) for sign, side in zip(signs, sides, strict=True))
    parts = [max(float(np.var(side, ddof=1)), LEAST_VARIATION**2) / len(side) for side in sides]
    degrees = sum(parts) ** 2 / sum(p * p / (len(side) - 1) for p, side in zip(parts, sides, strict=True))
    half = t_quantile(degrees) * math.sqrt(sum(parts))
    return Interaction(*(math.expm1(v) for v in (estimate, estimate - half, estimate + half)))


def setting_means(points: Points, direction: Direction) -> tuple[Array, Array]:
    """Give logs of settings, rising, with the mean log score of each; settings that aren't above 0 are left out."""
    pairs = np.array([(value, score) for value, scores in points for score in scores], dtype=np.float64).reshape(-1, 2)
    usable = pairs[(pairs[:, 0] > 0.0) & (pairs[:, 1] > 0.0) & np.isfinite(pairs[:, 1])]
    values, which = np.unique(usable[:, 0], return_inverse=True)
    logs = np.log(usable[:, 1])
    means = np.bincount(which, logs, len(values)) / np.bincount(which, minlength=len(values))
    return np.log(values), -means if direction is Direction.LOWER else means


def _slope(x: Array, y: Array) -> Elasticity | None:
    if len(x) < 2:
        return None
    if len(x) == 2:
        return Elasticity(float((y[1] - y[0]) / (x[1] - x[0])), math.nan, math.nan, 2)
    fitted = fit(np.stack([np.ones_like(x), x - x.mean()], axis=1), y, least_scale=LEAST_VARIATION)
    slope, error = fitted.contrast(np.array([0.0, 1.0]))
    half = t_quantile(fitted.degrees) * error
    return Elasticity(slope, slope - half, slope + half, len(x))


def _shape(
    points: Points, direction: Direction, cap: float | None, whole: Elasticity, knee: Knee | None, x: Array, y: Array
) -> CurveShape:
    middle = len(x) // 2
    lower, upper = _slope(x[: middle + 1], y[: middle + 1]), _slope(x[middle:], y[middle:])
    if knee is not None:
        beyond = x >= math.log(knee.at) - 1e-12
        if int(beyond.sum()) >= 3:
            upper = _slope(x[beyond], y[beyond])
        before = x <= math.log(knee.at) + 1e-12
        if int(before.sum()) >= 3:
            lower = _slope(x[before], y[before])
    if upper is not None and upper.high < 0.0:
        return CurveShape.PEAK
    if at_cap(points, cap):
        return CurveShape.CAPPED
    sits = cap is not None and math.exp(float(np.max(y))) >= cap * CAP_SHARE
    if sits and upper is not None and max(upper.high, -upper.low) < CAPPED_BELOW:
        return CurveShape.CAPPED
    if upper is not None and lower is not None and lower.low > max(upper.high, 0.0):
        if upper.high < CAPPED_BELOW and (sits or _bunched(points, direction, x, middle)):
            return CurveShape.CAPPED
        if upper.high < NEARLY_FLAT_BELOW:
            return CurveShape.NEARLY_FLAT
    if knee is not None:
        return CurveShape.KNEE
    if whole.low <= 0.0 <= whole.high:
        return CurveShape.FLAT if max(-whole.low, whole.high) < CAPPED_BELOW else CurveShape.NOTHING_SEEN
    return CurveShape.STRAIGHT


def _bunched(points: Points, direction: Direction, x: Array, middle: int) -> bool:
    """Tell whether passes of the upper half spread much less than those of the lower half, as figures at a cap do."""
    spreads: tuple[list[float], list[float]] = ([], [])
    for value, scores in points:
        logs = turned_logs(list(scores), direction)
        if value > 0.0 and len(logs) > 1:
            spreads[int(math.log(value) >= x[middle])].append(float(np.std(logs, ddof=1)))
    lower, upper = (float(np.median(side)) if side else math.nan for side in spreads)
    return upper < min(BUNCHED_SHARE * lower, BUNCHED_AT_MOST)


def _line_rss(x: Array, y: Array) -> float:
    centred = x - x.mean()
    slope = float(centred @ y) / float(centred @ centred)
    left = y - y.mean() - slope * centred
    return float(left @ left)


def _part(x: Array, y: Array) -> tuple[float, float]:
    """Fit score = c/(s + (1 - s) f0/f): the share s that doesn't scale (Amdahl 1967), and the sum of squares left."""
    shares, shapes = _part_shapes(x.tobytes())
    left = y - y.mean() - shapes
    rss = np.einsum("ij,ij->i", left, left)
    best = int(np.argmin(rss))
    return float(shares[best]), float(rss[best])


@lru_cache(maxsize=64)
def _part_shapes(settings: bytes) -> tuple[Array, Array]:
    """Give the shares that are tried, and for each the curve through settings less its mean, shape (shares, settings)."""
    x = np.frombuffer(settings, dtype=np.float64)
    shares = np.linspace(0.0, 1.0, 201)
    shapes = -np.log(shares[:, None] + (1.0 - shares[:, None]) * np.exp(x[0] - x)[None, :])
    return shares, shapes - shapes.mean(axis=1, keepdims=True)


def _places(x: Array) -> Array:
    """Places a knee may be at: two settings at least on either side."""
    return np.linspace(x[1], x[-2], _KNEE_PLACES)


@lru_cache(maxsize=64)
def _bends(settings: bytes) -> Array:
    """One unit column for each place, at right angles to a straight line, shape (settings, places).

    A place beyond which settings all but coincide has zeros: no bend can be told there.
    """
    x = np.frombuffer(settings, dtype=np.float64)
    line, _ = np.linalg.qr(np.stack([np.ones_like(x), x - x.mean()], axis=1))
    hinges = np.maximum(x[:, None] - _places(x)[None, :], 0.0)
    hinges = hinges - line @ (line.T @ hinges)
    length = np.linalg.norm(hinges, axis=0)
    return np.where(length > _SHORTEST, hinges / np.maximum(length, _SHORTEST), 0.0)


@lru_cache(maxsize=256)
def _knee_critical(places: tuple[float, ...]) -> float:
    """Give the F that a straight curve passes once in a hundred times with these settings, by simulation."""
    x = np.array(places)
    noise = np.random.default_rng(1).normal(size=(len(x), _DRAWS))
    line, _ = np.linalg.qr(np.stack([np.ones_like(x), x - x.mean()], axis=1))
    noise -= line @ (line.T @ noise)
    total = np.sum(noise**2, axis=0)
    explained = np.max((_bends(x.tobytes()).T @ noise) ** 2, axis=0)
    return float(np.quantile(explained / ((total - explained) / (len(x) - 4)), 1.0 - _KNEE_RISK))


def _knee(x: Array, y: Array, part_rss: float) -> Knee | None:
    """Find a knee by F at 1 % against the better of a line and a part that doesn't scale; None without a clear one."""
    bends = _bends(x.tobytes())
    line_rss = _line_rss(x, y)
    explained = (bends.T @ y) ** 2
    best = int(np.argmax(explained))
    degrees = len(x) - 4
    left = max(line_rss - float(explained[best]), LEAST_VARIATION**2 * degrees)
    start = min(line_rss, part_rss)
    scaled = np.round((x - x[0]) / (x[-1] - x[0]), 3)[:: max(1, len(x) // _MOST_DRAWN)]
    if (start - left) / (left / degrees) <= _knee_critical(tuple(scaled.tolist())):
        return None
    places = _places(x)
    allowed = left * (1.0 + t_quantile(degrees) ** 2 / degrees)
    possible = places[line_rss - explained <= allowed]
    columns = np.stack([np.ones_like(x), x - x.mean(), np.maximum(x - places[best], 0.0)], axis=1)
    _, before, change = np.linalg.lstsq(columns, y, rcond=None)[0]
    reach = (places[1] - places[0]) / 2.0
    at, low, high = (math.exp(v) for v in (places[best], possible.min() - reach, possible.max() + reach))
    return Knee(at, low, high, float(before), float(before + change))
