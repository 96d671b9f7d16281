"""Power, temperatures, fans and voltages: what is believed of a reading under each workload."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from yondle.analysis.answers import Answer
from yondle.analysis.efficiency import fan_channel, power_channel
from yondle.analysis.regression import Array
from yondle.analysis.warming import warming_k
from yondle.model.knobs import Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity
from yondle.planning.goals.beliefs import reading_belief
from yondle.planning.goals.features import Features
from yondle.planning.goals.goal import Goal, Kind
from yondle.planning.goals.lessons import Lesson, Seen

READ_SPREAD = {Quantity.POWER: 0.012, Quantity.VOLTAGE: 0.004, Quantity.FAN: 0.02, Quantity.TEMPERATURE: 0.05}
"""How far the mean of a channel over a pass may be beside what is typical of a setup, on logs (one standard deviation)."""
DEMAND_ELASTICITY, DEMAND_SPREAD, DEMAND_UNSURE = 0.9, 0.03, 0.25
"""A limiter that left a share of a clock was asked for more than it gave: power grows so with the clock, more or less."""
COOL_LOWERS, COOL_SPREAD = 1.0, 0.5
"""A machine that isn't soaked rises less above its room, on logs, by the square of the share of warmth it lacks: nearly
soaked it is as hot as it gets, and in its first seconds it lacks most."""
ROOM_C = 22.0
"""How warm a room is where nothing tells."""
STANDS_FOR = 0.5
"""Standard deviations by which power and heat are taken for worse than in the middle of what is believed.

Edges are taken at the middle: what is recommended comes from a search.
"""
COOLING_UNKNOWN = (-0.3, 0.3)
"""What cooling is taken to do for the rise above the room, on logs, where no temperature is read."""
LATELY = 60
"""Of what changes over an evening so many of the latest tests count."""
_MOST_DOUBT = 0.05


class Reading:
    """What is believed of a channel under each workload: an offset of its own, and slopes that all share."""

    def __init__(self, channel: Channel, middle: Array, spread: Array, slow: Array) -> None:
        """Begin with what is believed of its slopes; those over `slow` features show as the machine is soaked with heat."""
        self.channel, self._prior, self._slow = channel, (middle, spread), slow
        self._works: list[str] = []
        self._rows: list[Array] = []
        self._seen: list[float] = []
        self._variances: list[float] = []
        self._cool: list[float] = []
        self._of: list[int] = []
        self.room_c = ROOM_C
        self._answer: Answer | None = None

    def learn(self, seen: Seen, features: Array, room_c: float | None) -> None:
        """Take in what was read at a setup."""
        heat = self.channel.quantity is Quantity.TEMPERATURE
        room = room_c if room_c is not None else ROOM_C
        value = seen.mean - room if heat else seen.mean
        if value <= 0.0:
            return
        spread = READ_SPREAD[self.channel.quantity]
        log = math.log(value)
        if seen.acted and not heat:
            log -= DEMAND_ELASTICITY * math.log(min(max(seen.held, 0.2), 1.0))
            spread = math.hypot(DEMAND_SPREAD, DEMAND_UNSURE * math.log(min(max(seen.held, 0.2), 1.0)))
        if seen.workload not in self._works:
            self._works.append(seen.workload)
        self._rows.append(np.where(self._slow, features * (1.0 - seen.cool), features))
        self._cool.append(seen.cool**2)
        self._seen.append(log)
        self._variances.append(spread**2)
        self._of.append(self._works.index(seen.workload))
        self._answer = None

    def over_stock(self, rows: Array) -> Array:
        """Give what is expected against stock, on logs."""
        answer = self._fitted()
        return np.asarray(rows @ (answer.slopes[: rows.shape[-1]] if answer is not None else self._prior[0]))

    def slope(self, column: int) -> tuple[float, float]:
        """Give what is believed of one slope, and how sure that is."""
        answer, (middle, spread) = self._fitted(), self._prior
        if answer is None:
            return float(middle[column]), float(spread[column])
        return float(answer.slopes[column]), math.sqrt(float(answer.covariance[column, column]))

    def over(self, rows: Array, most: Array, works: Sequence[str]) -> Array:
        """Give by how much, on logs, the worst of some workloads would lie above a limit; far below where nothing was read."""
        answer, worst = self._fitted(), np.full(len(rows), -1.0)
        offsets = (
            [answer.slopes[rows.shape[-1] + self._works.index(w)] for w in works if w in self._works] if answer else []
        )
        if answer is None or not offsets:
            return worst
        many = rows.shape[-1]
        over = rows @ answer.slopes[:many] + max(offsets) - most
        # How sure it is decides only where it is close: that is worked out there alone.
        near = (over > -STANDS_FOR * _MOST_DOUBT) & (over <= 0.0)
        if near.any():
            close = rows[near]
            spread = np.sqrt(np.maximum(((close @ answer.covariance[:many, :many]) * close).sum(axis=1), 0.0))
            over[near] += STANDS_FOR * np.minimum(spread, _MOST_DOUBT)
        return np.asarray(np.maximum(worst, over))

    def _fitted(self) -> Answer | None:
        if self._answer is None and self._rows:
            middle, spread = self._prior
            many = len(self._works)
            first = [next(s for s, o in zip(self._seen, self._of, strict=True) if o == w) for w in range(many)]
            before = np.concatenate([middle, first, [-COOL_LOWERS]])
            answer = Answer(before, np.concatenate([spread, np.full(many, 1.0), [COOL_SPREAD]]))
            own = np.eye(many)[self._of]
            rows = np.concatenate([np.array(self._rows), own, np.array(self._cool)[:, None]], axis=1)
            answer.learn_all(rows, np.array(self._seen), np.array(self._variances))
            self._answer = answer
        return self._answer


class Readings:
    """What is believed of every channel that a goal, a limit or a flag asks for."""

    def __init__(self, declaration: RigDeclaration, goal: Goal, features: Features) -> None:
        self.declaration, self._features = declaration, features
        works = {declaration.workload(name).subsystem for name, _ in goal.benchmarks}
        self._by_channel: dict[str, Reading] = {}
        for channel in declaration.channels:
            if channel.quantity in READ_SPREAD and self._wanted(channel, goal):
                parts: set[Subsystem] = works if channel.subsystem is Subsystem.WHOLE else {channel.subsystem}
                beliefs = [reading_belief(knob, kind, channel, parts) for knob, kind, _ in features.columns]
                middle, spread = np.array([m for m, _ in beliefs]), np.array([s for _, s in beliefs])
                self._by_channel[channel.id] = Reading(channel, middle, spread, self._slow(channel))
        self._rooms: list[tuple[float, float]] = []
        self.room_c: float | None = None
        """How warm the room may get, °C; None where nobody told."""

    def learn(self, lesson: Lesson, at_s: float) -> None:
        """Take in what a test has seen, and how warm the room was."""
        features = self._features.of_setup(lesson.setup)
        for seen in lesson.seen:
            if seen.channel in self._by_channel:
                self._by_channel[seen.channel].learn(seen, features, lesson.room_c)
        if lesson.room_c is not None:
            self._rooms = [*self._rooms[-LATELY:], (at_s, lesson.room_c)]
            self.room_c = sum(room for _, room in self._rooms) / len(self._rooms) + warming_k(self._rooms, None)
            for reading in self._by_channel.values():
                reading.room_c = self.room_c

    def of(self, channel: str) -> Reading | None:
        """Give what is believed of a channel; None of one that nothing asks for."""
        return self._by_channel.get(channel)

    def watts(self, features: Array) -> Array | None:
        """Give the power against stock, on logs; None where nothing measures it."""
        channel = power_channel(self.declaration)
        reading = self.of(channel.id) if channel is not None else None
        return reading.over_stock(features) if reading is not None else None

    def noise(self, features: Array) -> Array:
        """Give how loud it is, as the logarithm of a fan's speed against stock; nothing where no fan is read."""
        channel = fan_channel(self.declaration)
        reading = self.of(channel.id) if channel is not None else None
        return reading.over_stock(features) if reading is not None else np.zeros(len(features))

    def hottest(self, part: Subsystem) -> Reading | None:
        """Give the temperature that stands for a part, or for the machine where that part has none."""
        reads = [r for r in self._by_channel.values() if r.channel.quantity is Quantity.TEMPERATURE]
        return next((r for r in reads if r.channel.subsystem is part), reads[0] if reads else None)

    def heat(self, features: Array) -> Array | None:
        """Give the rise of the processor above the room against stock, on logs; None where no temperature is read."""
        reading = self.hottest(Subsystem.PROCESSOR)
        return reading.over_stock(features) if reading is not None else None

    def heat_slope(self, part: Subsystem, column: int) -> tuple[float, float]:
        """Give how the rise above the room of a part answers to a feature, on logs, and how sure that is."""
        reading = self.hottest(part)
        return reading.slope(column) if reading is not None else COOLING_UNKNOWN

    def _slow(self, channel: Channel) -> Array:
        """Tell which features a channel answers to slowly: a temperature to cooling."""
        hot = channel.quantity is Quantity.TEMPERATURE
        return np.array([hot and knob.subsystem is Subsystem.COOLING for knob, _, _ in self._features.columns])

    def _wanted(self, channel: Channel, goal: Goal) -> bool:
        declaration = self.declaration
        limited = {limit.channel for limit in declaration.limits}
        flagged = {c.of for c in declaration.channels if c.quantity is Quantity.FLAG}
        told = {c.id for c in (power_channel(declaration), fan_channel(declaration)) if c is not None}
        cool = goal.kind is Kind.COOL and channel.quantity is Quantity.TEMPERATURE
        return channel.id in limited | flagged | told or cool
