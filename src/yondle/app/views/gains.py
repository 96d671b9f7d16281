"""Gains over the baseline as figures and words, the same wherever they are shown."""

from __future__ import annotations

import math

from yondle.analysis.group import Member, group_gain
from yondle.analysis.margins import Gain, GainWord, gain
from yondle.analysis.scaling import at_cap
from yondle.app.session import Session
from yondle.language.saying import named, say
from yondle.model.pacing import LOW
from yondle.model.quantities import THIN, number, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.workloads import PART, Direction, Workload

FINE_MARGIN_PERCENT = 0.2
"""Gains get a second decimal when their margin is below this."""


def benchmark_of(session: Session, workload_id: str = "") -> Workload:
    """Give a benchmark by id, or the rig's first."""
    if workload_id:
        return session.declaration.workload(workload_id)
    return session.declaration.benchmarks[0]


def gain_of(session: Session, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain of a step over the latest baseline in one benchmark; None without figures on both sides."""
    base = session.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    return gain(record.scores(benchmark.id), base.scores(benchmark.id), benchmark.metric.direction)


def lows_gain_of(session: Session, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain in the mean rate of the slowest 1 % of frames; None for a benchmark that draws none."""
    base = session.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    lows, before = record.facts_of(benchmark.id, PART + LOW), base.facts_of(benchmark.id, PART + LOW)
    return gain(lows, before, Direction.HIGHER)


def mean_gain(session: Session, record: StepRecord) -> Gain | None:
    """Give the geometric mean of a step's gains over all benchmarks that aren't at their cap; None with under three."""
    base = session.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    return group_gain(
        [
            Member(scores, base.scores(b.id), b.metric.direction)
            for b in session.declaration.benchmarks
            if (scores := record.scores(b.id)) and not at_cap([(0.0, scores)], b.metric.cap)
        ]
    )


def gain_words(value: Gain | None) -> str:
    """Write a gain as far as it deserves: '+9.6 % ± 0.7', 'within noise', or nothing."""
    if value is None:
        return ""
    if value.word is GainWord.TOO_FEW:
        return named(value.word)
    if value.word is GainWord.WITHIN_NOISE:
        return say("within noise")
    digits = 2 if 0 < 100 * value.margin < FINE_MARGIN_PERCENT else 1
    return f"{signed_percent(value.fraction, digits)} ± {number(100 * value.margin, digits)}"


def told_words(value: Gain | None) -> str:
    """Write a gain, and where nothing shows the smallest that would have."""
    words = gain_words(value)
    if value is None or value.word is not GainWord.WITHIN_NOISE or not math.isfinite(value.visible):
        return words
    digits = 2 if 100 * value.visible < FINE_MARGIN_PERCENT else 1
    return say("{words} ({visible}\u202f% would show)", words=words, visible=number(100 * value.visible, digits))


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
        "Ratio of the geometric means of {n} passes here and {n_baseline} compared with; 95\u202f% range "
        "{low} to {high} by Welch's t on logarithms. Warm-up, disturbed and discarded passes are left out.",
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


def range_words(value: Gain) -> str:
    """Write a mean of few benchmarks with its range: it tells what others would gain, not whether these did."""
    low, high = (signed_percent(v, 0).removesuffix(f"{THIN}%") for v in (value.low, value.high))
    return say("{fraction} ({low} to {high})", fraction=signed_percent(value.fraction), low=low, high=high)
