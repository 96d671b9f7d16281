"""Settings as numbers: what a quantity is taken to answer to in straight lines."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from yondle.analysis.regression import Array
from yondle.model.knobs import Knob, Setup
from yondle.model.rigs import RigDeclaration

_BENDS, _OF_CLOCKS = (0.5,), (0.25, 0.5)
"""Where what answers to a knob may bend, as shares of its reach: more often for what scores can be in proportion to."""


class Features:
    """Settings as numbers: for every knob its place from stock, on logs where it has a size, with bends on either side.

    Settings are rows of values in the order of the rig's knobs, shape (settings, knobs).
    """

    def __init__(self, declaration: RigDeclaration) -> None:
        self.knobs = declaration.knobs
        self.at = {knob.id: i for i, knob in enumerate(self.knobs)}
        self.stock = np.array([knob.stock for knob in self.knobs])
        self.columns: list[tuple[Knob, str, float]] = []
        for knob in declaration.knobs:
            if knob.choices:
                self.columns += [(knob, "choice", float(i)) for i in range(len(knob.choices)) if i != knob.stock]
                continue
            low, high = declaration.own_range(knob)
            self.columns.append((knob, "line", 0.0))
            up, down = self.place(knob, high), self.place(knob, low)
            bends = _OF_CLOCKS if knob.proportional else _BENDS
            self.columns += [(knob, "above", up * share) for share in bends if up > 0.0]
            self.columns += [(knob, "below", down * share) for share in bends if down < 0.0]
        self._of_column = np.array([self.at[knob.id] for knob, _, _ in self.columns], dtype=np.intp)
        self._kinds = np.array([("line", "above", "below", "choice").index(kind) for _, kind, _ in self.columns])
        self._bends = np.array([at for _, _, at in self.columns])
        self._logged = np.array([self.logs(knob) for knob in self.knobs])
        self._spans = np.array([max(knob.high - knob.low, 1e-12) for knob in self.knobs])
        self._without = {knob.id: np.flatnonzero(self._of_column != i) for i, knob in enumerate(self.knobs)}

    @staticmethod
    def logs(knob: Knob) -> bool:
        """Tell whether a knob's values are taken as logs: they are sizes above nothing."""
        return not knob.choices and knob.low > 0.0 and knob.stock > 0.0

    @classmethod
    def place(cls, knob: Knob, value: float) -> float:
        """Give how far a value is from stock: as a logarithm, or as a share of the range."""
        if cls.logs(knob):
            return math.log(value / knob.stock)
        return (value - knob.stock) / (knob.high - knob.low) if knob.high > knob.low else 0.0

    def row(self, setup: Mapping[str, float]) -> Array:
        """Give a setup as a row of values, stock where it says nothing."""
        return np.array([setup.get(knob.id, knob.stock) for knob in self.knobs])

    def setup(self, row: Array, like: Setup) -> Setup:
        """Give a row of values as a setup; what is no knob now stays as in another one."""
        return like.with_values({knob.id: float(value) for knob, value in zip(self.knobs, row, strict=True)})

    def of(self, rows: Array) -> Array:
        """Give the features of settings, shape (settings, features)."""
        ratio = np.where(self._logged, np.maximum(rows, 1e-9) / np.where(self._logged, self.stock, 1.0), 1.0)
        places = np.where(self._logged, np.log(ratio), (rows - self.stock) / self._spans)[:, self._of_column]
        values, beyond = rows[:, self._of_column], places - self._bends
        kinds = self._kinds
        found = np.where(kinds == 1, np.maximum(beyond, 0.0), np.where(kinds == 2, np.minimum(beyond, 0.0), places))
        return np.asarray(np.where(kinds == 3, values == self._bends, found), dtype=np.float64)

    def others(self, knob: Knob, features: Array) -> Array:
        """Leave out the features of one knob, along the last axis."""
        return np.asarray(features[..., self._without[knob.id]])

    def along(self, row: Array, knob: Knob, values: Array) -> Array:
        """Give a setting with each of these values of one knob, shape (values, knobs)."""
        rows = np.repeat(row[None, :], len(values), axis=0)
        rows[:, self.at[knob.id]] = values
        return rows

    def of_setup(self, setup: Setup) -> Array:
        """Give the features of one setup, shape (features,)."""
        return np.asarray(self.of(self.row(setup)[None, :])[0])
