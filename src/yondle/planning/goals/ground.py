"""The ground a goal is climbed on: what is believed of every knob's worth, of power and heat, and of where edges lie.

Everything is learnt from lessons (lessons.py): scores and readings by straight lines over features of the knobs (answers.py),
edges by one law over all settings (frontier.py). What nobody measured keeps a belief made of what a knob is (beliefs.py).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yondle.analysis.answers import Answer
from yondle.analysis.hold import Scale
from yondle.analysis.regression import Array
from yondle.analysis.stability import PER_HOUR
from yondle.model.knobs import Knob, Risk, Setup, Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.verdicts import Verdict
from yondle.planning.goals.beliefs import score_belief
from yondle.planning.goals.edges import Edges
from yondle.planning.goals.features import Features
from yondle.planning.goals.goal import Goal, Kind, reach
from yondle.planning.goals.lessons import Lesson
from yondle.planning.goals.limits import Limits
from yondle.planning.goals.readings import DEMAND_ELASTICITY, LATELY, Readings

PREFER_LESS, _PREFER_HARDLY = 0.02, 0.004
"""What the logarithm of power counts against a score, and against quiet: enablers that bring nothing stay where they are."""
LEAST_OF_A_FOLLOWER = 0.006
"""A knob with an edge is looked at where it may bring so much on its way there, on logs."""
_LIKELY_REACH, _OPTIMISM = 0.12, 0.5
"""An edge lies hardly further from stock than this, on logs; and what isn't known is hoped for by so many deviations."""
LEAST_COOLING, _UNSEEN = 0.08, 0.2
"""Cooling that changes the rise above the room by less than this, for a factor of e in its level, isn't that part's."""
_LOST_COUNTS = 20.0
"""Score beyond what quiet or cool may cost counts so many times."""
_SURE = 2.0


@dataclass(frozen=True, slots=True)
class Outlook:
    """What is expected of a setup: the goal's utility with its spread, the chance to meet the standard, and each term.

    `score` is the weighted mean of log gains over stock, `watts` the logarithm of power against stock (None without a
    sensor), `fits` tells that no limit would hold it back.
    """

    utility: float
    spread: float
    chance: float
    score: float
    watts: float | None
    fits: bool


@dataclass(frozen=True, slots=True)
class Looked:
    """Settings as rows of values, their features, and what score and power are expected of them, on logs against stock."""

    rows: Array
    features: Array
    score: Array
    watts: Array | None


class Ground:
    """What is believed; `learn` adds lessons, everything else asks."""

    def __init__(self, declaration: RigDeclaration, goal: Goal) -> None:
        self.declaration, self.goal = declaration, goal
        self.features = Features(declaration)
        self.movable = goal.movable(declaration)
        self.lessons: list[Lesson] = []
        self.measured: dict[str, set[float]] = {}
        works = tuple(dict.fromkeys((*goal.loads, *(name for name, _ in goal.benchmarks))))
        self.readings = Readings(declaration, goal, self.features)
        self.limits = Limits(declaration, self.features, self.readings, works)
        self.edges = Edges(declaration, self.features, self.readings, goal.loads, PER_HOUR[goal.standard])
        self._scores = {name: Answer(*self._beliefs(name)) for name, _ in goal.benchmarks}
        self._left: dict[tuple[Setup, str], float] = {}
        self._reaches = {knob.id: np.array(reach(declaration, knob)) for knob in self.movable}
        self._kept: tuple[list[Knob], list[Knob]] | None = None

    # -- learning -----------------------------------------------------------------------------------------------------

    def learn(self, lessons: Iterable[Lesson], at_s: float = 0.0) -> None:
        """Take lessons in, each once; `at_s` is when they were learnt, seconds on the machine's clock."""
        for lesson in lessons:
            self.lessons.append(lesson)
            for seen in lesson.seen:
                if seen.acted and seen.held < 1.0:
                    self._left[lesson.setup, seen.workload] = seen.held
            self._learn_gains(lesson)
            self.readings.learn(lesson, at_s)
            self.limits.learn(lesson)
            self.edges.learn(lesson)
        self._kept = None

    def _learn_gains(self, lesson: Lesson) -> None:
        for gained in lesson.gained:
            if gained.benchmark in self._scores and lesson.setup != lesson.home:
                at, before = (self._as_run(s, gained.benchmark) for s in (lesson.setup, lesson.home))
                self._scores[gained.benchmark].learn(at - before, gained.log, gained.variance)
                changed = lesson.home.changes_to(lesson.setup)
                if len(changed) == 1:
                    self.measured.setdefault(changed[0].knob, set()).add(changed[0].new)

    def _as_run(self, setup: Setup, workload: str) -> Array:
        """Give the features of a setup as it ran: with the clock that a limit left."""
        row = self.features.row(setup)
        for knob in self._clocks:
            row[self.features.at[knob.id]] *= self._left.get((setup, workload), 1.0)
        return np.asarray(self.features.of(row[None, :])[0])

    @cached_property
    def _clocks(self) -> list[Knob]:
        """The knobs whose clock a limit takes back: those a clock follows, of the part whose power or heat is limited."""
        followed = {c.follows for c in self.declaration.channels if c.quantity is Quantity.CLOCK}
        parts = {c.subsystem for c in self.declaration.channels if c.quantity is Quantity.FLAG}
        parts &= {self.declaration.workload(name).subsystem for name, _ in self.goal.benchmarks} or parts
        return [k for k in self.declaration.knobs if k.id in followed and k.proportional and k.subsystem in parts]

    def _beliefs(self, name: str) -> tuple[Array, Array]:
        part = self.declaration.workload(name).subsystem
        beliefs = [score_belief(knob, kind, part) for knob, kind, _ in self.features.columns]
        return np.array([m for m, _ in beliefs]), np.array([s for _, s in beliefs])

    # -- knobs --------------------------------------------------------------------------------------------------------

    @property
    def followers(self) -> list[Knob]:
        """The knobs that may be moved whose risky end brings enough, dearest first: each has an edge to be looked for."""
        return self._sorted_out[0]

    @cached_property
    def enablers(self) -> list[Knob]:
        """The knobs that may be moved and have no edge that score would drive them to."""
        return [k for k in self.movable if k not in self._edged]

    @property
    def risky(self) -> list[Knob]:
        """Every knob with an edge of its own that serves the goal, or was moved."""
        return self._sorted_out[1]

    @property
    def _sorted_out(self) -> tuple[list[Knob], list[Knob]]:
        if self._kept is None:
            worth = {k.id: self._worth_of(k) for k in self._edged if k in self.movable}
            wanted = [k for k in self._edged if worth.get(k.id, 0.0) >= LEAST_OF_A_FOLLOWER]
            stock = self.declaration.stock
            moved = {c.knob for lesson in self.lessons[-LATELY:] for c in stock.changes_to(lesson.setup)}
            risky = [k for k in self._edged if k in wanted or k.id in moved]
            self._kept = sorted(wanted, key=lambda k: -worth[k.id]), risky
        return self._kept

    @cached_property
    def _edged(self) -> list[Knob]:
        """Every knob with an edge of its own: one whose stock is its riskiest value has none, it gives others room."""
        risky = [k for k in self.declaration.knobs if k.risk is not Risk.NONE and k.unit != "V" and not k.choices]
        return [k for k in risky if Scale(k).notch(k.stock) < Scale(k).notches]

    def reach(self, knob: Knob) -> Array:
        """Give the values of a knob that may be tried."""
        return self._reaches[knob.id]

    def concerns(self, knob: Knob) -> bool:
        """Tell whether a knob is taken to have anything to do with the goal: by its score, its power, or an edge it moves."""
        parts = {self.declaration.workload(name).subsystem for name, _ in self.goal.benchmarks}
        parts |= {k.subsystem for k in self.followers}
        if knob.subsystem is Subsystem.COOLING:
            columns = [i for i, (k, kind, _) in enumerate(self.features.columns) if k.id == knob.id and kind == "line"]
            slopes = [self.readings.heat_slope(part, column) for part in parts for column in columns]
            first = next(k for k in self.declaration.knobs if k.subsystem is Subsystem.COOLING)
            if any(spread > _UNSEEN for _, spread in slopes):
                # Which fan cools what shows when it is measured; until then the first one stands for all.
                return knob is first
            return any(abs(middle) > max(LEAST_COOLING, _SURE * spread) for middle, spread in slopes)
        near = knob.subsystem in parts | {Subsystem.WHOLE}
        return near or (knob.id in self.measured and self._shown(knob))

    def _shown(self, knob: Knob) -> bool:
        """Tell whether a knob of another part has shown an effect that is no chance."""
        values = np.array(sorted(self.measured[knob.id]))
        features = self.features.of(self.features.along(self.features.stock, knob, values))
        middle, spread = self._score_of(features - self.features.of(self.features.stock[None, :]))
        return bool(np.any(np.abs(middle) > _SURE * spread))

    def _worth_of(self, knob: Knob) -> float:
        """Give what a knob with an edge may bring on its way to its risky end, on logs, by what is believed of it."""
        values, stock = self._reaches[knob.id], knob.stock
        riskier = values[values > stock] if knob.risk is Risk.UP else values[values < stock]
        if not len(riskier):
            return 0.0
        far = min(_LIKELY_REACH, abs(Features.place(knob, float(riskier[-1 if knob.risk is Risk.UP else 0]))))
        middle, spread = self.elasticity(knob)
        towards = 1.0 if knob.risk is Risk.UP else -1.0
        return far * (towards * middle + _OPTIMISM * spread)

    # -- asking -------------------------------------------------------------------------------------------------------

    def gain(self, setup: Setup, home: Setup) -> tuple[float, float]:
        """Give the weighted log gain of a setup over another, and its standard deviation."""
        by = self.features.of_setup(setup) - self.features.of_setup(home)
        middle, spread = self._score_of(by[None, :])
        return float(middle[0]), float(spread[0])

    def elasticity(self, knob: Knob) -> tuple[float, float]:
        """Give by how much the score grows with a knob, on logs, about stock, and how sure that is."""
        which = [i for i, (each, kind, _) in enumerate(self.features.columns) if each.id == knob.id and kind == "line"]
        if not which:
            return 0.0, 0.0
        row = np.zeros((1, len(self.features.columns)))
        row[0, which[0]] = 1.0
        middle, spread = self._score_of(row)
        return float(middle[0]), float(spread[0])

    def outlook(self, setup: Setup) -> Outlook:
        """Give what is expected of a setup."""
        seen = self.look(self.features.row(setup)[None, :])
        _, spread = self._score_of(seen.features)
        watts = float(seen.watts[0]) if seen.watts is not None else None
        fits = bool(self.limits.over(seen.rows, seen.features)[0] <= 0.0)
        utility = float(self.utility(seen)[0])
        return Outlook(utility, float(spread[0]), self._chance(seen), float(seen.score[0]), watts, fits)

    def failed(self, setup: Setup) -> bool:
        """Tell whether these very settings were tried and did not hold."""
        bad = (Verdict.DOWN, Verdict.WRONG, Verdict.HELD_BACK, Verdict.REFUSED)
        return any(lesson.verdict in bad and lesson.setup == setup for lesson in self.lessons)

    def ran_s(self, setup: Setup, load: str) -> float:
        """Give how long a load ran at these settings without a failure, seconds."""
        runs = (run for lesson in self.lessons if lesson.setup == setup for run in lesson.runs)
        return sum(run.seconds for run in runs if run.load == load and not run.failures)

    # -- many settings at once ----------------------------------------------------------------------------------------

    def look(self, rows: Array) -> Looked:
        """Look at settings, shape (settings, knobs): with the clock that limits of power would leave of them."""
        features = self.features.of(rows)
        over = np.maximum(self.limits.over_power(rows, features), 0.0)
        held = features
        if self._clocks and np.any(over > 0.0):
            left = rows.copy()
            for knob in self._clocks:
                left[:, self.features.at[knob.id]] *= np.exp(-over / DEMAND_ELASTICITY)
            held = self.features.of(left)
        return Looked(rows, features, self._middle_of(held), self.readings.watts(features))

    def unsure(self, row: Array, rows: Array) -> Array:
        """Give how sure the gain of a setting over each of some others is (one standard deviation, on logs)."""
        return self._score_of(self.features.of(row[None, :]) - self.features.of(rows))[1]

    def utility(self, seen: Looked) -> Array:
        """Give what settings are worth to the goal, on logs against stock."""
        goal, less = self.goal, np.zeros(len(seen.rows)) if seen.watts is None else seen.watts
        match goal.kind:
            case Kind.TRADE:
                return np.asarray(seen.score - less)
            case Kind.QUIET | Kind.COOL:
                _, unsure = self._score_of(seen.features)
                allowed = -math.log1p(-goal.loss)
                lost = np.maximum(0.0, unsure - allowed - seen.score)
                heat = self.readings.heat(seen.features) if goal.kind is Kind.COOL else None
                term = heat if heat is not None else self.readings.noise(seen.features)
                return np.asarray(-term - _LOST_COUNTS * lost - _PREFER_HARDLY * less)
            case _:
                return np.asarray(seen.score - PREFER_LESS * less)

    def worth(self, rows: Array) -> Array:
        """Give the utility of settings, far below anything where one would not hold or a limit would act."""
        seen = self.look(rows)
        short = np.maximum(self.limits.over(rows, seen.features), 0.0)
        for knob in self.risky if self.goal.loads else ():
            margin = self.edges.margin(knob, rows, seen.features, len(self.followers))
            short = short + np.maximum(-margin, 0.0) / Scale(knob).notches
        return np.asarray(self.utility(seen) - np.where(short > 0.0, 1.0 + short, 0.0))

    def _chance(self, seen: Looked) -> float:
        """Give the chance that all edges of one setting meet the standard, each taken by itself."""
        chance = 1.0
        for knob in self.risky:
            for load in range(len(self.goal.loads)):
                margin = self.edges.margin(knob, seen.rows, seen.features, len(self.followers), load)[0]
                doubt = self.edges.doubt(knob, seen.features, load)[0]
                chance *= 0.5 * (1.0 + math.erf(margin / doubt / math.sqrt(2.0)))
        return chance

    def _middle_of(self, features: Array) -> Array:
        total = sum(weight for _, weight in self.goal.benchmarks)
        told = (weight / total * self._scores[name].middle(features) for name, weight in self.goal.benchmarks)
        return np.asarray(sum(told, np.zeros(len(features))))

    def _score_of(self, features: Array) -> tuple[Array, Array]:
        total = sum(weight for _, weight in self.goal.benchmarks)
        middle, variance = np.zeros(len(features)), np.zeros(len(features))
        for name, weight in self.goal.benchmarks:
            answer = self._scores[name]
            middle += weight / total * answer.middle(features)
            variance += (weight / total * answer.spread(features)) ** 2
        return middle, np.sqrt(variance)
