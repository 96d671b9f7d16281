"""What edges tell of each other: a line of them over a second knob, and those of several loads on the same chip.

The line is a polynomial of third degree whose coefficients are normal beforehand, smaller for higher degrees (Bayesian
linear regression; Rasmussen and Williams, Gaussian Processes for Machine Learning, 2006, chapter 2.1), and each edge may
lie a little off it. The width is the chip's: it is taken to be nearly the same everywhere.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from copy import copy

import numpy as np

from yondle.analysis.hazards import BelievedHazards, Hazards
from yondle.analysis.hold import Believed
from yondle.analysis.regression import Array

_SHARES = (1.0, 0.5, 0.17, 0.05)
"""How large the coefficients may be, as shares of the first knob's range; the second knob runs from -1 to 1."""
_OFF_LINE_NOTCHES = 0.5
_LOADS_DIFFER = 0.06
"""How far apart two loads' edges are beforehand, as a share of the knob's range (one standard deviation)."""
_WIDTHS_DIFFER = 0.3
"""How much the logarithm of the width may differ from value to value (one standard deviation)."""


def expected(found: list[tuple[float, Believed]], place: float, notches: int, before: Believed) -> Believed:
    """Give what is expected at a place of the second knob from what is believed at others.

    Places run from -1 to 1 over the values asked for, `notches` is the range of the first knob, and `before` what is
    believed of a knob nothing was tried of.
    """
    places, middle = np.array([at for at, _ in found]), notches / 2.0
    edges = np.array([b.edge for _, b in found])
    noise = np.array([b.edge_spread**2 + _OFF_LINE_NOTCHES**2 for _, b in found])
    seen, here = _basis(places, notches), _basis(np.array([place]), notches)[0]
    together = seen @ here
    gain = np.linalg.solve(seen @ seen.T + np.diag(noise), together)
    variance = here @ here - together @ gain + _OFF_LINE_NOTCHES**2
    width, spread = _width([b for _, b in found], before)
    return Believed(float(middle + gain @ (edges - middle)), float(np.sqrt(variance)), width, spread)


def told_by_others(loads: Sequence[Hazards]) -> list[Hazards]:
    """Give what is believed of each load's hazards, each told what the others have found; the loads themselves stay apart."""
    if len(loads) == 1:
        return list(loads)
    found = [load.middle() for load in loads]
    told = []
    for number, load in enumerate(loads):
        others = [b for at, b in enumerate(found) if at != number and loads[at].tests]
        believed = copy(load)
        if others:
            corrected = [b.corrected for b in others if b.corrected is not None]
            before, notches = load.fatal.before, load.notches
            there = alike([b.fatal for b in others], notches, before)
            believed.expect(BelievedHazards(there, alike(corrected, notches, before) if corrected else None))
        told.append(believed)
    return told


def alike(others: list[Believed], notches: int, before: Believed) -> Believed:
    """Give what is expected of one load's edge from what is believed of other loads on the same chip, told apart by load."""
    trust = [1.0 / (b.edge_spread**2 + (_LOADS_DIFFER * notches) ** 2) for b in others]
    edge = sum(t * b.edge for t, b in zip(trust, others, strict=True)) / sum(trust)
    width, spread = _width(others, before)
    return Believed(edge, 1.0 / math.sqrt(max(trust)), width, spread)


def _basis(places: Array, notches: int) -> Array:
    return np.asarray(np.vander(places, len(_SHARES), increasing=True) * np.array(_SHARES) * notches)


def _width(found: list[Believed], before: Believed) -> tuple[float, float]:
    """Pool what was learnt of the width beyond what was believed of it before anything was tried."""
    known = 1.0 / before.log_width_spread**2
    learnt = [max(0.0, 1.0 / b.log_width_spread**2 - known) for b in found]
    if not sum(learnt):
        return before.log_width, 1.0 / math.sqrt(known)
    mean = sum(p * b.log_width for p, b in zip(learnt, found, strict=True)) / sum(learnt)
    return mean, math.sqrt(1.0 / sum(learnt) + _WIDTHS_DIFFER**2)
