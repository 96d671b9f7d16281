"""A climb toward a goal as its run is kept: the way taken through the goal's terms, and what is left to be had."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.stability import HOUR_S
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.plan_runs import PlanRun
from yondle.model.quantities import count, duration, signed_percent
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Tried
from yondle.planning.goals.climbing import goal_name
from yondle.planning.goals.goal import Goal, Kind
from yondle.planning.goals.ground import Ground, Outlook
from yondle.planning.goals.optimum import optimum
from yondle.planning.goals.reasons import UPPER
from yondle.planning.goals.ways import LOOK_S, SEARCH_S, worth_of_knobs
from yondle.planning.plan_files import parse_plan
from yondle.views.edge.runs import tried_of
from yondle.views.shared.measured import changed_words
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Stand:
    """Where a climb stood after a move: hours since it began, what the goal's terms were against stock, as fractions.

    `power` is None where nothing measures it. `verdict` is that of the move, `moved` tells that it went on from there.
    """

    hours: float
    score: float
    power: float | None
    verdict: Verdict
    moved: bool


@dataclass(frozen=True, slots=True)
class ClimbView:
    """A climb so far: its goal in words, the way it took, what is in force, and what remains possible.

    `remains`, `low` and `high` are what more may be had as fractions of the goal's utility, in `more_hours`; `worth` is what
    each knob is worth now. `sentence` says how it stands, `remaining` what is left, `tested` what it took.
    """

    goal: Goal
    name: str
    way: tuple[Stand, ...]
    hours: float
    setup: str
    remains: float
    low: float
    high: float
    more_hours: float
    worth: tuple[tuple[str, float], ...]
    sentence: str
    remaining: str
    tested: str


def climb_view(book: Snapshot, run: PlanRun) -> ClimbView | None:
    """Read a run as a climb; None where its plan is none, or can no longer be read."""
    return ClimbReader().read(book, run)


class ClimbReader:
    """Reads a climb as it goes: each move is learnt from once, and what knobs are worth is worked out where it stands anew."""

    def __init__(self) -> None:
        self._run: int | None = None

    def read(self, book: Snapshot, run: PlanRun) -> ClimbView | None:
        """Give the climb as it stands; None where the run's plan is none, or can no longer be read."""
        if run.id != self._run and not self._begin(book, run):
            return None
        for move in run.moves[self._taken :]:
            if move.result is None:
                break
            self._take(tried_of(move.result, book.declaration), bool(move.attempt))
        return self._view(book)

    def _begin(self, book: Snapshot, run: PlanRun) -> bool:
        try:
            parts = parse_plan(run.definition, say("the plan"), book.declaration).parts
        except KnownError:
            return False
        goal = next((part for part in parts if isinstance(part, Goal)), None)
        if goal is None:
            return False
        self._run, self._goal, self._ground = run.id, goal, Ground(book.declaration, goal)
        self._here = tried_of(run.start, book.declaration)
        self._began = self._now = self._here.at_s
        self._taken = self._tests = self._downs = 0
        self._way: list[Stand] = []
        self._worth: tuple[tuple[str, float], ...] = ()
        self._stood: Setup | None = None
        return True

    def _take(self, tried: Tried, tested: bool) -> None:
        self._ground.learn(tried.lessons, tried.at_s)
        self._taken += 1
        self._now = max(self._now, tried.at_s)
        self._tests += tested
        self._downs += tested and tried.verdict is Verdict.DOWN
        moved, self._here = tried.in_force != self._here.in_force, tried
        seen = self._ground.outlook(tried.in_force)
        power = math.expm1(seen.watts) if seen.watts is not None else None
        hours = (self._now - self._began) / HOUR_S
        self._way.append(Stand(hours, math.expm1(seen.score), power, tried.verdict, moved))

    def _view(self, book: Snapshot) -> ClimbView:
        ground, here = self._ground, self._here.in_force
        best, at = optimum(ground, here), ground.outlook(here)
        more = max(ground.outlook(best).utility - at.utility, 0.0)
        spread = ground.gain(best, here)[1]
        changes = here.changes_to(best)
        more_s = SEARCH_S * any(c.knob in {k.id for k in ground.followers} for c in changes) + LOOK_S * len(changes)
        if here != self._stood:
            self._worth = tuple((knob.name, math.expm1(worth)) for knob, worth in worth_of_knobs(ground, here))
            self._stood = here
        hours = (self._now - self._began) / HOUR_S
        low, high = (math.expm1(more + sign * UPPER * spread) for sign in (-1.0, 1.0))
        return ClimbView(
            self._goal, goal_name(self._goal, book.declaration), tuple(self._way), hours,
            changed_words(book.declaration, here), math.expm1(more), low, high, more_s / HOUR_S, self._worth,
            _sentence(self._goal, at), _remaining(more, spread, more_s / HOUR_S),
            _tested(self._tests, self._downs, hours, self._goal),
        )  # fmt: skip


def _sentence(goal: Goal, at: Outlook) -> str:
    score = signed_percent(math.expm1(at.score), 1)
    if at.watts is None:
        return say("{score} of score against stock.", score=score)
    watts = signed_percent(math.expm1(at.watts), 1)
    if goal.kind is Kind.TRADE:
        trade = signed_percent(math.expm1(at.score - at.watts), 1)
        return say("{trade} per watt: {score} of score, {watts} of power.", trade=trade, score=score, watts=watts)
    return say("{score} of score, {watts} of power against stock.", score=score, watts=watts)


def _remaining(more: float, spread: float, hours: float) -> str:
    if more < _HARDLY:
        return say("Hardly anything is left to be had.")
    low, high = (signed_percent(math.expm1(more + sign * UPPER * spread), 1) for sign in (-1.0, 1.0))
    return say(
        "About {more} more may be had ({low} to {high}), in some {time}.", more=signed_percent(math.expm1(more), 1), low=low,
        high=high, time=duration(hours * HOUR_S),
    )  # fmt: skip


def _tested(tests: int, downs: int, hours: float, goal: Goal) -> str:
    return say(
        "{tests} in {time} of {hours}; went down {downs}.", tests=count(tests, "test"), time=duration(hours * HOUR_S),
        hours=duration(goal.hours * HOUR_S), downs=count(downs, "time"),
    )  # fmt: skip


_HARDLY = 0.002
