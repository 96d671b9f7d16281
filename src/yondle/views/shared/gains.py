"""Gains over the baseline as figures and words, the same wherever they are shown."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from yondle.analysis.caps import at_cap
from yondle.analysis.margins import Basis, Gain, GainWord, spread
from yondle.language.saying import listed, say
from yondle.model.pacing import LOW
from yondle.model.quantities import THIN, count, number, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.workloads import Workload
from yondle.views.shared.leveled import Of, family_of, levels_of
from yondle.views.shared.snapshot import Snapshot

if TYPE_CHECKING:
    from yondle.analysis.group import GroupGain

FINE_MARGIN_PERCENT = 0.2
"""Gains get a second decimal when their margin is below this."""
_BESIDE_TOLD = 0.0005
LOWS_RESOLVE = 0.05
"""Gains in the slowest frames are told where one of this size would show."""
_TOLD = (GainWord.GAIN, GainWord.LOSS)


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
    return levels_of(book, benchmark).gain(record.step.setup, base.step.setup, family=family_of(book))


def lows_gain_of(book: Snapshot, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain in the mean rate of the slowest 1 % of frames; None for a benchmark that draws none."""
    base = book.baseline_step
    if base is None or not record.parts_of(benchmark.id, LOW):
        return None
    return levels_of(book, benchmark, Of(LOW)).gain(record.step.setup, base.step.setup, family=family_of(book))


def mean_gain(book: Snapshot, record: StepRecord) -> GroupGain | None:
    """Give the geometric mean of a step's gains over all benchmarks that aren't at their cap; None without figures."""
    from yondle.analysis.group import group_gain

    base = book.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    told = (
        levels_of(book, b).difference(record.step.setup, base.step.setup)
        for b in book.declaration.benchmarks
        if record.scores(b.id) and not capped(record, b)
    )
    return group_gain([difference for difference in told if difference is not None])


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
        percent = signed_percent(value.fraction)
        return (
            say("{percent}, one figure", percent=percent) if value.told else say("{percent}, one run", percent=percent)
        )
    if value.word is GainWord.WITHIN_NOISE:
        return say("within noise ({range})", range=figure_words(value))
    if not value.sure:
        return say("{range}, by itself", range=figure_words(value))
    return figure_words(value)


def figure_words(value: Gain) -> str:
    """Write a gain as its figure alone, for where a place or a colour of its own says that it is within noise."""
    if value.word is GainWord.TOO_FEW:
        return gain_words(value)
    digits = 2 if 0 < 100 * value.margin < FINE_MARGIN_PERCENT else 1
    if value.borrowed:
        return say(
            "{percent} \N{PLUS-MINUS SIGN} {margin} borrowed", percent=signed_percent(value.fraction, digits),
            margin=number(100 * value.margin, digits),
        )  # fmt: skip
    return f"{signed_percent(value.fraction, digits)} ± {number(100 * value.margin, digits)}"


def step_sentence(gains: Sequence[tuple[Workload, Gain]]) -> str:
    """Say what a step brought over all its benchmarks together, counting only what is sure among all that a logbook tells."""
    if len(gains) < 2:
        return ""
    better, worse = (sum(g.sure and g.word is word for _, g in gains) for word in (GainWord.GAIN, GainWord.LOSS))
    if not better and not worse:
        return say("nothing sure in {n}", n=count(len(gains), "benchmark"))
    parts = [say("better in {better}", better=better)] if better else []
    parts += [say("worse in {worse}", worse=worse)] if worse else []
    return say("{words} of {n}", words=listed(parts), n=count(len(gains), "benchmark"))


def lows_words(value: Gain, seconds: float) -> str:
    """Write a gain in the slowest frames where that many seconds a side can resolve one, else how long it takes."""
    if not math.isfinite(value.visible) or value.visible <= LOWS_RESOLVE or (value.sure and value.word in _TOLD):
        return told_words(value)
    minutes = math.ceil(seconds * (value.visible / LOWS_RESOLVE) ** 2 / 60.0)
    percent = number(100 * LOWS_RESOLVE)
    return say("needs {minutes} min a side to show {percent}\u202f%", minutes=minutes, percent=percent)


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
    if value.word is GainWord.TOO_FEW and value.told:
        return say("One figure, told and not measured here: it has no margin, and can't be told from noise.")
    if value.word is GainWord.TOO_FEW:
        return say(
            "{n} against {n_baseline} passes: it takes two on either side to tell a gain from noise.",
            n=value.n,
            n_baseline=value.n_baseline,
        )
    low, high = (signed_percent(v) for v in (value.low, value.high))
    words = say(
        "From {n} passes here and {n_baseline} compared with{design}; 95\u202f% range {low} to {high}. Warm-up, disturbed "
        "and discarded passes are left out.",
        n=value.n,
        n_baseline=value.n_baseline,
        design=_design_words(value.basis) if value.basis is not None else "",
        low=low,
        high=high,
    )
    if value.borrowed:
        words += say(
            " A side of it is one figure: how much such figures vary is borrowed from others of this benchmark in this logbook."
        )
    if not value.sure:
        words += say(
            " By itself it shows; among all that this logbook tells, one like it comes by chance. Test it again to be sure."
        )
    if math.isfinite(value.visible):
        words += say(
            " These passes would show {visible}\u202f% in four of five cases.", visible=number(100 * value.visible, 1)
        )
    return words


def _design_words(basis: Basis) -> str:
    """Say how the passes were laid out, what tests of the same settings differ by, and what coarse figures leave open."""
    turns = count(basis.alternated, "test")
    words = say(", taken in turns in {n}", n=turns) if basis.alternated else say(", in tests apart")
    apart = math.hypot(basis.attempt_deviation, basis.walk_deviation)
    share = number(100 * apart, 2)
    if basis.repeats:
        repeats = count(basis.repeats, "repeat")
        words += say("; tests of the same settings differ by {share}\u202f% ({repeats})", share=share, repeats=repeats)
    else:
        words += say(
            "; tests of the same settings are taken to differ by {share}\u202f% (none repeated yet)", share=share
        )
    if basis.beside >= _BESIDE_TOLD:
        beside = number(100 * basis.beside, 1)
        words += say("; the figures come in steps, which may hide {beside}\u202f%", beside=beside)
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
