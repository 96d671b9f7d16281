"""A target score: the best so far, how often it was reached, what is missing, and which setting would reach it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from yondle.analysis.caps import meets_cap
from yondle.analysis.levels import Levels
from yondle.analysis.margins import GainWord, spread
from yondle.analysis.scaling import Elasticity
from yondle.analysis.shapes import FEWEST_FOR_SHAPE, CurveShape, read_curve
from yondle.language.saying import in_sentence, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup
from yondle.model.quantities import count, figure, number, quantity
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.leveled import family_of, levels_of
from yondle.views.shared.measured import Group, Setting, Settings, groups_of
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Way:
    """The value of one knob, past the last one measured, that would reach the target if its last trend held.

    `low` and `high` are its 95 % range; `high` is infinite where the trend may be too weak ever to get there. `against` is what
    stands against the value; `short` tells that what the knob takes doesn't reach, `most` is then the log gain up to there.
    `held` is what the trend was measured at: all but the knob's own value of it has to be in force.
    """

    knob: Knob
    value: float
    low: float
    high: float
    against: tuple[str, ...]
    short: bool
    most: float
    sentence: str
    held: Setup


@dataclass(frozen=True, slots=True)
class Target:
    """How far a target is: best pass, its step, how many of all passes reached it, the gain still missing, and the ways.

    `joint` names several knobs that would reach it together where none does by itself; it is empty where they don't either.
    """

    benchmark: Workload
    wanted: float
    best: float
    best_step: int
    reached: int
    passes: int
    missing: float
    ways: tuple[Way, ...]
    joint: str
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
    joint = _joint(ways, missing) if ways and all(w.short for w in ways) else ""
    said = _sentence(benchmark, wanted, best, where, reached, len(scores), missing, ways, joint)
    return Target(benchmark, wanted, best, where.steps[-1], reached, len(scores), missing, ways, joint, said)


def _ways(book: Snapshot, benchmark: Workload, wanted: float, settings: Settings) -> tuple[Way, ...]:
    ways = []
    for knob in book.declaration.knobs:
        for group in groups_of(settings, knob, book.in_force)[:1]:
            way = _way(book, benchmark, wanted, knob, group)
            ways += [way] if way is not None else []
    return tuple(
        sorted(ways, key=lambda w: (w.short, len(w.against), abs(math.log(w.value / book.in_force[w.knob.id]))))
    )


def _way(book: Snapshot, benchmark: Workload, wanted: float, knob: Knob, group: Group) -> Way | None:
    """Follow a knob's last trend past the values measured to the target; None where it has no sure trend there."""
    measured = [s for s in group.settings if benchmark.id in s.figures]
    points = [(s.setup[knob.id], [f.score for f in s.figures[benchmark.id]]) for s in measured]
    if knob.choices or len(points) < 2 or points[0][0] <= 0.0:
        return None
    levels, setups = levels_of(book, benchmark), [s.setup for s in measured]
    trend = _last_trend(levels, family_of(book), benchmark, setups, points)
    if trend is None or (knob.proportional and trend.slope < 0.0):
        return None
    trend, error = _open_ended(trend, levels, setups, points)
    rising = trend.slope > 0.0
    end, scores = points[-1] if rising else points[0]
    mean = math.exp(sum(map(math.log, scores)) / len(scores))
    gain = math.log(wanted / mean) if benchmark.metric.direction is Direction.HIGHER else math.log(mean / wanted)
    if gain <= 0.0:
        return None
    value, low, high = _reach(end, gain, max(error, _error(scores)), trend, math.log(points[-1][0] / points[0][0]))
    last, cut = _last(knob, points, rising)
    most = max(trend.slope * math.log(last / end), 0.0) if last > 0.0 else math.inf
    short = value > last if rising else value < last
    against = _against(book, knob, group, last if short else value)
    held = measured[-1 if rising else 0]
    where = (
        "" if held.setup.same_but(book.in_force, knob.id) else say(", all else as in step {step}", step=held.steps[-1])
    )
    if short and not cut and (low <= last if rising else low >= last):
        words = say("{knob} may just reach it at {last}, the last it takes", knob=knob.name, last=knob.text(last))
        return Way(knob, last, low, math.inf, against, False, gain, f"{words}{where}{_listed(against)}.", held.setup)
    if short:
        words = _short_words(knob, last, most, cut)
        return Way(knob, last, last, math.inf, against, True, most, f"{words}{where}.", held.setup)
    value = _past(knob, end, value)
    ends = say(
        "{low} to {high}",
        low=figure(low, knob.unit, knob.digits),
        high=figure(high, knob.unit, knob.digits) if knob.low <= high <= knob.high else say("more than it takes"),
    )
    words = say(
        "{knob} {value} ({ends}) would reach it if the trend held", knob=knob.name, value=knob.text(value), ends=ends
    )
    return Way(knob, value, low, high, against, False, gain, f"{words}{where}{_listed(against)}.", held.setup)


def _listed(against: tuple[str, ...]) -> str:
    return f": {', '.join(against)}" if against else ""


def _short_words(knob: Knob, last: float, most: float, cut: bool) -> str:
    """Say that a trend doesn't lead there, or is not followed so far."""
    told = {"knob": knob.name, "last": knob.text(last), "most": number(100.0 * math.expm1(most), 1)}
    if knob.governs and cut:
        return say(
            "{knob} still brings more at {last}, the last tested: how far that goes on only a test tells", **told
        )
    if cut:
        return say(
            "{knob} would have to go too far beyond what was tested: its trend, followed up to {last}, brings {most}\u202f%",
            **told,
        )
    return say("{knob} doesn't reach it: up to {last}, the last it takes, its trend brings {most}\u202f%", **told)


def _last(knob: Knob, points: list[tuple[float, list[float]]], rising: bool) -> tuple[float, bool]:
    """Give up to where a trend is followed, and whether that is before the knob ends.

    As far beyond the last value tested as the values tested span, on logs; what limits others, not at all: it brings more for
    as long as the limit acts, and then nothing.
    """
    low, high, takes = points[0][0], points[-1][0], knob.high if rising else knob.low
    end, other = (high, low) if rising else (low, high)
    followed = end if knob.governs else end * (end / other) ** FOLLOWED
    cut = followed < takes if rising else followed > takes
    return (knob.nearest(followed) if cut else takes), cut


def _last_trend(
    levels: Levels, family: int, benchmark: Workload, setups: list[Setup], points: list[tuple[float, list[float]]]
) -> Elasticity | None:
    """Give the slope at the end of the measured values towards which scores rise; None where it isn't sure, or ends there."""
    if meets_cap(points, benchmark.metric.cap):
        return None
    if len(points) < FEWEST_FOR_SHAPE:
        whole = levels.gain(setups[-1], setups[0])
        one, other = (-2, -1) if whole is not None and whole.fraction > 0.0 else (0, 1)
        told, span = levels.gain(setups[other], setups[one], family=family), math.log(points[other][0] / points[one][0])
        if (
            whole is None
            or told is None
            or told.word not in _TOLD
            or not told.sure
            or whole.fraction * told.fraction < 0.0
        ):
            return None
        low, high = (math.log1p(v) / span for v in (told.low, told.high))
        return Elasticity(math.log1p(told.fraction) / span, low, high, len(points))
    reading = read_curve(points, benchmark.metric.direction, benchmark.metric.cap)
    if reading.whole is None or reading.shape in _ENDED:
        return None
    if reading.shape is CurveShape.STRAIGHT:
        return reading.whole
    piece = reading.upper if reading.whole.slope > 0.0 else reading.lower
    if piece is None or piece.low <= 0.0 <= piece.high or piece.slope * reading.whole.slope < 0.0:
        return None
    return piece


FOLLOWED = 1.0
"""A trend is followed beyond what was tested by this many times the range tested, on logs: what comes then, it can't know."""


def _open_ended(
    trend: Elasticity, levels: Levels, setups: list[Setup], points: list[tuple[float, list[float]]]
) -> tuple[Elasticity, float]:
    """Widen a trend by what the last two values alone leave open, which know best whether it goes on.

    Gives half the 95 % range of what lies between them, too, as a difference of logs: so much is open of where it starts.
    """
    one, other = (-2, -1) if trend.slope > 0.0 else (0, 1)
    told, span = levels.gain(setups[other], setups[one]), math.log(points[other][0] / points[one][0])
    if told is None or not math.isfinite(told.margin):
        return trend, 0.0
    low, high = sorted(math.log1p(v) / span for v in (told.low, told.high))
    error = (math.log1p(told.high) - math.log1p(told.low)) / 2.0
    return replace(trend, low=min(trend.low, low), high=max(trend.high, high)), error


_TOLD = (GainWord.GAIN, GainWord.LOSS)
_ENDED = (
    CurveShape.CAPPED,
    CurveShape.PEAK,
    CurveShape.NEARLY_FLAT,
    CurveShape.FLAT,
    CurveShape.NOTHING_SEEN,
)
"""Shapes whose end leads nowhere."""


def _past(knob: Knob, end: float, value: float) -> float:
    """Give the first value a knob takes from which on the target is reached: never one that was measured and fell short."""
    notch, last = knob.notch_of(value), knob.notch_of(end)
    rising = value > end
    if (knob.at(notch) < value) if rising else (knob.at(notch) > value):
        notch += 1 if rising else -1
    return knob.at(max(notch, last + 1) if rising else min(notch, last - 1))


def _joint(ways: tuple[Way, ...], missing: float) -> str:
    """Name the knobs that would reach the target together, those that bring most first; empty where even all of them don't."""
    taken, gained = [], 0.0
    for way in sorted(ways, key=lambda w: -w.most):
        taken.append(way)
        gained += way.most
        if gained >= math.log1p(missing):
            break
    if len(taken) < 2 or gained < math.log1p(missing):
        return ""
    names = ", ".join(f"{in_sentence(w.knob.name)} {w.knob.text(w.value)}" for w in taken)
    return say("Together they would, if their trends held and their gains multiply: {names}.", names=names)


def _reach(start: float, gain: float, error: float, trend: Elasticity, span: float) -> tuple[float, float, float]:
    """Give where a trend reaches a gain on logs, and the ends of the range its slope and its start leave, nearest first.

    Settings that can't tell a straight trend from one of which a part does not scale leave open that it is that one: a time of
    f + (1 - f)/x has a slope s that falls by s(1 - s) for each log unit, from its mean in the middle of the `span` tested.
    """
    fast, slow = (trend.high, trend.low) if trend.slope > 0 else (trend.low, trend.high)
    near, far = (max(gain - error, 0.0), fast), gain + error
    ends = [start * math.exp(min(max(more / slope, -50.0), 50.0)) for more, slope in ((gain, trend.slope), near)]
    steep = abs(trend.slope)
    if slow * trend.slope > 0.0 and steep < 1.0:
        fades = steep * (1.0 - steep) * (span + far / abs(slow)) / 2.0
        slow = math.copysign(max(abs(slow) - fades, 0.0), slow)
    never = slow * trend.slope <= 0.0
    end = math.inf if trend.slope > 0.0 else 0.0
    return ends[0], ends[1], end if never else start * math.exp(min(max(far / slow, -50.0), 50.0))


def _error(scores: list[float]) -> float:
    """Give half the 95 % range of the mean of some scores on logs; none of a single one, which tells nothing of itself."""
    told = spread(scores)
    return math.log(told.high / told.low) / 2.0 if told is not None and told.n > 1 and told.low > 0.0 else 0.0


def _against(book: Snapshot, knob: Knob, group: Group, value: float) -> tuple[str, ...]:
    """Say what stands against a value: the tuner's own range, what was tested, and what failed."""
    low, high = book.declaration.own_range(knob)
    tested = group.values
    failed = [s.setup[knob.id] for s in group.settings if s.failure is not None and not s.figures]
    told = []
    if not low <= value <= high:
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
    joint: str,
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
    if ways[0].short and not joint:
        return say("{words}, and no knob reaches it by the trends seen, nor do all together.", words=words)
    return f"{words}. {joint if joint else ways[0].sentence}"
