"""Gains over the baseline as figures and words, the same wherever they are shown."""

from __future__ import annotations

import math

from yondle.analysis.group import GroupGain, Member, group_gain
from yondle.analysis.margins import Gain, GainWord, spread
from yondle.analysis.scaling import at_cap
from yondle.language.saying import say
from yondle.model.pacing import LOW
from yondle.model.quantities import THIN, count, number, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.workloads import Workload
from yondle.views.shared.leveled import levels_of
from yondle.views.shared.snapshot import Snapshot

FINE_MARGIN_PERCENT = 0.2
"""Gains get a second decimal when their margin is below this."""


def benchmark_of(book: Snapshot, workload_id: str = "") -> Workload:
    """Give a benchmark by id, or the rig's first."""
    if workload_id:
        return book.declaration.workload(workload_id)
    return book.declaration.benchmarks[0]


def gain_of(book: Snapshot, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain of a step over the latest baseline in one benchmark; None without figures on both sides."""
    base = book.baseline_step
    if base is None or not record.scores(benchmark.id) or 0.0 in record.scores(benchmark.id):
        return None
    return levels_of(book, benchmark).gain(record.step.setup, base.step.setup)


def lows_gain_of(book: Snapshot, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain in the mean rate of the slowest 1 % of frames; None for a benchmark that draws none."""
    base = book.baseline_step
    if base is None or not record.parts_of(benchmark.id, LOW):
        return None
    return levels_of(book, benchmark, LOW).gain(record.step.setup, base.step.setup)


def mean_gain(book: Snapshot, record: StepRecord) -> GroupGain | None:
    """Give the geometric mean of a step's gains over all benchmarks that aren't at their cap; None without figures."""
    base = book.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    return group_gain(
        [
            Member(scores, base.scores(b.id), b.metric.direction)
            for b in book.declaration.benchmarks
            if (scores := record.scores(b.id)) and not capped(record, b)
        ]
    )


def capped(record: StepRecord, benchmark: Workload) -> bool:
    """Tell whether every pass of a benchmark at a step only shows its cap, so that it tells nothing of the setting."""
    scores = record.scores(benchmark.id)
    return bool(scores) and at_cap([(0.0, scores)], benchmark.metric.cap)


def measured_at(book: Snapshot, record: StepRecord) -> StepRecord:
    """Give the step whose figures tell of a step's settings: itself, or where it has none the latest with the same settings."""
    if any(record.scores(b.id) for b in book.declaration.benchmarks):
        return record
    same = book.same_settings(record.step.setup)
    with_figures = (r for r in reversed(same) if any(r.scores(b.id) for b in book.declaration.benchmarks))
    return next(with_figures, record)


def words_of_gain(book: Snapshot, record: StepRecord, benchmark: Workload) -> str:
    """Write what a step gained in a benchmark, or that it is at its cap; nothing without figures on both sides."""
    value, base = gain_of(book, record, benchmark), book.baseline_step
    if value is None and base is not None and record.step.setup != base.step.setup:
        return _against_nothing(record.scores(benchmark.id), base.scores(benchmark.id), benchmark)
    return say("at its cap") if value is not None and capped(record, benchmark) else gain_words(value)


def _against_nothing(scores: list[float], baseline: list[float], benchmark: Workload) -> str:
    """Write figures that no ratio can be told of, since some of them are 0; nothing where one side has none."""
    here, before = spread(scores), spread(baseline)
    if here is None or before is None:
        return ""
    digits = benchmark.metric.digits
    return say("{here} against {before}", here=number(here.mean, digits), before=number(before.mean, digits))


def gain_words(value: Gain | None) -> str:
    """Write a gain as far as it deserves: '+9.6 % ± 0.7', 'within noise (+0.2 % ± 0.5)', '+0.9 %, one run', or nothing."""
    if value is None:
        return ""
    if value.word is GainWord.TOO_FEW:
        return say("{percent}, one run", percent=signed_percent(value.fraction))
    if value.word is GainWord.WITHIN_NOISE:
        return say("within noise ({range})", range=figure_words(value))
    return figure_words(value)


def figure_words(value: Gain) -> str:
    """Write a gain as its figure alone, for where a place or a colour of its own says that it is within noise."""
    if value.word is GainWord.TOO_FEW:
        return gain_words(value)
    digits = 2 if 0 < 100 * value.margin < FINE_MARGIN_PERCENT else 1
    return f"{signed_percent(value.fraction, digits)} ± {number(100 * value.margin, digits)}"


def told_words(value: Gain | None) -> str:
    """Write a gain, and where nothing shows the smallest that would have."""
    words = gain_words(value)
    if value is None or value.word is not GainWord.WITHIN_NOISE or not math.isfinite(value.visible):
        return words
    digits = 2 if 100 * value.visible < FINE_MARGIN_PERCENT else 1
    return say(
        "within noise ({range}; {visible}\u202f% would show)",
        range=figure_words(value),
        visible=number(100 * value.visible, digits),
    )


def how_gained(value: Gain | None) -> str:
    """Say how a gain was worked out, and from how many passes; nothing without one."""
    if value is None:
        return ""
    if value.word is GainWord.TOO_FEW:
        return say(
            "{n} against {n_baseline} passes: it takes two on either side to tell a gain from noise.",
            n=value.n,
            n_baseline=value.n_baseline,
        )
    low, high = (signed_percent(v) for v in (value.low, value.high))
    words = say(
        "From {n} passes here and {n_baseline} compared with, and from how tests of the same settings differ in this "
        "logbook; 95\u202f% range {low} to {high}. Warm-up, disturbed and discarded passes are left out.",
        n=value.n,
        n_baseline=value.n_baseline,
        low=low,
        high=high,
    )
    if math.isfinite(value.visible):
        words += say(
            " These passes would show {visible}\u202f% in four of five cases.", visible=number(100 * value.visible, 1)
        )
    return words


def drawn_words(value: GroupGain) -> str:
    """Write the range in which the mean of other benchmarks of their kind lies; nothing with too few to tell."""
    if value.drawn is None:
        return ""
    low, high = (signed_percent(v, 0) for v in (value.drawn.low, value.drawn.high))
    return say("{low} to {high}", low=low.removesuffix(f"{THIN}%"), high=high)


def mean_sentence(value: GroupGain) -> str:
    """Say what benchmarks gained together, and what others of their kind would."""
    drawn = drawn_words(value)
    words = say(
        "Geometric mean of {benchmarks}: {gain}.",
        benchmarks=count(value.benchmarks, "benchmark"),
        gain=gain_words(value.these),
    )
    other = (
        say(" Were the benchmarks drawn at random from others of their kind: {drawn}.", drawn=drawn) if drawn else ""
    )
    return words + other
