"""Linear regression that outliers can't bend far, with an honest covariance.

Huber's M-estimator (Huber and Ronchetti, Robust Statistics, 2nd ed., ch. 7): residuals beyond `bend` scales count as if
they lay at it. Scale is the median absolute residual made consistent for the normal distribution. Without outliers the fit
and its covariance are those of least squares.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yondle.language.saying import say

Array = NDArray[np.float64]

BEND = 2.0
_CONSISTENT = 1.4826
_MOST_TURNS = 200
_SETTLED = 1e-9


@dataclass(frozen=True, slots=True)
class Fit:
    """A fit of n readings with p columns: coefficients (p,), their covariance (p, p), degrees of freedom, residuals (n,)."""

    coefficients: Array
    covariance: Array
    degrees: int
    residuals: Array

    def contrast(self, weights: Array) -> tuple[float, float]:
        """Give a weighted sum of coefficients and its standard error."""
        variance = float(weights @ self.covariance @ weights)
        return float(weights @ self.coefficients), math.sqrt(max(variance, 0.0))


@dataclass(frozen=True, slots=True)
class SettledFit:
    """Where Huber's turns end: fitted values (n,), the scale of a reading, and the variance that multiplies (XᵀX)⁻¹.

    `outside` counts the readings that were weighed down.
    """

    fitted: Array
    scale: float
    variance: float
    outside: int


def fit(design: Array, values: Array, bend: float = BEND, least_scale: float = 0.0) -> Fit:
    """Fit values (n,) on the columns of a design (n, p); `bend` of infinity is least squares.

    `least_scale` is a standard deviation that readings have at least, as when they are rounded: a fit never claims to be
    more exact. Raises ValueError when the columns can't be told apart or there is no reading to spare.
    """
    n, p = design.shape
    if n <= p:
        raise ValueError(say("{n} readings can't be fitted with {p} columns", n=n, p=p))
    q, inverse = _decomposed(design.tobytes(), n, p)
    settled = huber(values, lambda v: np.asarray(q @ (q.T @ v)), p, bend, least_scale)
    coefficients = inverse @ (q.T @ settled.fitted)
    return Fit(coefficients, settled.variance * (inverse @ inverse.T), n - p, values - settled.fitted)


@lru_cache(maxsize=64)
def _decomposed(design: bytes, n: int, p: int) -> tuple[Array, Array]:
    """Give Q and the inverse of R of a design; many readings are fitted on the same one."""
    q, r = np.linalg.qr(np.frombuffer(design, dtype=np.float64).reshape(n, p))
    size = np.abs(np.diag(r))
    if np.min(size) <= np.max(size) * n * np.finfo(float).eps:
        raise ValueError(say("columns of the design depend on each other"))
    return q, np.linalg.inv(r)


def huber(
    values: Array, project: Callable[[Array], Array], columns: int, bend: float = BEND, least_scale: float = 0.0
) -> SettledFit:
    """Take Huber's turns for values (n,); `project` gives the least-squares fit of any values on the `columns` columns.

    Covariance after Huber (1973, Ann. Statist. 1): K²·Σψ²/(n - p)/m² with m the share inside the bend.
    """
    n = len(values)
    fitted = project(values)
    scale = _scale(values - fitted, columns, least_scale)
    for _ in range(_MOST_TURNS if math.isfinite(bend) else 0):
        residuals = values - fitted
        if float(np.max(np.abs(residuals))) <= bend * scale:
            break
        change = project(np.clip(residuals, -bend * scale, bend * scale))
        fitted = fitted + change
        before, scale = scale, _scale(values - fitted, columns, least_scale)
        if float(np.max(np.abs(change))) <= _SETTLED * scale and abs(scale - before) <= _SETTLED * scale:
            break
    residuals = values - fitted
    reach = bend * scale if scale > 0.0 else math.inf
    share = float(np.mean(np.abs(residuals) <= reach))
    bent = np.clip(residuals, -reach, reach)
    correction = 1.0 + columns / n * (1.0 - share) / share
    variance = max(float(bent @ bent) / (n - columns), least_scale**2) * (correction / share) ** 2
    return SettledFit(fitted, scale, variance, round(n * (1.0 - share)))


def _scale(residuals: Array, columns: int, least: float) -> float:
    n = len(residuals)
    ordered = np.sort(np.abs(residuals))
    median = float(ordered[(n - 1) // 2] + ordered[n // 2]) / 2.0
    return max(_CONSISTENT * median * math.sqrt(n / (n - columns)), least)
