"""One knob against every benchmark: curves by what they show, what each says, and what they say together."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.caps import at_cap
from yondle.analysis.levels import Levels
from yondle.analysis.margins import Gain, GainWord
from yondle.analysis.scaling import Elasticity
from yondle.analysis.shapes import FEWEST_FOR_SHAPE, CurveReading, CurveShape, read_curve
from yondle.language.saying import in_sentence, named, say, several
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.quantities import MINUS, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.failures import ChartFailure
from yondle.views.shared.gains import told_words
from yondle.views.shared.leveled import family_of, levels_of
from yondle.views.shared.measured import (
    Group,
    Setting,
    Settings,
    groups_of,
    held_words,
    single_words,
    unknown_words,
    unlike_words,
)
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.showing import AGAINST_BASELINE, Measure, Shower, measures_for
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words

MOST_NAMED = 5
"""More benchmarks than this are counted, not named."""


@dataclass(frozen=True, slots=True)
class CurvePoint:
    """One value of the knob: what is shown with its 95 % range (nan with one pass), every pass, and where it comes from."""

    value: float
    shown: float
    low: float
    high: float
    passes: tuple[float, ...]
    verdict: Verdict
    steps: tuple[int, ...]
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


@dataclass(frozen=True, slots=True)
class Curve:
    """A benchmark along the knob, what its scores say, and that in one sentence; `capped` where it tells nothing.

    `ends` is the gain from the lowest to the highest value.
    """

    benchmark: Workload
    points: tuple[CurvePoint, ...]
    reading: CurveReading | None
    ends: Gain | None
    capped: bool
    sentence: str
    cap_shown: float | None
    """Its cap in what is shown, where it has one."""

    @property
    def answers(self) -> bool:
        """Tell whether the benchmark answers to the knob for sure: by its slope, or with few values by its ends."""
        whole = self.reading.whole if self.reading is not None else None
        if whole is not None and whole.settings >= FEWEST_FOR_SHAPE and whole.sure:
            return True
        return self.ends is not None and self.ends.sure and self.ends.word in (GainWord.GAIN, GainWord.LOSS)


@dataclass(frozen=True, slots=True)
class ScalingView:
    """All curves of a knob under the same other settings, with what is held, what to beware of, and one sentence for all.

    `noise` is half the 95 % range of the baseline by benchmark, in what is shown; `groups` says what is held in each group
    there is, `group` is the one shown.
    """

    knob: Knob
    measure: Measure
    curves: tuple[Curve, ...]
    failures: tuple[ChartFailure, ...]
    noise: dict[str, float]
    held: str
    caveats: tuple[str, ...]
    sentence: str
    group: int
    groups: tuple[str, ...]
    own_range: tuple[float, float]
    """The lowest and highest value of the knob that this tuner stands for."""


def knobs_measured(book: Snapshot, settings: Settings) -> tuple[Knob, ...]:
    """List the knobs that were measured at two values or more with all else the same."""
    return tuple(k for k in book.declaration.knobs if groups_of(settings, k, book.in_force))


def scaling(
    book: Snapshot, settings: Settings, knob: Knob, measure: Measure = Measure.GAIN, chosen: int = 0
) -> ScalingView:
    """Give the curves of a knob in one group of settings: the present one first, else that with most values.

    Raises KnownError for what can't be shown along this knob.
    """
    return at_once(scaling_in_pieces(book, settings, knob, measure, chosen))


def scaling_in_pieces(
    book: Snapshot, settings: Settings, knob: Knob, measure: Measure, chosen: int
) -> Pieces[ScalingView]:
    """Give the curves like `scaling`, with a pause after each."""
    declaration = book.declaration
    if measure not in (offered := measures_for(knob, declaration)):
        raise KnownError(
            say("Along {knob} there is nothing to show as '{measure}'.", knob=knob.name, measure=named(measure)),
            say("Choose one of: {offered}.", offered=", ".join(named(each) for each in offered)),
        )
    groups = groups_of(settings, knob, book.in_force)
    if not groups:
        words = say(
            "No two values of {knob} are measured with all else the same: sweep it, or test another value.",
            knob=in_sentence(knob.name),
        )
        return ScalingView(knob, measure, (), (), {}, "", (), words, 0, (), declaration.own_range(knob))
    group = groups[min(chosen, len(groups) - 1)]
    base = _baseline(book, settings)
    shower = Shower(declaration, measure, base, group)
    measured = [benchmark for benchmark in declaration.benchmarks if _measured(group, benchmark)]
    family = family_of(book)
    curves = []
    for benchmark in measured:
        curves.append(_curve(benchmark, group, shower, levels_of(book, benchmark), family))
        yield
    return ScalingView(
        knob,
        measure,
        tuple(curves),
        _failures(declaration, group),
        {b.id: half for b in declaration.benchmarks if (half := shower.noise(b)) is not None},
        _held(declaration, group),
        _caveats(book.declaration, group, measure, tuple(curves), shower),
        _together(knob, tuple(curves)),
        groups.index(group),
        tuple(_held(declaration, g) for g in groups),
        declaration.own_range(knob),
    )


def _baseline(book: Snapshot, settings: Settings) -> Setting | None:
    base = book.baseline_step
    return next((s for s in settings if base is not None and base.step.number in s.steps), None)


def _measured(group: Group, benchmark: Workload) -> bool:
    return sum(benchmark.id in s.figures for s in group.settings) > 1


def _curve(benchmark: Workload, group: Group, shower: Shower, levels: Levels, family: int) -> Curve:
    points = []
    for setting in group.settings:
        passes = shower.shown(benchmark, setting)
        if passes:
            shown, low, high = shower.range(benchmark, setting)
            value = setting.setup[group.knob.id]
            points.append(
                CurvePoint(value, shown, low, high, tuple(passes), setting.verdict, setting.steps, setting.recorded)
            )
    scores = [
        (s.setup[group.knob.id], [f.score for f in s.figures[benchmark.id]])
        for s in group.settings
        if benchmark.id in s.figures
    ]
    capped = at_cap(scores, benchmark.metric.cap)
    numeric = not group.knob.choices and group.settings[0].setup[group.knob.id] > 0.0
    reading = read_curve(scores, benchmark.metric.direction, benchmark.metric.cap) if numeric else None
    setups = [s.setup for s in group.settings if benchmark.id in s.figures]
    ends = levels.gain(setups[-1], setups[0], family=family)
    span = say(
        "from {lowest} to {highest}", lowest=group.knob.bare(scores[0][0]), highest=group.knob.text(scores[-1][0])
    )
    sure = ends is not None and ends.word in (GainWord.GAIN, GainWord.LOSS)
    highest = group.knob.text(scores[-1][0])
    sentence = _sentence(group.knob, benchmark, reading, capped, f"{span}: {told_words(ends)}", sure, highest)
    return Curve(benchmark, tuple(points), reading, ends, capped, sentence, shower.cap(benchmark))


def _sentence(
    knob: Knob,
    benchmark: Workload,
    reading: CurveReading | None,
    capped: bool,
    between: str,
    sure_of_ends: bool,
    highest: str,
) -> str:
    """Read one curve aloud; `between` says what lies between its lowest and its `highest` value."""
    name, along = benchmark.name, in_sentence(knob.name)
    turned = say(" (lower is better, inverted)") if benchmark.metric.direction is Direction.LOWER else ""
    if capped:
        cap = quantity(benchmark.metric.cap or 0.0, benchmark.metric.unit)
        return say("{name} sits at its cap of {cap}: it tells nothing about {along}.", name=name, cap=cap, along=along)
    if reading is None or reading.whole is None or reading.shape is CurveShape.TOO_FEW:
        return f"{name} {between}{turned}."
    whole = reading.whole
    each = say("{signed}\u202f% for each +1\u202f%", signed=signed(whole.slope))
    within = (
        say(" ({low} to {high})", low=number(whole.low, 2), high=number(whole.high, 2))
        if math.isfinite(whole.low)
        else ""
    )
    match reading.shape:
        case CurveShape.NOTHING_SEEN if sure_of_ends:
            return f"{name} {between}{turned}."
        case CurveShape.NOTHING_SEEN:
            return say(
                "No sign yet that {name} answers to {along}: {each}{within}.",
                name=name,
                along=along,
                each=each,
                within=within,
            )
        case CurveShape.FLAT:
            return say(
                "{name} does not answer to {along}: {each}{within}.", name=name, along=along, each=each, within=within
            )
        case CurveShape.PEAK if reading.knee is not None:
            best, low, high = (knob.nearest(v) for v in (reading.knee.at, reading.knee.low, reading.knee.high))
            return say(
                "{name} is best near {best} ({low} to {high}) and falls again above: more is less.",
                name=name,
                best=knob.text(best),
                low=knob.bare(low),
                high=knob.bare(high),
            )
        case CurveShape.CAPPED if reading.plateau is not None:
            return say(
                "{name} runs into a cap from {above} on: what it shows there is no loss of the knob's.",
                name=name,
                above=knob.text(knob.nearest(reading.plateau.above)),
            )
        case CurveShape.NEARLY_FLAT if reading.plateau is not None:
            return say(
                "{name} gains next to nothing above {above}: at most {most}\u202f% up to {highest}.",
                name=name,
                above=knob.text(knob.nearest(reading.plateau.above)),
                most=number(100 * reading.plateau.most, 1),
                highest=highest,
            )
        case CurveShape.KNEE if reading.knee is not None:
            knee = reading.knee
            return say(
                "{name} bends at {at} ({low} to {high}): {before}\u202f% for each +1\u202f% before, "
                "{after} after{turned}.",
                name=name,
                at=knob.text(knob.nearest(knee.at)),
                low=knob.bare(knob.nearest(knee.low)),
                high=knob.bare(knob.nearest(knee.high)),
                before=signed(knee.before),
                after=signed(knee.after),
                turned=turned,
            )
        case CurveShape.FADES | CurveShape.GROWS if reading.lower is not None and reading.upper is not None:
            ends = {"lower": _slope_words(reading.lower), "upper": _slope_words(reading.upper)}
            if reading.shape is CurveShape.GROWS:
                return say(
                    "What {name} gains grows: {lower}\u202f% for each +1\u202f% at the lower end, {upper} at the "
                    "upper{turned}.",
                    name=name,
                    turned=turned,
                    **ends,
                )
            return say(
                "What {name} gains fades: {lower}\u202f% for each +1\u202f% at the lower end, {upper} at the upper{turned}.",
                name=name,
                turned=turned,
                **ends,
            )
        case CurveShape.PART if reading.fixed is not None:
            least, most = (number(100 * share) for share in (reading.fixed.low, reading.fixed.high))
            return say(
                "{name} gains {each}{within}{turned}, as if {low} to {high}\u202f% of its time did not get shorter.",
                name=name,
                each=each,
                within=within,
                turned=turned,
                low=least,
                high=most,
            )
    return say("{name} gains {each}{within}{turned}.", name=name, each=each, within=within, turned=turned)


def _slope_words(slope: Elasticity) -> str:
    return say(
        "{slope} ({low} to {high})", slope=signed(slope.slope), low=number(slope.low, 2), high=number(slope.high, 2)
    )


def signed(value: float) -> str:
    """Write a slope with its sign."""
    text = number(value, 2)
    return text if text.startswith(MINUS) else f"+{text}"


def _together(knob: Knob, curves: tuple[Curve, ...]) -> str:
    """Say what all curves say: which answer, which bend, which don't, which are capped."""
    along = in_sentence(knob.name)
    answer = [c for c in curves if not c.capped and c.answers]
    bent = [c for c in answer if c.reading is not None and c.reading.shape in _BENT]
    stopped = [c for c in curves if not c.capped and c.reading is not None and c.reading.shape is CurveShape.CAPPED]
    answer = [c for c in answer if c not in stopped]
    still = [c for c in curves if not c.capped and c not in answer and c not in stopped]
    parts = []
    if bent:
        parts.append(_bent_words(knob, bent[0]))
    if answer:
        best = max(answer, key=lambda c: abs(c.ends.fraction) if c.ends is not None else 0.0)
        names = _listed([c.benchmark.name for c in answer])
        most = say(", {benchmark} most", benchmark=best.benchmark.name) if len(answer) > 1 else ""
        parts.append(
            several(
                len(answer),
                "{names} answers to {along}{most}.",
                "{names} answer to {along}{most}.",
                names=names,
                along=along,
                most=most,
            )
        )
    alone = [
        c for c in still if c.ends is not None and not c.ends.sure and c.ends.word in (GainWord.GAIN, GainWord.LOSS)
    ]
    if alone:
        parts.append(
            several(
                len(alone),
                "{listed} shows a sign of answering to {along}, by itself.",
                "{listed} show signs of answering to {along}, each by itself.",
                listed=_listed([c.benchmark.name for c in alone]),
                along=along,
            )
        )
    if nothing := [c for c in still if c not in alone]:
        names = _listed([c.benchmark.name for c in nothing])
        no_sign = (
            several(len(nothing), "{listed} shows no sign of it.", "{listed} show no sign of it.", listed=names)
            if parts
            else several(
                len(nothing),
                "{listed} shows no sign of answering to {along}.",
                "{listed} show no sign of answering to {along}.",
                listed=names,
                along=along,
            )
        )
        parts.append(no_sign)
    capped = [c.benchmark.name for c in curves if c.capped]
    if capped:
        parts.append(several(len(capped), "{listed} is capped.", "{listed} are capped.", listed=_listed(capped)))
    if stopped:
        names = _listed([c.benchmark.name for c in stopped])
        parts.append(several(len(stopped), "{names} runs into a cap.", "{names} run into a cap.", names=names))
    return " ".join(parts)


_BENT = (CurveShape.KNEE, CurveShape.PEAK, CurveShape.NEARLY_FLAT)


def _bent_words(knob: Knob, curve: Curve) -> str:
    """Say what lies past the place where a curve bends."""
    reading, name = curve.reading, curve.benchmark.name
    assert reading is not None
    assert reading.place is not None
    at = knob.text(knob.nearest(reading.place))
    if reading.plateau is not None:
        most = number(100 * reading.plateau.most, 1)
        return say("Past {at} {benchmark} gains at most {most}\u202f% more.", at=at, benchmark=name, most=most)
    if reading.shape is CurveShape.PEAK:
        return say("Past {at} {benchmark} loses.", at=at, benchmark=name)
    assert reading.knee is not None
    return say(
        "Past {at} each further +1\u202f% brings {benchmark} {after}\u202f%, {before} before.",
        at=at,
        benchmark=name,
        after=signed(reading.knee.after),
        before=signed(reading.knee.before),
    )


def _listed(names: list[str]) -> str:
    if len(names) > MOST_NAMED:
        return say("{names} benchmarks", names=len(names))
    return names[0] if len(names) == 1 else say("{names} and {last}", names=", ".join(names[:-1]), last=names[-1])


def _failures(declaration: RigDeclaration, group: Group) -> tuple[ChartFailure, ...]:
    return tuple(
        ChartFailure(s.setup[group.knob.id], s.verdict, True, s.steps[-1], failure_words(declaration, s.failure))
        for s in group.settings
        if s.failure is not None and not s.figures
    )


def _held(declaration: RigDeclaration, group: Group) -> str:
    return held_words(declaration, group.settings[0].setup, group.knob.id)


def _caveats(
    declaration: RigDeclaration, group: Group, measure: Measure, curves: tuple[Curve, ...], shower: Shower
) -> tuple[str, ...]:
    """Say what the points don't share, and what is missing."""
    unlike = unlike_words(group.settings)
    unknown = unknown_words(declaration, group.settings)
    single = single_words(group.settings, {curve.benchmark.id: curve.benchmark.name for curve in curves})
    caveats = [words for words in (unlike, unknown, single) if words]
    if shower.base is None and measure in AGAINST_BASELINE:
        caveats.append(say("No baseline to compare with: run it first."))
    elif curves and not any(curve.points for curve in curves):
        caveats.append(say("Nothing here was measured {measure}: no pass has it read.", measure=measure))
    return tuple(caveats)
