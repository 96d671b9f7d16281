"""How a quantity answers to settings: a straight line over features of them, with normal beliefs about every slope.

Bayesian linear regression with known noise (Rasmussen and Williams, Gaussian Processes for Machine Learning, 2006, chapter
2.1). What was never measured keeps what was believed of it beforehand, and says so by its spread.
"""

from __future__ import annotations

import numpy as np

from yondle.analysis.regression import Array

_FIRM = 1e12
"""How firmly a slope that can't be anything but its belief is held: what one over its variance comes to at most."""


class Answer:
    """What is believed of the slopes over some features, taught with sums of features and what was seen of them."""

    def __init__(self, before: Array, spread: Array) -> None:
        """Begin with what is believed beforehand: the middle and the standard deviation of every slope, shape (features,)."""
        precision = np.minimum(1.0 / np.maximum(spread, 1e-6) ** 2, _FIRM)
        self._precision = np.diag(precision)
        self._pull = precision * before
        self._solved: tuple[Array, Array] | None = None

    def learn(self, features: Array, seen: float, variance: float) -> None:
        """Take in that a sum over features, shape (features,), was seen with a variance."""
        self._precision += np.outer(features, features) / variance
        self._pull = self._pull + features * (seen / variance)
        self._solved = None

    def learn_all(self, features: Array, seen: Array, variances: Array) -> None:
        """Take in several, shapes (n, features), (n,), (n,)."""
        weighted = features / variances[:, None]
        self._precision += weighted.T @ features
        self._pull = self._pull + weighted.T @ seen
        self._solved = None

    @property
    def slopes(self) -> Array:
        """The middle of what is believed of every slope, shape (features,)."""
        return self._solve()[0]

    @property
    def covariance(self) -> Array:
        """How what is believed of the slopes hangs together, shape (features, features)."""
        return self._solve()[1]

    def middle(self, features: Array) -> Array:
        """Give the middle of what is expected, for features of shape (..., features)."""
        return np.asarray(features @ self.slopes)

    def spread(self, features: Array) -> Array:
        """Give the standard deviation of what is expected, for features of shape (..., features)."""
        variance = ((features @ self.covariance) * features).sum(axis=-1)
        return np.asarray(np.sqrt(np.maximum(variance, 0.0)))

    def _solve(self) -> tuple[Array, Array]:
        if self._solved is None:
            covariance = np.linalg.inv(self._precision)
            self._solved = np.asarray(covariance @ self._pull), np.asarray(covariance)
        return self._solved
