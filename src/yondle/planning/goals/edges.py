"""Where the edges of knobs lie over all settings, as a goal's planner expects them before it looks (frontier.py)."""

from __future__ import annotations

import math

import numpy as np

from yondle.analysis.exposure import ANY_LOAD
from yondle.analysis.frontier import Beforehand, Exposure, Frontier
from yondle.analysis.hold import Believed, Scale
from yondle.analysis.regression import Array
from yondle.model.knobs import Knob, Risk, Setup, Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.planning.goals.beliefs import shift_belief
from yondle.planning.goals.features import Features
from yondle.planning.goals.lessons import Lesson
from yondle.planning.goals.readings import Readings

OFF_LAW_NOTCHES = 1.2
"""How far an edge may lie beside the one law, in notches (one standard deviation)."""
EDGE_OF_HEAT = 0.02
"""An edge is taken to fall by this share of stock where a part gets hotter above the room by a factor of e."""
_EDGE_SHARE, _EDGE_SPREAD_SHARE = 0.3, 0.2
"""Of the room between stock and the risky end an edge is expected this far, beforehand, give or take."""
_USUAL_WIDTH_SHARE, _WIDTH_SPREAD = 0.33, 0.6
_LEAST_ROOM, _LEAST_SPREAD = 1.0, 2.0
_BENDS_LESS, _LEAST_SHIFT = 0.7, 1e-4
_HARDLY_LOWER, _SAFE_NOTCHES = 0.5, 1000.0
_MOST_COUNTED = 3
"""Errors that are corrected come in bursts: of one run no more than so many count."""


class Edges:
    """What all runs say of every knob's edge under some loads."""

    def __init__(
        self,
        declaration: RigDeclaration,
        features: Features,
        readings: Readings,
        loads: tuple[str, ...],
        per_hour: float,
    ) -> None:
        """Begin with nothing known; `per_hour` is how often all of it may fail."""
        self._declaration, self._features, self._readings = declaration, features, readings
        self.loads, self._per_hour = loads, per_hour
        self._lessons: list[Lesson] = []
        self._seen: dict[Setup, Array] = {}
        self._exposed: dict[str, list[tuple[Lesson, list[Exposure]]]] = {}
        self._known: dict[str, Frontier] = {}
        self._latest: dict[str, Frontier] = {}
        self.caution: dict[str, float] = {}
        """Notches of a knob that settings keep from where their standard is expected to be met just so."""

    def learn(self, lesson: Lesson) -> None:
        """Take in the runs of a test."""
        if lesson.runs:
            self._lessons.append(lesson)
        self._known.clear()

    def margin(self, knob: Knob, rows: Array, features: Array, among: int, load: int | None = None) -> Array:
        """Give how many notches lie between settings and the edge that their standard asks for, shared among so many knobs.

        Of one load, or of the worst of all.
        """
        frontier, scale, others = self._frontier(knob), Scale(knob), self._features.others(knob, features)
        steps = (rows[:, self._features.at[knob.id]] - knob.low) / knob.step
        at = (steps if knob.risk is Risk.UP else (knob.high - knob.low) / knob.step - steps) / scale.stride
        safer = -math.log(self._per_hour / max(among, 1)) * frontier.width
        shifted = frontier.shifts(others)
        edge = shifted + frontier.at_stock(load)
        # A machine is made to hold at stock; nothing that moves the edge up makes that worse.
        safe = (at <= scale.notch(knob.stock) + 1e-9) & (shifted >= -_HARDLY_LOWER)
        return np.asarray(np.where(safe, _SAFE_NOTCHES, edge - safer - self.caution.get(knob.id, 0.0) - at))

    def doubt(self, knob: Knob, features: Array, load: int) -> Array:
        """Give how sure the edge is, in notches (one standard deviation)."""
        _, spread = self._frontier(knob).edge(self._features.others(knob, features), load)
        return np.hypot(spread, OFF_LAW_NOTCHES / 2.0)

    def believed(self, knob: Knob, setup: Setup, load: int, apart: bool = False) -> Believed:
        """Give what is expected of an edge with all else as in a setup; `apart` leaves out the runs made at that very place."""
        frontier = self._made(knob, setup) if apart else self._frontier(knob)
        others = self._features.others(knob, self._features.of_setup(setup))
        return frontier.believed(others, load, OFF_LAW_NOTCHES)

    def shift(self, knob: Knob, home: Setup, setup: Setup) -> tuple[float, float]:
        """Give by how many notches an edge moves from one setup to another, and how sure that is."""
        by = self._features.of_setup(setup) - self._features.of_setup(home)
        return self._frontier(knob).shift(self._features.others(knob, by))

    def as_stock(self, knob: Knob, setup: Setup) -> bool:
        """Tell whether a knob is no riskier than at stock, where a machine is made to hold, by what else is set, too."""
        scale = Scale(knob)
        safe = scale.notch(setup.get(knob.id, knob.stock)) <= scale.notch(knob.stock) + 1e-9
        return safe and self.shift(knob, self._declaration.stock, setup)[0] >= -_HARDLY_LOWER

    def _frontier(self, knob: Knob) -> Frontier:
        if knob.id not in self._known:
            self._latest[knob.id] = self._known[knob.id] = self._made(knob, None)
        return self._known[knob.id]

    def _made(self, knob: Knob, without: Setup | None) -> Frontier:
        runs = self._exposures(knob, without)
        return Frontier(self._before(knob), max(len(self.loads), 1), runs, self._latest.get(knob.id))

    def _exposures(self, knob: Knob, without: Setup | None) -> list[Exposure]:
        made = self._exposed.setdefault(knob.id, [])
        for lesson in self._lessons[len(made) :]:
            made.append((lesson, self._exposures_in(lesson, knob)))
        apart = (each for lesson, each in made if without is None or not lesson.setup.same_but(without, knob.id))
        return [exposure for each in apart for exposure in each]

    def _exposures_in(self, lesson: Lesson, knob: Knob) -> list[Exposure]:
        blames = self._blames(lesson, knob)
        others = self._features.others(knob, self._features_of(lesson.setup))
        notch = Scale(knob).notch(lesson.setup.get(knob.id, knob.stock))
        return [
            Exposure(notch, others, load, run.seconds, min(run.failures, _MOST_COUNTED))
            for run in lesson.runs
            if blames or not run.failures
            for load, name in enumerate(self.loads)
            if run.load == name or (run.load == ANY_LOAD and load == 0)
        ]

    def _features_of(self, setup: Setup) -> Array:
        if setup not in self._seen:
            self._seen[setup] = self._features.of_setup(setup)
        return self._seen[setup]

    def _blames(self, lesson: Lesson, knob: Knob) -> bool:
        """Tell whether a failure may be this knob's: it, or something of its part, was what had changed."""
        if lesson.of:
            return lesson.of == knob.id
        changed = [self._declaration.knob(c.knob) for c in lesson.home.changes_to(lesson.setup)]
        parts = {k.subsystem for k in changed if k.risk is not Risk.NONE}
        return not parts or knob.subsystem in parts or Subsystem.WHOLE in parts

    def _before(self, knob: Knob) -> Beforehand:
        """Say what is believed of an edge before any run, from what the knobs are."""
        scale = Scale(knob)
        relative = knob.stock / (knob.step * scale.stride) if self._features.logs(knob) else scale.notches
        shifts, spreads = [], []
        for column, (each, kind, _) in enumerate(self._features.columns):
            if each.id == knob.id:
                continue
            cools = each.subsystem is Subsystem.COOLING
            middle, spread = (
                self._by_heat(knob, column) if cools else shift_belief(each, knob, self._features.logs(each))
            )
            bend = kind in ("above", "below")
            shifts.append(0.0 if bend else middle * relative)
            spreads.append(max(_BENDS_LESS * spread if bend else spread, _LEAST_SHIFT) * relative)
        stock = scale.notch(knob.stock)
        room = scale.notches - stock
        edge, spread = stock + max(_EDGE_SHARE * room, _LEAST_ROOM), max(_EDGE_SPREAD_SHARE * room, _LEAST_SPREAD)
        log_width = math.log(_USUAL_WIDTH_SHARE * float(scale.widths()[-1]))
        return Beforehand(edge, spread, np.array(shifts), np.array(spreads), log_width, _WIDTH_SPREAD)

    def _by_heat(self, knob: Knob, column: int) -> tuple[float, float]:
        """Say what cooling does for an edge, by what it was seen to do for the temperature of the same part."""
        slope, unsure = self._readings.heat_slope(knob.subsystem, column)
        return -EDGE_OF_HEAT * slope, 0.5 * EDGE_OF_HEAT * math.hypot(slope, unsure) + _LEAST_SHIFT
