"""What would hold a setting back: limits of power and heat, the tuner's own ceilings, and what held others back."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from yondle.analysis.regression import Array
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.verdicts import Verdict
from yondle.planning.goals.beliefs import caps_heat
from yondle.planning.goals.features import Features
from yondle.planning.goals.lessons import Lesson
from yondle.planning.goals.readings import LATELY, Readings

LIMIT_ROOM, HEAT_ROOM_K, STANDS_BY_K = 0.985, 5.0, 2.0
"""A limit is kept clear of by so much, as a share of it and in kelvin; what stands already is left for less than the last."""
LASTS_S, _FITS_BY = 590.0, 0.001
"""What held under load for so long is taken to go on so: the machine is nearly soaked with heat by then."""
_HELD_BACK_ROOM, _MOST_DOUBLED, _LASTED, _AS_WARM_K = 0.01, 4, 12, 1.0
_FREE = -1.0


class Limits:
    """By how much settings would pass a limit, on logs: below 0 where none holds them back."""

    def __init__(
        self, declaration: RigDeclaration, features: Features, readings: Readings, works: tuple[str, ...]
    ) -> None:
        self._declaration, self._features, self._readings, self._works = declaration, features, readings, works
        self._held_back: list[tuple[Lesson, float]] = []
        self._surprises = 0
        self._lasted: list[Lesson] = []
        self._room_k = HEAT_ROOM_K

    def learn(self, lesson: Lesson) -> None:
        """Take in what was held back, and what held for long with no limit acting.

        Each time that something is held back which should not have been, limits are kept clear of by twice as much: by steps
        of one size a climb follows a night that gets warmer, and is late every time. A search goes beyond what is wanted on
        purpose: what it meets there is no surprise.
        """
        if lesson.verdict is Verdict.HELD_BACK:
            self._surprises += not lesson.of and self._fits(lesson)
            doubled = min(max(self._surprises - 1, 0), _MOST_DOUBLED)
            self._held_back = [*self._held_back[-LATELY:], (lesson, _HELD_BACK_ROOM * 2.0**doubled)]
        if lesson.verdict is Verdict.HELD and not lesson.by and sum(run.seconds for run in lesson.runs) >= LASTS_S:
            self._lasted = [*self._lasted[-_LASTED:], lesson]

    def _fits(self, lesson: Lesson) -> bool:
        row, features = self._features.row(lesson.setup), self._features.of_setup(lesson.setup)
        with self.for_what_stands():
            return bool(self.over(row[None, :], features[None, :])[0] <= 0.0)

    @contextmanager
    def for_what_stands(self) -> Iterator[None]:
        """For a while keep less clear of limits of heat, as for what stands already: it is not left for the first doubt."""
        before, self._room_k = self._room_k, STANDS_BY_K
        try:
            yield
        finally:
            self._room_k = before

    def over_power(self, rows: Array, features: Array) -> Array:
        """Give by how much a load would draw more than a limit that names the power it is of."""
        over: Array = np.full(len(rows), _FREE)
        for channel in self._declaration.channels:
            at, reading = self._features.at.get(channel.follows), self._readings.of(channel.of)
            if channel.quantity is Quantity.FLAG and reading is not None and at is not None:
                limits = np.log(LIMIT_ROOM * np.maximum(rows[:, at], 1e-3))
                over = np.maximum(over, reading.over(features, limits, self._works))
        return over

    def over(self, rows: Array, features: Array) -> Array:
        """Give by how much the worst limit of all would be passed."""
        over, at = self.over_power(rows, features), self._features.at
        for limit in self._declaration.limits:
            reading = self._readings.of(limit.channel)
            if reading is not None:
                heat = reading.channel.quantity is Quantity.TEMPERATURE
                most = limit.most - self._room_k - reading.room_c if heat else LIMIT_ROOM * limit.most
                level = np.full(len(rows), math.log(max(most, 1e-3)))
                over = np.maximum(over, reading.over(features, level, self._works))
        for knob in self._declaration.knobs:
            reading = self._readings.hottest(knob.subsystem) if caps_heat(knob) else None
            if reading is not None:
                room = np.maximum(rows[:, at[knob.id]] - self._room_k - reading.room_c, 1.0)
                over = np.maximum(over, reading.over(features, np.log(room), self._works))
        return self._as_held(rows, features, self._as_held_back(features, over))

    def _as_held_back(self, features: Array, over: Array) -> Array:
        """What gets as hot, or without a temperature draws as much, as something that was held back is held back, too.

        Limits that name the power they are of are told by that reading itself.
        """
        flags = (c for c in self._declaration.channels if c.quantity is Quantity.FLAG)
        known = {c.id for c in flags if self._readings.of(c.of) is not None}
        for lesson, room in self._held_back:
            if lesson.by and known.issuperset(lesson.by):
                continue
            demand, its = self._strain(features), self._strain(self._features.of_setup(lesson.setup)[None, :])
            if demand is not None and its is not None:
                over = np.maximum(over, demand - its[0] + room)
        return over

    def _as_held(self, rows: Array, features: Array, over: Array) -> Array:
        """What asks no more than something that held for long, under limits as high, is held back by none of them, too.

        Unless something that asked no more was held back all the same: later in a night a room is warmer.
        """
        caps = [self._features.at[k.id] for k in self._declaration.knobs if k.governs and not k.choices]
        strain, watts = self._strain(features), self._readings.watts(features)
        backs = [self._strain(self._features.of_setup(lesson.setup)[None, :]) for lesson, _ in self._held_back]
        least_back = min((float(each[0]) for each in backs if each is not None), default=math.inf)
        for lesson in self._lasted:
            row, of_it = self._features.row(lesson.setup), self._features.of_setup(lesson.setup)[None, :]
            asked_of_it, ahead = self._strain(of_it), self._readings.room_c
            if ahead is not None and lesson.room_c is not None and ahead > lesson.room_c + _AS_WARM_K:
                continue
            if asked_of_it is not None and asked_of_it[0] >= least_back:
                continue
            fits = np.all(rows[:, caps] >= row[caps] - 1e-9, axis=1)
            for asked, its in ((strain, asked_of_it), (watts, self._readings.watts(of_it))):
                if asked is not None and its is not None:
                    fits &= asked <= its[0] + 1e-9
            over = np.where(fits, np.minimum(over, -_FITS_BY), over)
        return over

    def _strain(self, features: Array) -> Array | None:
        heat = self._readings.heat(features)
        return heat if heat is not None else self._readings.watts(features)
