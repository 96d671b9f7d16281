"""The setting that is expected to serve a goal best, found knob by knob, enablers always together with what they free."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yondle.analysis.regression import Array
from yondle.model.knobs import Knob, Risk, Setup
from yondle.planning.goals.ground import Ground

LEAST_BETTER, WORTH_A_CHANGE = 1e-4, 2e-3
"""A better setting is better by so much, on logs; and a change of one more knob has to bring so much."""
_MOST_SPACED, _MOST_FOLLOWED, _MOST_ROUNDS, _ALL = 9, 25, 3, 1000
MOST_TOGETHER = 3
"""While enablers are looked at so many followers move along, those that bring most; all of them do in the end."""


def optimum(ground: Ground, here: Setup, knobs: Sequence[Knob] | None = None) -> Setup:
    """Give the setup that is expected to serve the goal best with some knobs moved, all that may be without.

    It is looked for from here, and from where every limit and all cooling are as high as they go: an enabler alone brings
    nothing. Changes that bring hardly anything are taken back.
    """
    movable = ground.movable if knobs is None else list(knobs)
    followers = [k for k in ground.followers if k in movable]
    others = [k for k in movable if k in ground.enablers and ground.concerns(k)]
    start = ground.features.row(here)
    climbed = [_climbed(ground, row, followers[:MOST_TOGETHER], others) for row in _starts(ground, start, others)]
    best, value = max(climbed, key=lambda each: each[1])
    best, value = _followed(ground, best[None, :], followers, _ALL)
    return ground.features.setup(_pruned(ground, best, value, start, followers), here)


def followed(ground: Ground, here: Setup, followers: Sequence[Knob]) -> Setup:
    """Give a setup with some knobs that have an edge where they serve the goal best, by what is believed of the edges."""
    best, _ = _followed(ground, ground.features.row(here)[None, :], followers, _ALL)
    return ground.features.setup(best, here)


def best_value(ground: Ground, here: Setup, knob: Knob, at_most: float | None = None) -> float:
    """Give the value of one knob that serves the goal best with all else as it is, edges left aside, limits kept.

    With `at_most` none is riskier than that.
    """
    values = ground.reach(knob)
    if at_most is not None:
        values = values[values <= at_most + 1e-9] if knob.risk is Risk.UP else values[values >= at_most - 1e-9]
    if not len(values):
        return here[knob.id]
    seen = ground.look(ground.features.along(ground.features.row(here), knob, values))
    utility = ground.utility(seen) - np.where(ground.limits.over(seen.rows, seen.features) > 0.0, 1.0, 0.0)
    return float(values[int(np.argmax(utility))])


def _starts(ground: Ground, start: Array, others: Sequence[Knob]) -> list[Array]:
    """Give where to look from: here, and with every limit and all cooling as high as they go."""
    free = start.copy()
    for knob in others:
        if knob.governs and not knob.choices:
            free[ground.features.at[knob.id]] = ground.reach(knob)[-1]
    return [start] if np.array_equal(free, start) else [start, free]


def _climbed(ground: Ground, row: Array, followers: Sequence[Knob], others: Sequence[Knob]) -> tuple[Array, float]:
    best, value = _followed(ground, row[None, :], followers)
    for _ in range(_MOST_ROUNDS):
        before = value
        for knob in others:
            wanted = _spaced(ground.reach(knob), best[ground.features.at[knob.id]])
            found, worth = _followed(ground, ground.features.along(best, knob, wanted), followers)
            if worth > value + LEAST_BETTER:
                best, value = found, worth
        if value <= before + LEAST_BETTER:
            break
    return best, value


def _followed(
    ground: Ground, rows: Array, followers: Sequence[Knob], most: int = _MOST_FOLLOWED
) -> tuple[Array, float]:
    """Give the best of some settings with every follower at the value that serves the goal best, and its worth."""
    for knob in followers:
        at, values = ground.features.at[knob.id], _spread_out(ground.reach(knob), most)
        many = np.repeat(rows, len(values), axis=0)
        many[:, at] = np.tile(values, len(rows))
        worth = ground.worth(many).reshape(len(rows), len(values))
        rows = rows.copy()
        rows[:, at] = values[worth.argmax(axis=1)]
    worth = ground.worth(rows)
    best = int(worth.argmax())
    return rows[best], float(worth[best])


def _pruned(ground: Ground, best: Array, value: float, start: Array, followers: Sequence[Knob]) -> Array:
    """Take back what brings hardly anything, knob by knob: wholly, else as far as it goes.

    Room under a limit, or cooling, that is needed at all and costs the goal nothing is given in full: what is spared of it
    is missed on a warm morning.
    """
    for knob in ground.movable:
        at, values = ground.features.at[knob.id], ground.reach(knob)
        riskier = (best[at] > start[at]) == (knob.risk is Risk.UP)
        if best[at] == start[at] or (knob in followers and riskier):
            continue
        rows = ground.features.along(best, knob, values)
        worth = ground.worth(rows)
        # What is no surer than chance is taken back, too: it was found because it was looked for among many.
        unsure = ground.unsure(best, rows)
        enough = worth >= value - WORTH_A_CHANGE - np.where(values == start[at], unsure, 0.0)
        if knob.governs and not knob.choices and enough[-1] and not enough[values == start[at]].any():
            best = rows[-1]
            continue
        inside = enough & (values >= min(best[at], start[at])) & (values <= max(best[at], start[at]))
        near = np.where(inside, np.abs(values - start[at]), np.inf)
        best = rows[int(near.argmin())] if inside.any() else best
    return best


def _spaced(values: Array, here: float) -> Array:
    """Give values spread evenly over a knob's reach, with those beside where it is."""
    if len(values) <= _MOST_SPACED:
        return values
    at = int(np.abs(values - here).argmin())
    return np.unique(np.concatenate([_spread_out(values, _MOST_SPACED), values[max(at - 2, 0) : at + 3]]))


def _spread_out(values: Array, most: int) -> Array:
    """Give at most so many values, spread evenly, the ends among them."""
    if len(values) <= most:
        return values
    return np.asarray(values[np.unique(np.linspace(0, len(values) - 1, most).round().astype(int))])
