"""A target score: the best so far, how often it was reached, what is missing, and which setting would reach it."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.scaling import Elasticity, at_cap, elasticity
from yondle.language.saying import in_sentence, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.quantities import count, number, quantity
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.measured import Group, Setting, Settings, groups_of
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Way:
    """The value of one knob that would reach the target if its trend held, with its 95 % range, and what stands against it.

    `high` is infinite where the trend may be too weak ever to get there.
    """

    knob: Knob
    value: float
    low: float
    high: float
    against: tuple[str, ...]
    sentence: str


@dataclass(frozen=True, slots=True)
class Target:
    """How far a target is: best pass, its step, how many of all passes reached it, the gain still missing, and the ways."""

    benchmark: Workload
    wanted: float
    best: float
    best_step: int
    reached: int
    passes: int
    missing: float
    ways: tuple[Way, ...]
    sentence: str


def target(book: Snapshot, settings: Settings, benchmark: Workload, wanted: float) -> Target:
    """Say how far a target is; raises KnownError for one that is no score, and where nothing is measured."""
    if not math.isfinite(wanted) or wanted <= 0.0:
        raise KnownError(
            say("A target of {wanted:g} is no score.", wanted=wanted),
            say("Give one above 0 in {unit}.", unit=benchmark.metric.unit),
        )
    settings = tuple(s for s in settings if benchmark.id in s.figures)
    if not settings:
        raise KnownError(
            say("{benchmark} is not measured yet.", benchmark=benchmark.name), say("Run the baseline first.")
        )
    higher = benchmark.metric.direction is Direction.HIGHER
    scores = [(f.score, s) for s in settings for f in s.figures[benchmark.id]]
    best, where = (max if higher else min)(scores, key=lambda pair: pair[0])
    reached = sum(score >= wanted if higher else score <= wanted for score, _ in scores)
    missing = (wanted / best if higher else best / wanted) - 1.0
    ways = () if missing <= 0.0 else _ways(book, benchmark, wanted, settings)
    said = _sentence(benchmark, wanted, best, where, reached, len(scores), missing, ways)
    return Target(benchmark, wanted, best, where.steps[-1], reached, len(scores), missing, ways, said)


def _ways(book: Snapshot, benchmark: Workload, wanted: float, settings: Settings) -> tuple[Way, ...]:
    ways = []
    for knob in book.declaration.knobs:
        for group in groups_of(settings, knob, book.in_force)[:1]:
            way = _way(book, benchmark, wanted, knob, group)
            ways += [way] if way is not None else []
    return tuple(sorted(ways, key=lambda w: (len(w.against), abs(math.log(w.value / book.in_force[w.knob.id])))))


def _way(book: Snapshot, benchmark: Workload, wanted: float, knob: Knob, group: Group) -> Way | None:
    """Follow a knob's trend from the best of its values to the target; None where it has no sure trend."""
    points = [(s.setup[knob.id], [f.score for f in s.figures[benchmark.id]]) for s in group.settings]
    if knob.choices or points[0][0] <= 0.0 or at_cap(points, benchmark.metric.cap):
        return None
    trend = elasticity(points, benchmark.metric.direction)
    if trend is None or not math.isfinite(trend.low) or trend.low <= 0.0 <= trend.high:
        return None
    higher = benchmark.metric.direction is Direction.HIGHER
    means = [(value, math.exp(sum(map(math.log, scores)) / len(scores))) for value, scores in points]
    start, mean = (max if higher else min)(means, key=lambda pair: pair[1])
    gain = math.log(wanted / mean) if higher else math.log(mean / wanted)
    if gain <= 0.0:
        return None
    value, low, high = _reach(start, gain, trend)
    against = _against(book, knob, group, value)
    words = f"{knob.name} {knob.text(knob.nearest(value)) if knob.low <= value <= knob.high else _far(knob, value)}"
    ends = say(
        "{low} to {high}",
        low=number(low, knob.digits),
        high=number(high, knob.digits) if math.isfinite(high) else say("never"),
    )
    sentence = say("{words} ({ends}) would reach it if the trend held", words=words, ends=ends)
    return Way(knob, value, low, high, against, f"{sentence}{': ' + ', '.join(against) if against else ''}.")


def _reach(start: float, gain: float, trend: Elasticity) -> tuple[float, float, float]:
    """Give where a trend reaches a gain on logs, and the ends of the range that its slope leaves, nearest first."""
    fast, slow = (trend.high, trend.low) if trend.slope > 0 else (trend.low, trend.high)
    ends = [start * math.exp(min(max(gain / slope, -50.0), 50.0)) for slope in (trend.slope, fast, slow)]
    return ends[0], ends[1], ends[2]


def _far(knob: Knob, value: float) -> str:
    return quantity(value, knob.unit, knob.digits)


def _against(book: Snapshot, knob: Knob, group: Group, value: float) -> tuple[str, ...]:
    """Say what stands against a value: the knob's range, the tuner's own, what was tested, and what failed."""
    low, high = book.declaration.own_range(knob)
    tested = group.values
    failed = [s.setup[knob.id] for s in group.settings if s.failure is not None and not s.figures]
    told = []
    if not knob.low <= value <= knob.high:
        told.append(say("beyond what {knob} takes", knob=in_sentence(knob.name)))
    elif not low <= value <= high:
        told.append(say("beyond your own limit of {high}", high=knob.text(high if value > high else low)))
    if not min(tested) <= value <= max(tested):
        told.append(
            say(
                "outside what was tested ({lowest} to {highest})",
                lowest=knob.bare(min(tested)),
                highest=knob.text(max(tested)),
            )
        )
    if failed and (min(failed) <= value if value > min(tested) else max(failed) >= value):
        told.append(say("{failed} has failed", failed=knob.text(min(failed) if value > min(tested) else max(failed))))
    return tuple(told)


def _sentence(
    benchmark: Workload,
    wanted: float,
    best: float,
    where: Setting,
    reached: int,
    passes: int,
    missing: float,
    ways: tuple[Way, ...],
) -> str:
    metric = benchmark.metric
    begin = say(
        "Best so far {best} at step {steps}", best=quantity(best, metric.unit, metric.digits), steps=where.steps[-1]
    )
    goal = quantity(wanted, metric.unit, metric.digits)
    if missing <= 0.0:
        return say(
            "{begin}: {goal} was reached by {reached} of {passes}.",
            begin=begin,
            goal=goal,
            reached=reached,
            passes=count(passes, "pass", "passes"),
        )
    if metric.cap is not None and wanted > metric.cap:
        return say(
            "{begin}: {goal} lies beyond its cap of {cap}.",
            begin=begin,
            goal=goal,
            cap=quantity(metric.cap, metric.unit),
        )
    words = say("{begin}: {goal} takes {missing}\u202f% more", begin=begin, goal=goal, missing=number(100 * missing, 1))
    if not ways:
        return say("{words}, and no knob has shown a trend to follow there.", words=words)
    return f"{words}. {ways[0].sentence}"
