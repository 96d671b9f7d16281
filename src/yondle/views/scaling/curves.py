"""One knob against every benchmark: curves by what they show, what each says, and what they say together."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.margins import Gain, GainWord, gain
from yondle.analysis.scaling import FEWEST_FOR_SHAPE, CurveReading, CurveShape, at_cap, read_curve
from yondle.language.saying import in_sentence, named, say, several
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.quantities import MINUS, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.failures import ChartFailure
from yondle.views.shared.gains import told_words
from yondle.views.shared.measured import Group, Setting, Settings, groups_of, held_words, unknown_words, unlike_words
from yondle.views.shared.showing import AGAINST_BASELINE, Measure, Shower, measures_for
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words

_NEXT_TO_NOTHING = 0.05
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
        if whole is not None and math.isfinite(whole.low) and whole.settings >= FEWEST_FOR_SHAPE:
            return not whole.low <= 0.0 <= whole.high
        return self.ends is not None and self.ends.word in (GainWord.GAIN, GainWord.LOSS)


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
    curves = tuple(
        _curve(benchmark, group, shower) for benchmark in declaration.benchmarks if _measured(group, benchmark)
    )
    return ScalingView(
        knob,
        measure,
        curves,
        _failures(declaration, group),
        {b.id: half for b in declaration.benchmarks if (half := shower.noise(b)) is not None},
        _held(declaration, group),
        _caveats(book.declaration, group, measure, curves, shower),
        _together(knob, curves),
        groups.index(group),
        tuple(_held(declaration, g) for g in groups),
        declaration.own_range(knob),
    )


def _baseline(book: Snapshot, settings: Settings) -> Setting | None:
    base = book.baseline_step
    return next((s for s in settings if base is not None and base.step.number in s.steps), None)


def _measured(group: Group, benchmark: Workload) -> bool:
    return sum(benchmark.id in s.figures for s in group.settings) > 1


def _curve(benchmark: Workload, group: Group, shower: Shower) -> Curve:
    points = []
    for setting in group.settings:
        passes = shower.shown(benchmark, setting)
        if passes:
            shown, low, high = shower.range(benchmark, setting)
            value = setting.setup[group.knob.id]
            points.append(CurvePoint(value, shown, low, high, tuple(passes), setting.verdict, setting.steps))
    scores = [
        (s.setup[group.knob.id], [f.score for f in s.figures[benchmark.id]])
        for s in group.settings
        if benchmark.id in s.figures
    ]
    capped = at_cap(scores, benchmark.metric.cap)
    numeric = not group.knob.choices and group.settings[0].setup[group.knob.id] > 0.0
    reading = read_curve(scores, benchmark.metric.direction, benchmark.metric.cap) if numeric else None
    ends = gain(scores[-1][1], scores[0][1], benchmark.metric.direction)
    span = say(
        "from {lowest} to {highest}", lowest=group.knob.bare(scores[0][0]), highest=group.knob.text(scores[-1][0])
    )
    sentence = _sentence(group.knob, benchmark, reading, capped, f"{span}: {told_words(ends)}")
    return Curve(benchmark, tuple(points), reading, ends, capped, sentence, shower.cap(benchmark))


def _sentence(knob: Knob, benchmark: Workload, reading: CurveReading | None, capped: bool, ends: str) -> str:
    """Read one curve aloud; `ends` says what lies between its lowest and its highest value."""
    name, along = benchmark.name, in_sentence(knob.name)
    turned = say(" (lower is better, inverted)") if benchmark.metric.direction is Direction.LOWER else ""
    if capped:
        cap = quantity(benchmark.metric.cap or 0.0, benchmark.metric.unit)
        return say("{name} sits at its cap of {cap}: it tells nothing about {along}.", name=name, cap=cap, along=along)
    if reading is None or reading.whole is None or reading.shape is CurveShape.TOO_FEW:
        return f"{name} {ends}{turned}."
    whole = reading.whole
    each = say("{signed}\u202f% for each +1\u202f%", signed=signed(whole.slope))
    within = (
        say(" ({low} to {high})", low=number(whole.low, 2), high=number(whole.high, 2))
        if math.isfinite(whole.low)
        else ""
    )
    match reading.shape:
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
        case CurveShape.PEAK:
            top = knob.text(knob.nearest(reading.knee.at)) if reading.knee is not None else say("the middle")
            return say("{name} falls again above {top}: more is less.", name=name, top=top)
        case CurveShape.CAPPED:
            return say(
                "{name} runs into a cap{from_}: what it shows above is no loss of the knob's.",
                name=name,
                from_=_from(knob, reading),
            )
        case CurveShape.NEARLY_FLAT:
            return say("{name} gains next to nothing{from_}.", name=name, from_=_from(knob, reading))
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
        case CurveShape.PART if reading.fixed_share:
            share = number(100 * reading.fixed_share)
            return say(
                "{name} gains {each}{within}{turned}; about {share}\u202f% of its time does not get shorter.",
                name=name,
                each=each,
                within=within,
                turned=turned,
                share=share,
            )
    return say("{name} gains {each}{within}{turned}.", name=name, each=each, within=within, turned=turned)


def _from(knob: Knob, reading: CurveReading) -> str:
    return (
        say(" above {nearest}", nearest=knob.text(knob.nearest(reading.knee.at)))
        if reading.knee is not None
        else say(" in the upper half")
    )


def signed(value: float) -> str:
    """Write a slope with its sign."""
    text = number(value, 2)
    return text if text.startswith(MINUS) else f"+{text}"


def _together(knob: Knob, curves: tuple[Curve, ...]) -> str:
    """Say what all curves say: which answer, which bend, which don't, which are capped."""
    along = in_sentence(knob.name)
    answer = [c for c in curves if not c.capped and c.answers]
    bent = [c for c in answer if c.reading is not None and c.reading.knee is not None]
    stopped = [c for c in curves if not c.capped and c.reading is not None and c.reading.shape is CurveShape.CAPPED]
    answer = [c for c in answer if c not in stopped]
    still = [c for c in curves if not c.capped and c not in answer and c not in stopped]
    parts = []
    if bent:
        knee = bent[0].reading.knee if bent[0].reading is not None else None
        assert knee is not None
        share = knee.after / knee.before if knee.before > 0.0 else math.nan
        at = knob.text(knob.nearest(knee.at))
        if share < _NEXT_TO_NOTHING:
            parts.append(
                say("Past {at} {benchmark} gains next to nothing more.", at=at, benchmark=bent[0].benchmark.name)
            )
        elif share < 1.0:
            parts.append(
                say(
                    "Past {at} each further step brings {benchmark} {share}\u202f% of what it did.",
                    at=at,
                    benchmark=bent[0].benchmark.name,
                    share=number(100 * share),
                )
            )
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
    if still:
        parts.append(
            several(
                len(still),
                "{listed} shows no sign of it.",
                "{listed} show no sign of it.",
                listed=_listed([c.benchmark.name for c in still]),
            )
        )
    capped = [c.benchmark.name for c in curves if c.capped]
    if capped:
        parts.append(several(len(capped), "{listed} is capped.", "{listed} are capped.", listed=_listed(capped)))
    if stopped:
        names = _listed([c.benchmark.name for c in stopped])
        parts.append(several(len(stopped), "{names} runs into a cap.", "{names} run into a cap.", names=names))
    return " ".join(parts)


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
    caveats = [words for words in (unlike, unknown) if words]
    if shower.base is None and measure in AGAINST_BASELINE:
        caveats.append(say("No baseline to compare with: run it first."))
    elif curves and not any(curve.points for curve in curves):
        caveats.append(say("Nothing here was measured {measure}: no pass has it read.", measure=measure))
    return tuple(caveats)
