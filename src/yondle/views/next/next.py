"""What is worth trying next, as a logbook tells it: the goal that was chosen, and the ways on from where the rig is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yondle.formats.documents import WantedGoal
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import When
from yondle.model.quantities import chance, count, duration, signed_percent
from yondle.model.rigs import ELSEWHERE, RigDeclaration
from yondle.model.workloads import Workload
from yondle.planning.goals.climbing import goal_name
from yondle.planning.goals.goal import Goal, Kind, checked_goal
from yondle.planning.goals.ground import Ground
from yondle.planning.goals.ways import Way, WayKind, worth_of_knobs, worth_trying
from yondle.planning.plan_files import parse_plan
from yondle.views.next.lessons import lessons_of
from yondle.views.shared.gains import capped, measured_at
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class NextView:
    """The ways on toward a goal, best first, and what each knob is worth now, as fractions, by its name.

    `caveat` says what all of it rests on.
    """

    goal: Goal
    name: str
    ways: tuple[Way, ...]
    worth: tuple[tuple[str, float], ...]
    caveat: str


def goal_of(book: Snapshot) -> Goal:
    """Give the goal that was chosen, else the highest score of the first benchmark; raises KnownError where none can be had."""
    text = book.kept.of(WantedGoal).root
    if text:
        try:
            part = parse_plan(text, say("the goal in this logbook"), book.declaration).parts[0]
        except KnownError:
            part = None
        if isinstance(part, Goal):
            return part
    return checked_goal(usual_goal(book.declaration), book.declaration)


def usual_goal(declaration: RigDeclaration, kind: Kind = Kind.SCORE, benchmarks: Sequence[str] = ()) -> Goal:
    """Make a goal of these benchmarks alike, or of the first that is run; under the hard load where there is one."""
    first = [w.id for w in declaration.benchmarks if not w.by_hand][:1]
    names = tuple(benchmarks) or tuple(first)
    loads = (declaration.hard_load,) if declaration.hard_load else ()
    return Goal(kind, tuple((declaration.workload(name).id, 1.0) for name in names), loads)


def next_view(book: Snapshot, goal: Goal | None = None) -> NextView:
    """Say what is worth trying next; raises KnownError where nothing was measured yet, and where the goal makes no sense."""
    if book.declaration.info.id == ELSEWHERE:
        raise KnownError(
            say("Yondle runs nothing on this machine, so it can't tell what would hold there."),
            say("The views of Scaling tell what each setting was worth."),
        )
    if book.baseline_step is None:
        raise KnownError(say("Nothing is measured yet."), say("Run the baseline first."))
    wanted = checked_goal(goal, book.declaration) if goal is not None else goal_of(book)
    ground = Ground(book.declaration, wanted)
    works = [book.declaration.workload(name) for name, _ in wanted.benchmarks]
    ground.learn(lessons_of(book, works))
    ways = worth_trying(ground, book.in_force)
    worth = tuple((knob.name, math.expm1(each)) for knob, each in worth_of_knobs(ground, book.in_force))
    caveat = _at_cap(book, works) + _caveat(ground)
    return NextView(wanted, goal_name(wanted, book.declaration), tuple(ways), worth, caveat)


def _at_cap(book: Snapshot, works: Sequence[Workload]) -> str:
    """Say which benchmarks of the goal only show their cap where the rig is; nothing where none does."""
    here = book.position or book.baseline_step
    names = [work.name for work in works if here is not None and capped(measured_at(book, here), work)]
    return say("{benchmarks}: at the cap, so nothing more shows in it. ", benchmarks=", ".join(names)) if names else ""


def _caveat(ground: Ground) -> str:
    """Say what all of it rests on, and what might be allowed besides."""
    measured = len([k for k in ground.movable if k.id in ground.measured])
    words = say(
        "Expected under a model of {knobs}, {measured} measured here; ranges are 95\u202f%.",
        knobs=count(len(ground.movable), "knob"), measured=measured,
    )  # fmt: skip
    goal, knobs = ground.goal, ground.declaration.knobs
    restart = sum(k.when is When.RESTART for k in knobs) if not goal.restarts and not goal.knobs else 0
    hands = sum(k.when in (When.BY_HAND, When.AT_HAND) for k in knobs) if not goal.hands and not goal.knobs else 0
    if restart:
        words += say(" Not looked at: {knobs} that take a restart.", knobs=count(restart, "knob"))
    if hands:
        words += say(" Not looked at: {knobs} set by hand.", knobs=count(hands, "knob"))
    return words


def way_figures(way: Way) -> str:
    """Write what a way may bring, its chance and its time; nothing for one that ends."""
    if way.kind is WayKind.STOP:
        return ""
    time = duration(way.seconds)
    if way.kind in (WayKind.PROVE, WayKind.MEASURE):
        return say("{time}, {chance} to hold", time=time, chance=chance(way.chance))
    return say(
        "{brings} ({low} to {high}), {chance} to hold, about {time}", brings=signed_percent(way.brings, 1),
        low=signed_percent(way.low, 1), high=signed_percent(way.high, 1), chance=chance(way.chance), time=time,
    )  # fmt: skip
