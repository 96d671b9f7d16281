"""What shape a curve of score against a knob has: straight, fading, with a knee, a plateau, a cap or a peak.

Over a short range many laws look alike, so a shape is named only where the settings exclude the others: a bend by tests that
straight curves pass once in a hundred times, a knee only where a smooth bend doesn't do as well, a part that doesn't scale
only where it does better than a bend with one coefficient more. What is left is told as what it is seen to be: a slope, or
gains that fade from one slope to another. As in `scaling`, everything is worked out on logarithms and setting means.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

import numpy as np

from yondle.analysis.caps import CAP_SHARE, Points, at_cap
from yondle.analysis.margins import LEAST_VARIATION, turned_logs
from yondle.analysis.regression import Array
from yondle.analysis.scaling import Elasticity, setting_means, slope_of
from yondle.analysis.student import t_quantile
from yondle.language.saying import later, named
from yondle.model.workloads import Direction

FLAT_BELOW = 0.1
"""A slope that is below this for sure is none to speak of."""
LITTLE_MORE, PLATEAU_SHARE = 0.015, 0.3
"""Next to nothing: less than this, as a fraction, is left over at least such a share of the range, up to its upper end."""
BUNCHED_SHARE, BUNCHED_AT_MOST = 0.4, 0.002
"""Passes bunch at a cap when they spread by less than this share of what they spread by below it, and by less than this.

The share alone isn't enough: where a limiter acts below, passes spread more there than where the machine is left alone.
"""
FEWEST_FOR_SHAPE, FEWEST_FOR_BEND, FEWEST_FOR_KNEE = 4, 5, 8
_SURE, _BOTH, _FOUND = 0.995, 0.9875, 0.9925
"""Quantiles: of a sign or a bound told as sure, of two ranges that hold together, of a place.

That of a place is wider than its 95 %, since only places that stand out are told, and these by chance seem more certain.
"""
_RISK = 0.005
_PLACES, _FINER = 48, 41
_SHORTEST = 1e-6
_DRAWS = 20000
_MOST_DRAWN = 40
"""With more settings than this the critical value hardly changes, so every other one is left out of the draws."""
_CURVED = 3.0
"""A knee's two sides are straight: two powers more explain less than this times the variance each."""
_LINE, _BEND, _SMOOTH = 2, 3, 4
"""Coefficients of a straight line, of one with a bend, and of the smooth curve that a knee has to do better than."""


class CurveShape(StrEnum):
    """What a curve may be called."""

    TOO_FEW = "too few settings"
    NOTHING_SEEN = "nothing seen yet"
    FLAT = "flat"
    STRAIGHT = "straight"
    FADES = "gains fade"
    GROWS = "gains grow"
    PART = "as if a part did not scale"
    KNEE = "knee"
    NEARLY_FLAT = "nearly flat above"
    CAPPED = "capped"
    PEAK = "peak"


@dataclass(frozen=True, slots=True)
class Knee:
    """Where a curve bends, with the 95 % range of the place, and the slopes before and after it."""

    at: float
    low: float
    high: float
    before: float
    after: float


@dataclass(frozen=True, slots=True)
class Plateau:
    """From which setting on next to nothing is left, and at most how much up to the highest, as a fraction."""

    above: float
    most: float


@dataclass(frozen=True, slots=True)
class FixedShare:
    """The part of the work, at the lowest setting, that a curve looks as if it didn't get faster, with its 95 % range."""

    share: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class CurveReading:
    """What a curve says: its shape, the slope over all settings and over its lower and upper thirds.

    The slopes of the thirds hold together with 95 % confidence. `knee` is there for a knee and for a peak, where it is the
    place that is best; `plateau` where next to nothing is left; `fixed` where a part looks as if it didn't scale.
    """

    shape: CurveShape
    whole: Elasticity | None
    lower: Elasticity | None = None
    upper: Elasticity | None = None
    knee: Knee | None = None
    plateau: Plateau | None = None
    fixed: FixedShare | None = None

    @property
    def place(self) -> float | None:
        """Where it bends, peaks or goes flat; None where it has no such place."""
        if self.knee is not None:
            return self.knee.at
        return self.plateau.above if self.plateau is not None else None

    @property
    def place_words(self) -> str:
        """Say what that place is."""
        return named(_PLACE_WORDS.get(self.shape, _KNEE))


_KNEE = later("knee")
_PLACE_WORDS = {
    CurveShape.PEAK: later("peak"),
    CurveShape.NEARLY_FLAT: later("plateau from"),
    CurveShape.CAPPED: later("cap from"),
}


def read_curve(points: Points, direction: Direction, cap: float | None = None) -> CurveReading:
    """Read a curve of settings above 0 with their scores; `cap` is a score the benchmark can't pass, where it has one."""
    x, y = setting_means(points, direction)
    whole = slope_of(x, y)
    if len(x) < FEWEST_FOR_SHAPE or whole is None:
        return CurveReading(CurveShape.TOO_FEW, whole)
    if at_cap(points, cap):
        return CurveReading(CurveShape.CAPPED, whole)
    curve = _Curve.of(x, y)
    third = max(3, math.ceil(len(x) / 3))
    lower, upper = curve.slope(0, third, _BOTH), curve.slope(len(x) - third, len(x), _BOTH)
    plateau, sits = curve.plateau(), _sits(x, y, cap)
    if sits is not None or (plateau is not None and _bunched(points, direction, plateau.above)):
        return CurveReading(CurveShape.CAPPED, whole, lower, upper, plateau=sits or plateau)
    if not curve.bent:
        shape = CurveShape.STRAIGHT
        if not whole.sure:
            shape = CurveShape.FLAT if max(-whole.low, whole.high) < FLAT_BELOW else CurveShape.NOTHING_SEEN
        return CurveReading(shape, whole, lower, upper)
    if (best := curve.peak()) is not None:
        return CurveReading(CurveShape.PEAK, whole, lower, upper, knee=best)
    if plateau is not None:
        return CurveReading(CurveShape.NEARLY_FLAT, whole, lower, upper, plateau=plateau)
    if (knee := curve.knee()) is not None:
        return CurveReading(CurveShape.KNEE, whole, lower, upper, knee=knee)
    if (fixed := curve.fixed_share()) is not None:
        return CurveReading(CurveShape.PART, whole, lower, upper, fixed=fixed)
    return CurveReading(CurveShape.FADES if upper.slope < lower.slope else CurveShape.GROWS, whole, lower, upper)


@dataclass(frozen=True, slots=True)
class _Curve:
    """Setting means of a curve with what straight, bent and hinged fits leave of them; `variance` is that of a mean.

    `hinges` is for every place, `sharp` for the best, `at`.
    """

    x: Array
    y: Array
    line: float
    bend: float
    hinges: Array
    sharp: float
    at: float
    variance: float
    degrees: int

    @classmethod
    def of(cls, x: Array, y: Array) -> _Curve:
        """Fit them; the spread of a mean is what the best of them leaves."""
        count = len(x)
        line, bend = (_left(_powers(x.tobytes(), n), y) for n in (_LINE, _BEND))
        hinges = line - (_bends(x.tobytes(), _LINE).T @ y) ** 2
        fits, sharp, at = [(bend, count - 3)], math.inf, math.nan
        if count >= FEWEST_FOR_KNEE:
            sharp, at = _sharpest(x, y, int(np.argmin(hinges)))
            fits.append((sharp, count - 4))
        left, degrees = min(fits, key=lambda fit: fit[0] / max(fit[1], 1))
        return cls(x, y, line, bend, hinges, sharp, at, max(left / degrees, LEAST_VARIATION**2), degrees)

    @property
    def bent(self) -> bool:
        """Tell whether a straight line is excluded, by a smooth bend or by a sharp one."""
        count = len(self.x)
        if count < FEWEST_FOR_BEND:
            return False
        left = max(self.bend, LEAST_VARIATION**2 * (count - 3))
        if (self.line - self.bend) / (left / (count - 3)) > t_quantile(count - 3, 1.0 - _RISK / 2.0) ** 2:
            return True
        if count < FEWEST_FOR_KNEE:
            return False
        left = max(float(self.hinges.min()), LEAST_VARIATION**2 * (count - 4))
        return (self.line - left) / (left / (count - 4)) > _critical(_scaled(self.x), _LINE)

    def slope(self, first: int, end: int, quantile: float = 0.975) -> Elasticity:
        """Give the slope over some settings, its range by what the fits of all settings leave."""
        x, y = self.x[first:end], self.y[first:end]
        centred = x - x.mean()
        spread = float(centred @ centred)
        slope = float(centred @ y) / spread
        half = t_quantile(self.degrees, quantile) * math.sqrt(self.variance / spread)
        return Elasticity(slope, slope - half, slope + half, end - first)

    def plateau(self) -> Plateau | None:
        """Find a low setting from which next to nothing is left up to the highest; None where more was never gained.

        The lowest that may be one looks best by chance, so that the next one is told.
        """
        found: list[Plateau] = []
        for first in range(len(self.x) - 3, 1, -1):
            above = self.slope(first, len(self.x), _SURE)
            most = above.high * float(self.x[-1] - self.x[first])
            if not 0.0 <= most < LITTLE_MORE:
                break
            wide = self.x[-1] - self.x[first] >= PLATEAU_SHARE * (self.x[-1] - self.x[0])
            if wide and self.slope(0, first + 1, _SURE).low > max(above.high, 0.0):
                found.append(Plateau(math.exp(float(self.x[first])), math.expm1(most)))
        return found[-2:][0] if found else None

    def peak(self) -> Knee | None:
        """Find a place between rising and falling that are both sure; None without one."""
        c = np.linalg.lstsq(_columns(self.x, _BEND), self.y, rcond=None)[0]
        knee = self._hinge() if self.sharp < self.bend else None
        if knee is None:
            if c[2] >= 0.0:
                return None
            at = self.x.mean() - c[1] / (2.0 * c[2])
            design = np.linalg.inv(_columns(self.x, _BEND).T @ _columns(self.x, _BEND))
            turn = np.array([0.0, -1.0 / (2.0 * c[2]), c[1] / (2.0 * c[2] ** 2)])
            half = t_quantile(self.degrees, _FOUND) * math.sqrt(self.variance * float(turn @ design @ turn))
            knee = Knee(math.exp(at), math.exp(at - half), math.exp(at + half), math.nan, math.nan)
        below, above = (
            int(np.sum(self.x <= math.log(knee.low) + 1e-9)),
            int(np.sum(self.x < math.log(knee.high) - 1e-9)),
        )
        if min(below, len(self.x) - above) < 3:
            return None
        rising, falling = self.slope(0, below, _SURE), self.slope(above, len(self.x), _SURE)
        if rising.low <= 0.0 or falling.high >= 0.0:
            return None
        return Knee(knee.at, knee.low, knee.high, rising.slope, falling.slope)

    def knee(self) -> Knee | None:
        """Find a knee that no smooth curve does as well as, and that needs no smooth bend beside it; None without one."""
        count = len(self.x)
        if count < FEWEST_FOR_KNEE:
            return None
        smooth = _left(_powers(self.x.tobytes(), _SMOOTH), self.y)
        explained = float(np.max((_bends(self.x.tobytes(), _SMOOTH).T @ self.y) ** 2))
        each = max(smooth - explained, LEAST_VARIATION**2 * (count - 6)) / (count - 6)
        curved = self.sharp - (smooth - explained)
        if explained / each <= _critical(_scaled(self.x), _SMOOTH) or curved / 2.0 > _CURVED * each:
            return None
        return self._hinge()

    def _hinge(self) -> Knee:
        places, degrees = _places(self.x), len(self.x) - 4
        least = max(self.sharp, LEAST_VARIATION**2 * degrees)
        possible = np.append(self.at, places[self.hinges <= least * (1.0 + t_quantile(degrees, _FOUND) ** 2 / degrees)])
        columns = np.column_stack((_columns(self.x, _LINE), np.maximum(self.x - self.at, 0.0)))
        _, before, change = np.linalg.lstsq(columns, self.y, rcond=None)[0]
        reach = (places[1] - places[0]) / 2.0
        low = float(self.x[0]) if possible.min() <= places[0] else float(possible.min() - reach)
        high = float(self.x[-1]) if possible.max() >= places[-1] else float(possible.max() + reach)
        return Knee(math.exp(self.at), math.exp(low), math.exp(high), float(before), float(before + change))

    def fixed_share(self) -> FixedShare | None:
        """Fit score = c/(s + (1 - s) f0/f) (Amdahl 1967); None where a bend that has more coefficients leaves less for each."""
        shares, shapes = _part_shapes(self.x.tobytes())
        left = np.einsum("ij,ij->i", self.y - self.y.mean() - shapes, self.y - self.y.mean() - shapes)
        best, degrees = int(np.argmin(left)), len(self.x) - 2
        if left[best] / degrees > self.variance and left[best] > LEAST_VARIATION**2 * degrees:
            return None
        least = max(float(left[best]), LEAST_VARIATION**2 * degrees)
        possible = shares[left <= least * (1.0 + t_quantile(degrees) ** 2 / degrees)]
        reach = float(shares[1] - shares[0])
        low, high = float(possible.min()) - reach, float(possible.max()) + reach
        return FixedShare(float(shares[best]), max(low, 0.0), min(high, 1.0)) if low > 0.0 else None


def _sits(x: Array, y: Array, cap: float | None) -> Plateau | None:
    """Find from which setting on a curve sits at a known cap; None with less than two of them at its upper end."""
    below = np.flatnonzero(np.exp(y) < cap * CAP_SHARE) if cap is not None else np.arange(len(x))
    first = int(below[-1]) + 1 if len(below) else 0
    return Plateau(math.exp(float(x[first])), 0.0) if first < len(x) - 1 else None


def _bunched(points: Points, direction: Direction, above: float) -> bool:
    """Tell whether passes of a plateau spread much less than those below it, as figures at a cap do."""
    spreads: tuple[list[float], list[float]] = ([], [])
    for value, scores in points:
        logs = turned_logs(list(scores), direction)
        if value > 0.0 and len(logs) > 1:
            spreads[int(value >= above * (1.0 - _SHORTEST))].append(float(np.std(logs, ddof=1)))
    lower, upper = (float(np.median(side)) if side else math.nan for side in spreads)
    return upper < min(BUNCHED_SHARE * lower, BUNCHED_AT_MOST)


def _columns(x: Array, count: int) -> Array:
    """Powers of the setting less its mean, shape (settings, count)."""
    return np.vander(x - x.mean(), count, increasing=True)


@lru_cache(maxsize=64)
def _powers(settings: bytes, count: int) -> Array:
    """The same at right angles to each other, each of length 1."""
    return np.asarray(np.linalg.qr(_columns(np.frombuffer(settings, dtype=np.float64), count))[0])


def _left(columns: Array, y: Array) -> float:
    """What columns at right angles leave of y, as a sum of squares."""
    left = y - columns @ (columns.T @ y)
    return float(left @ left)


@lru_cache(maxsize=64)
def _part_shapes(settings: bytes) -> tuple[Array, Array]:
    """Give the shares that are tried, and for each the curve through settings less its mean, shape (shares, settings)."""
    x = np.frombuffer(settings, dtype=np.float64)
    shares = np.linspace(0.0, 1.0, 201)
    shapes = -np.log(shares[:, None] + (1.0 - shares[:, None]) * np.exp(x[0] - x)[None, :])
    return shares, shapes - shapes.mean(axis=1, keepdims=True)


def _sharpest(x: Array, y: Array, near: int) -> tuple[float, float]:
    """Find the place of the best sharp bend between the neighbours of a place; gives what it leaves, and where it is."""
    places = _places(x)
    tried = np.linspace(places[max(near - 1, 0)], places[min(near + 1, _PLACES - 1)], _FINER)
    line = _powers(x.tobytes(), _LINE)
    left = _left(line, y) - (_beside(x, tried, line).T @ y) ** 2
    best = int(np.argmin(left))
    return max(float(left[best]), 0.0), float(tried[best])


def _places(x: Array) -> Array:
    """Places a knee may be at: two settings at least on either side."""
    return np.linspace(x[1], x[-2], _PLACES)


@lru_cache(maxsize=64)
def _bends(settings: bytes, beside: int) -> Array:
    """A bend at each of the places a knee may be at, beside so many powers."""
    x = np.frombuffer(settings, dtype=np.float64)
    return _beside(x, _places(x), _powers(settings, beside))


def _beside(x: Array, places: Array, powers: Array) -> Array:
    """One unit column for a bend at each place, at right angles to powers beside it, shape (settings, places).

    A place beyond which settings all but coincide has zeros: no bend can be told there.
    """
    hinges = np.maximum(x[:, None] - places[None, :], 0.0)
    hinges = hinges - powers @ (powers.T @ hinges)
    length = np.linalg.norm(hinges, axis=0)
    return np.where(length > _SHORTEST, hinges / np.maximum(length, _SHORTEST), 0.0)


def _scaled(x: Array) -> tuple[float, ...]:
    """Settings as places from 0 to 1, with some left out where there are many."""
    return tuple(np.round((x - x[0]) / (x[-1] - x[0]), 3)[:: max(1, len(x) // _MOST_DRAWN)].tolist())


@lru_cache(maxsize=256)
def _critical(places: tuple[float, ...], beside: int) -> float:
    """Give the F that a sharp bend beside some powers passes by chance with the risk of a bend, by simulation."""
    x = np.array(places)
    noise = np.random.default_rng(1).normal(size=(len(x), _DRAWS))
    powers = _powers(x.tobytes(), beside)
    noise -= powers @ (powers.T @ noise)
    total = np.sum(noise**2, axis=0)
    explained = np.max((_bends(x.tobytes(), beside).T @ noise) ** 2, axis=0)
    free = len(x) - beside - 2
    return float(np.quantile(explained / ((total - explained) / free), 1.0 - _RISK))
