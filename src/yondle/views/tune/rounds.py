"""A sweep that was measured in rounds, read as a whole: gains with margins that hold together, drift, passes needed."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.analysis.margins import Gain, GainWord, passes_needed
from yondle.analysis.pooled import Drift, Pooled, Reading, pooled_gains
from yondle.language.saying import say
from yondle.model.knobs import Knob
from yondle.model.quantities import THIN, count, number, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.workloads import Workload
from yondle.views.shared.gains import gain_words
from yondle.views.shared.snapshot import Snapshot

WORTH = 0.01
"""The gain that is told how many passes it would take to see: 1 %."""
MOST_PASSES = 60
"""A gain that takes more passes than this can't be seen in reasonable time."""


@dataclass(frozen=True, slots=True)
class RoundsView:
    """Values of a knob with their gains over the place the sweep started from, and the sentence that reads them."""

    gains: tuple[tuple[float, Gain], ...]
    drift: Drift | None
    sentence: str


def rounds_view(book: Snapshot, knob: Knob, benchmark: Workload) -> RoundsView | None:
    """Read the latest sweep in rounds of a knob with all else as it is now; None where there is none to be read."""
    before = (r for r in reversed(book.steps) if _is_compared(r, book, knob))
    compared = next((r for r in before if r.scores(benchmark.id)), None)
    if compared is None:
        return None
    beside = [
        r
        for r in book.steps
        if r.step.parent == compared.step.parent and r.step.setup.same_but(compared.step.setup, knob.id)
    ]
    values = {r.step.setup[knob.id]: i for i, r in enumerate(beside, start=1) if r is not compared}
    readings = _readings(compared, 0, benchmark.id)
    for record in beside:
        if record is not compared:
            readings += _readings(record, values[record.step.setup[knob.id]], benchmark.id)
    pooled = pooled_gains(readings, benchmark.metric.direction)
    if pooled is None:
        return None
    gains = tuple(sorted((value, pooled.gains[i]) for value, i in values.items() if i in pooled.gains))
    return RoundsView(gains, pooled.drift, _sentence(knob, benchmark, gains, pooled))


def _is_compared(record: StepRecord, book: Snapshot, knob: Knob) -> bool:
    step = record.step
    return step.unchanged and step.setup.same_but(book.in_force, knob.id)


def _readings(record: StepRecord, setting: int, benchmark: str) -> list[Reading]:
    return [
        Reading(setting, p.started_s, p.result.score)
        for attempt in record.attempts
        for p in attempt.passes
        if p.workload == benchmark and p.counts and p.result is not None and p.result.score is not None
    ]


def _sentence(knob: Knob, benchmark: Workload, gains: tuple[tuple[float, Gain], ...], pooled: Pooled) -> str:
    value, best = max(gains, key=lambda pair: pair[1].fraction)
    together = say(" (margins hold for all {gains} values together)", gains=len(gains)) if len(gains) > 1 else ""
    if best.word is GainWord.GAIN:
        words = say(
            "In rounds: {value} brought most, {gain}{together}.",
            value=knob.text(value),
            gain=gain_words(best),
            together=together,
        )
    else:
        seen = f"{number(100 * best.visible, 1)}{THIN}%"
        needed = _needed(best, len(gains), pooled)
        words = say(
            "In rounds: {benchmark} gains nothing that shows; {seen} would have{together}. {needed}",
            benchmark=benchmark.name,
            seen=seen,
            together=together,
            needed=needed,
        )
    if pooled.drift is not None and pooled.drift.found:
        words += say(
            " It drifted by {per_hour} an hour, which is taken out.", per_hour=signed_percent(pooled.drift.per_hour)
        )
    return words


def _needed(best: Gain, values: int, pooled: Pooled) -> str:
    """Say how many passes would show 1 %, as often against the start and for as many values as here."""
    passes = passes_needed(WORTH, pooled.variation, best.n_baseline / best.n, 1.0 - 0.05 / values)
    if passes > MOST_PASSES:
        return say("1\u202f% can't be resolved in reasonable time at this spread.")
    return say("To see 1\u202f% takes {passes} of each.", passes=count(passes, "pass", "passes"))
