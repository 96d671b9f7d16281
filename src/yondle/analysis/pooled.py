"""Gains of many settings at once over a common baseline: one robust regression with drift, and margins that hold for all.

One pooled regression of log score (turned so that up is better) on baseline level, one column for each setting, and time.
Its margins are simultaneous: with 95 % confidence all of them hold together, since the best of eight looks better than
it is (Dunnett 1955, J. Am. Stat. Assoc. 50; Bonferroni where the settings' errors are tied together otherwise).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.margins import LEAST_VARIATION, POWER, Gain, gain_from
from yondle.analysis.regression import Array, huber
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

CONFIDENCE = 0.95
LEAST_SPARE = 3
"""Readings needed beyond the columns of the regression."""
DRIFT_TOLD = 0.2
"""Drift is told apart from the settings when this share of the spread of time lies inside settings."""
TIED = 0.1
"""Differences count as tied together by drift when it makes up more than this share of their variance."""


@dataclass(frozen=True, slots=True)
class Reading:
    """One pass: which setting it was made at (0 is the baseline), when in seconds, and its score."""

    setting: int
    at_s: float
    score: float


@dataclass(frozen=True, slots=True)
class Drift:
    """Change of the score per hour as a fraction, up is better, with its 95 % range."""

    per_hour: float
    low: float
    high: float

    @property
    def found(self) -> bool:
        """Tell whether there is one."""
        return self.low > 0.0 or self.high < 0.0


@dataclass(frozen=True, slots=True)
class Pooled:
    """Gains by setting, the drift if it could be told apart, the coefficient of variation of one pass, and outliers.

    `critical` is the factor on standard errors that made the margins, `degrees` their degrees of freedom.
    """

    gains: dict[int, Gain]
    drift: Drift | None
    variation: float
    outliers: int
    critical: float
    degrees: int


def pooled_gains(readings: Iterable[Reading], direction: Direction, together: bool = True) -> Pooled | None:
    """Give the gain of every setting over the baseline; None when there are too few readings for it.

    Margins hold for all settings `together`, or each for itself. Scores that aren't positive numbers are left out.
    """
    usable = [r for r in readings if math.isfinite(r.score) and r.score > 0.0]
    settings = sorted({r.setting for r in usable} - {0})
    if not settings or not any(r.setting == 0 for r in usable):
        return None
    sign = 1.0 if direction is Direction.HIGHER else -1.0
    layout = _Layout.of([r.setting for r in usable], np.array([r.at_s for r in usable]))
    degrees = len(usable) - layout.columns
    if degrees < LEAST_SPARE:
        return None
    logs = sign * np.log([r.score for r in usable])
    settled = huber(logs, layout.project, layout.columns, least_scale=LEAST_VARIATION)
    levels, slope = layout.solve(settled.fitted)
    errors = np.sqrt(settled.variance * layout.difference_variances())
    alone = t_quantile(degrees)
    critical = simultaneous_t(layout.loads(), degrees, count=len(settings)) if together else alone
    gains = {
        setting: gain_from(
            float(levels[at] - levels[0]),
            critical * float(error),
            (critical + t_quantile(degrees, POWER)) * float(error),
            int(layout.counts[at]),
            int(layout.counts[0]),
        )
        for at, (setting, error) in enumerate(zip(settings, errors, strict=True), start=1)
    }
    drift = None
    if layout.drifts:
        half = alone * math.sqrt(settled.variance / layout.inside)
        drift = Drift(*(math.expm1(3600.0 * v) for v in (slope, slope - half, slope + half)))
    return Pooled(gains, drift, math.sqrt(settled.variance), settled.outside, critical, degrees)


def simultaneous_t(loads: Array | None, degrees: int, confidence: float = CONFIDENCE, count: int = 1) -> float:
    """Give the factor on standard errors that makes the margins of many gains over one baseline hold together.

    `loads` (k,) as in `dunnett_t`; None where errors are tied together otherwise: then Bonferroni's for `count` gains.
    """
    count = len(loads) if loads is not None else count
    if count == 1:
        return t_quantile(degrees, (1.0 + confidence) / 2.0)
    bonferroni = t_quantile(degrees, 1.0 - (1.0 - confidence) / (2.0 * count))
    if loads is None:
        return bonferroni
    return min(dunnett_t(tuple(np.round(np.sort(loads), 3).tolist()), degrees, confidence), bonferroni)


@lru_cache(maxsize=512)
def dunnett_t(loads: tuple[float, ...], degrees: int, confidence: float = CONFIDENCE) -> float:
    """Give the two-sided critical value of Student's t for many comparisons with one baseline.

    `loads` are the b of the correlations b_i·b_j; with n passes each and m of the baseline b = 1/√(1 + m/n). The double
    integral of Dunnett (1955) is taken by Gauss quadrature.
    """
    from scipy.special import chdtri, gammaln, ndtr

    b, counts = np.unique(np.array(loads), return_counts=True)
    root = np.sqrt(1.0 - b * b)
    z, z_weight = np.polynomial.hermite_e.hermegauss(48)
    z_weight = z_weight / math.sqrt(2.0 * math.pi)
    least, most = (math.sqrt(chdtri(degrees, q) / degrees) for q in (1.0 - 1e-10, 1e-10))
    x, x_weight = np.polynomial.legendre.leggauss(48)
    s = least + (x + 1.0) / 2.0 * (most - least)
    half = degrees / 2.0
    log_density = math.log(2.0) + half * math.log(half) - gammaln(half) + (degrees - 1.0) * np.log(s) - half * s * s
    s_weight = x_weight * (most - least) / 2.0 * np.exp(log_density)

    def short_by(critical: float) -> float:
        reach = critical * s[:, None, None]
        shift = b * z[:, None]
        inside = ndtr((reach + shift) / root) - ndtr((shift - reach) / root)
        together = np.prod(inside**counts, axis=2)
        return float(s_weight @ together @ z_weight) - confidence

    low, high = 1.0, 60.0
    while high - low > 1e-6:
        middle = (low + high) / 2.0
        low, high = (middle, high) if short_by(middle) < 0.0 else (low, middle)
    return high


@dataclass(frozen=True, slots=True)
class _Layout:
    """One level for each setting and, where it can be told apart, a slope over time: least squares in closed form.

    `places` (n,) is the setting of each reading counted from 0, `apart` (n,) its seconds from the mean time of its setting,
    `inside` the sum of their squares.
    """

    places: NDArray[np.intp]
    counts: Array
    mean_times: Array
    apart: Array
    inside: float
    drifts: bool

    @classmethod
    def of(cls, settings: list[int], times: Array) -> _Layout:
        """Lay out readings."""
        places = np.unique(np.array(settings), return_inverse=True)[1]
        counts = np.bincount(places).astype(np.float64)
        mean_times = np.bincount(places, times) / counts
        apart = times - mean_times[places]
        inside, total = float(apart @ apart), float(np.sum((times - times.mean()) ** 2))
        return cls(places, counts, mean_times, apart, inside, total > 0.0 and inside >= DRIFT_TOLD * total)

    @property
    def columns(self) -> int:
        """Columns of the regression."""
        return len(self.counts) + self.drifts

    def solve(self, values: Array) -> tuple[Array, float]:
        """Give the level of every setting, all at one time, and the slope per second."""
        slope = float(self.apart @ values) / self.inside if self.drifts else 0.0
        return np.bincount(self.places, values) / self.counts - slope * self.mean_times, slope

    def project(self, values: Array) -> Array:
        """Give the least-squares fit of values."""
        slope = float(self.apart @ values) / self.inside if self.drifts else 0.0
        return np.asarray((np.bincount(self.places, values) / self.counts)[self.places] + slope * self.apart)

    def difference_variances(self) -> Array:
        """Variances of the differences to the baseline, in units of that of a reading."""
        return np.asarray(1.0 / self.counts[1:] + 1.0 / self.counts[0] + self._lever() ** 2)

    def loads(self) -> Array | None:
        """Give b with correlations b_i·b_j of the differences; None where drift ties them together otherwise."""
        if len(self.counts) > 2 and float(np.ptp(self._lever())) ** 2 > TIED * float(self.difference_variances().min()):
            return None
        return np.asarray(np.sqrt(1.0 / self.counts[0] / self.difference_variances()))

    def _lever(self) -> Array:
        """What an error of the slope does to each difference."""
        if not self.drifts:
            return np.zeros(len(self.counts) - 1)
        return np.asarray((self.mean_times[1:] - self.mean_times[0]) / math.sqrt(self.inside))
