"""Goals: what an evening is for, under which limits, and what may be touched and risked for it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from yondle.analysis.efficiency import fan_channel, power_channel
from yondle.analysis.stability import Standard
from yondle.language.saying import listed, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, When
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.workloads import Direction, Workload
from yondle.planning.edge_search import Style


class Kind(StrEnum):
    """What a goal asks for."""

    SCORE = "score"
    TRADE = "trade"
    QUIET = "quiet"
    COOL = "cool"
    MATTERS = "matters"


@dataclass(frozen=True, slots=True)
class Goal:
    """What is wanted: a kind, of which benchmarks (with weights that add up to 1), and under which conditions.

    `target` is a score of the one benchmark that ends the climb once it is reached. `loss` is the fraction of the score that
    quiet and cool may cost. It has to meet `standard` under every one of `loads`. `knobs` may be touched, all when empty.
    """

    kind: Kind
    benchmarks: tuple[tuple[str, float], ...]
    loads: tuple[str, ...]
    standard: Standard = Standard.DAILY
    style: Style = Style.EVEN
    hours: float = 8.0
    loss: float = 0.02
    target: float | None = None
    knobs: tuple[str, ...] = ()
    restarts: bool = False
    hands: bool = False

    def movable(self, declaration: RigDeclaration) -> list[Knob]:
        """Give the knobs that may be touched: named or all, set in a way that is allowed, with more than one value left."""
        ways = {
            When.LIVE,
            *([When.RESTART] if self.restarts else []),
            *([When.BY_HAND, When.AT_HAND] if self.hands else []),
        }
        return [
            knob
            for knob in declaration.knobs
            if (not self.knobs or knob.id in self.knobs) and knob.when in ways and len(reach(declaration, knob)) > 1
        ]


def reach(declaration: RigDeclaration, knob: Knob) -> list[float]:
    """Give the values of a knob that this tuner stands for, lowest first."""
    low, high = (knob.notch_of(v) for v in declaration.own_range(knob))
    found = (knob.at(n) for n in range(low, high + 1))
    return [v for v in found if declaration.allows(knob, v)]


def checked_goal(goal: Goal, declaration: RigDeclaration) -> Goal:
    """Give a goal that makes sense on a rig; raises KnownError that says what contradicts what, or what there is nothing for."""
    if not goal.benchmarks:
        raise KnownError(say("This goal names no benchmark."), say("Name one that this machine runs."))
    for name, weight in goal.benchmarks:
        _must_run(declaration.workload(name), weight)
    if goal.target is not None:
        _must_be_a_target(goal, declaration)
    if goal.kind is Kind.TRADE and power_channel(declaration) is None:
        raise KnownError(
            say("Nothing here measures power, so no trade of score against it can be told."),
            say("Aim for the highest score, or connect a meter (docs/meters.md)."),
        )
    if goal.kind is Kind.QUIET and fan_channel(declaration) is None:
        raise KnownError(
            say("No fan is read here, so nothing tells how quiet it is."), say("Aim for the coolest instead.")
        )
    if goal.kind is Kind.COOL and not any(c.quantity is Quantity.TEMPERATURE for c in declaration.channels):
        raise KnownError(say("No temperature is read here."), say("Aim for the highest score or the best trade."))
    if not goal.movable(declaration):
        raise KnownError(say("There is no knob that this goal may touch."), _what_to_allow(goal, declaration))
    return goal


def _must_run(work: Workload, weight: float) -> None:
    if work.by_hand or not work.scored:
        raise KnownError(
            say("{benchmark} yields no figure that Yondle can measure by itself.", benchmark=work.name),
            say("Name a benchmark that it runs."),
        )
    if not 0.0 < weight < math.inf:
        raise KnownError(
            say("The weight of {benchmark} has to be above 0.", benchmark=work.name),
            say("Leave out what doesn't count."),
        )


def _must_be_a_target(goal: Goal, declaration: RigDeclaration) -> None:
    if len(goal.benchmarks) > 1 or goal.kind is not Kind.SCORE:
        raise KnownError(
            say("A target is a score of one benchmark."), say("Name one benchmark, and aim for its score.")
        )
    metric = declaration.workload(goal.benchmarks[0][0]).metric
    if (
        goal.target is not None
        and metric.cap is not None
        and metric.direction is Direction.HIGHER
        and goal.target > metric.cap
    ):
        raise KnownError(
            say("{metric} can't go above {cap:g} {unit}.", metric=metric.name, cap=metric.cap, unit=metric.unit),
            say("Give a target below that."),
        )


def _what_to_allow(goal: Goal, declaration: RigDeclaration) -> str:
    """Say what would have to be allowed for there to be anything to do."""
    ways = {
        When.RESTART: say("restarts"),
        When.BY_HAND: say("values set by hand"),
        When.AT_HAND: say("values set by hand"),
    }
    chosen = [k for k in declaration.knobs if not goal.knobs or k.id in goal.knobs]
    closed = list(dict.fromkeys(ways[k.when] for k in chosen if k.when in ways))
    if closed:
        return say("Allow {ways}, or name other knobs.", ways=listed(closed))
    return say("Name other knobs, or widen your own limits.")
