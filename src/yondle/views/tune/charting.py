"""Score against one knob, and the sentence that reads it aloud."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.analysis.caps import at_cap
from yondle.analysis.levels import Levels
from yondle.analysis.margins import FEWEST_PASSES, GainWord, Spread, spread
from yondle.analysis.scaling import Elasticity, elasticity
from yondle.language.saying import in_sentence, say
from yondle.model.knobs import Knob, Setup
from yondle.model.quantities import MINUS, number, quantity, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.verdicts import SAYS_NOTHING, Verdict
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.failures import ChartFailure
from yondle.views.shared.leveled import levels_of
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words
from yondle.views.tune.rounds import rounds_view


@dataclass(frozen=True, slots=True)
class KnobPoint:
    """All passes at one value of the knob under the same other settings."""

    value: float
    setup: Setup
    scores: tuple[float, ...]
    spread: Spread
    verdict: Verdict
    strong: bool
    steps: tuple[int, ...]
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


@dataclass(frozen=True, slots=True)
class ChartView:
    """Score against one knob, with the sentence that reads it aloud."""

    knob: Knob
    workload: Workload
    points: tuple[KnobPoint, ...]
    failures: tuple[ChartFailure, ...]
    baseline: Spread | None
    anchor: tuple[float, float] | None
    elasticity: Elasticity | None
    sentence: str


def chart(book: Snapshot, knob: Knob, benchmark: Workload) -> ChartView:
    """Gather every pass of a benchmark against one knob."""
    now = book.in_force
    gathered: dict[Setup, list[tuple[StepRecord, list[float]]]] = {}
    failures = []
    for record in book.steps:
        setup = record.step.setup
        if knob.id not in setup:
            continue
        scores = record.scores(benchmark.id)
        if scores:
            gathered.setdefault(setup, []).append((record, scores))
        elif (outcome := record.outcome) is not None and outcome.failure not in (None, *SAYS_NOTHING):
            words = failure_words(book.declaration, outcome)
            failures.append(
                ChartFailure(setup[knob.id], record.verdict, setup.same_but(now, knob.id), record.step.number, words)
            )
    points = [p for setup, measured in gathered.items() if (p := _point(setup, measured, knob, now)) is not None]
    points.sort(key=lambda p: p.value)
    base = book.baseline_step
    base_spread = spread(base.scores(benchmark.id)) if base else None
    strong = [p for p in points if p.strong and (p.spread.n >= FEWEST_PASSES or p.recorded)]
    fitted = elasticity([(p.value, list(p.scores)) for p in strong], benchmark.metric.direction)
    anchor = _anchor(strong, base, knob)
    measured = rounds_view(book, knob, benchmark)
    sentence = measured.sentence if measured is not None else ""
    sentence = sentence or _sentence(
        knob, benchmark, strong, levels_of(book, benchmark), len(points), base_spread, fitted
    )
    if sentence and any(p.recorded and p.spread.n == 1 for p in strong) and len(strong) > 1:
        sentence += say(" One figure a setting: none has a margin of its own.")
    return ChartView(knob, benchmark, tuple(points), tuple(failures), base_spread, anchor, fitted, sentence)


def _point(setup: Setup, measured: list[tuple[StepRecord, list[float]]], knob: Knob, now: Setup) -> KnobPoint | None:
    scores = tuple(score for _, own in measured for score in own)
    summed = spread(list(scores))
    if summed is None:
        return None
    steps = tuple(record.step.number for record, _ in measured)
    return KnobPoint(
        setup[knob.id], setup, scores, summed, measured[-1][0].verdict, setup.same_but(now, knob.id), steps,
        all(record.recorded for record, _ in measured),
    )  # fmt: skip


def _anchor(strong: list[KnobPoint], base: StepRecord | None, knob: Knob) -> tuple[float, float] | None:
    if not strong or not knob.proportional:
        return None
    from_base = [p for p in strong if base is not None and base.step.number in p.steps]
    first = from_base[0] if from_base else strong[0]
    return first.value, first.spread.mean


def _sentence(
    knob: Knob,
    benchmark: Workload,
    strong: list[KnobPoint],
    levels: Levels,
    all_points: int,
    base: Spread | None,
    fit: Elasticity | None,
) -> str:
    name, score = in_sentence(knob.name), benchmark.name
    if base is None:
        return say("Nothing measured yet: the baseline comes first.")
    if at_cap([(p.value, list(p.scores)) for p in strong], benchmark.metric.cap):
        cap = quantity(benchmark.metric.cap or 0.0, benchmark.metric.unit)
        return say("{score} sits at its cap of {cap}: it tells nothing about {name}.", score=score, cap=cap, name=name)
    if len(strong) < 2 or fit is None:
        if all_points > len(strong):
            return say(
                "Only one value of {name} with the other settings as they are now; faint marks are under others.",
                name=name,
            )
        return say("One value of {name} so far: test another to see what it is worth.", name=name)
    turned = say(" (fewer seconds count as more score)") if benchmark.metric.direction is Direction.LOWER else ""
    if fit.settings == 2 or not knob.proportional:
        return _two_ends(knob, benchmark, strong, levels, turned)
    low, high = number(fit.low, 2), number(fit.high, 2)
    if fit.low <= 0.0 <= fit.high:
        return say(
            "No sign yet that {score} answers to {name}: {signed} % for each +1 % ({low} to {high}).",
            score=score,
            name=name,
            signed=_signed(fit.slope),
            low=low,
            high=high,
        )
    return say(
        "Each +1 % of {name} has brought {signed} % of score ({low} to {high}){turned}.",
        name=name,
        signed=_signed(fit.slope),
        low=low,
        high=high,
        turned=turned,
    )


def _two_ends(knob: Knob, benchmark: Workload, strong: list[KnobPoint], levels: Levels, turned: str) -> str:
    first, last = strong[0], strong[-1]
    value = levels.gain(last.setup, first.setup)
    span = say("From {first} to {last}", first=knob.bare(first.value), last=knob.text(last.value))
    if value is not None and value.word is GainWord.TOO_FEW and value.told:
        return say(
            "{span} {benchmark} changed by {fraction}{turned}.", span=span, benchmark=benchmark.name,
            fraction=signed_percent(value.fraction), turned=turned,
        )  # fmt: skip
    if value is None or value.word is GainWord.TOO_FEW:
        return say("{span}: too few passes to tell.", span=span)
    low, high = number(100 * value.low, 1), number(100 * value.high, 1)
    if value.word is GainWord.WITHIN_NOISE:
        return say(
            "{span} {benchmark} shows no difference: within noise ({low} to {high} %).",
            span=span,
            benchmark=benchmark.name,
            low=low,
            high=high,
        )
    return say(
        "{span} {benchmark} changed by {fraction} ({low} to {high} %){turned}.",
        span=span,
        benchmark=benchmark.name,
        fraction=signed_percent(value.fraction),
        low=low,
        high=high,
        turned=turned,
    )


def _signed(value: float) -> str:
    text = number(value, 2)
    return text if text.startswith(MINUS) else f"+{text}"
