"""One step in full: verdict and reason, what a failure points to, gains, readings, and what can be done with it."""

from __future__ import annotations

import math
import statistics
from dataclasses import dataclass

from yondle.analysis.judging import started_at
from yondle.analysis.margins import spread
from yondle.language.saying import listed, say
from yondle.model.knobs import Subsystem
from yondle.model.pacing import LOW
from yondle.model.quantities import figure, number, quantity, ranged
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import METER, Quantity
from yondle.model.steps import ASKED_BECAUSE, StepKind, StepRecord, telling_of
from yondle.model.verdicts import Pointer, Verdict
from yondle.model.workloads import Direction
from yondle.views.shared.gains import (
    capped,
    drawn_words,
    gain_of,
    gain_words,
    lows_gain_of,
    lows_words,
    mean_gain,
    step_sentence,
    told_words,
)
from yondle.views.shared.proof import lived_through, lived_words, proof_words, proofs, recommended_words
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import step_title

START_TOLERANCE_K = 1.0
"""Readings of rounds this near their band lie in it."""
APART_SHOWN = 0.02
"""Workers that are less apart than this are alike."""


@dataclass(frozen=True, slots=True)
class StepRow:
    """A name and what is told of it; with `range` a gain as fractions, its low end, middle and high end."""

    name: str
    value: str
    range: tuple[float, float, float] | None = None


@dataclass(frozen=True, slots=True)
class StepSection:
    """Rows that belong together; `short` is what its heading tells while it is folded, or `always`."""

    key: str
    title: str
    rows: tuple[StepRow, ...]
    short: str = ""
    always: bool = False


@dataclass(frozen=True, slots=True)
class StepView:
    """One step in full: verdict and reason, what a failure points to, sections of rows, notes, what can be done."""

    number: int
    title: str
    verdict: Verdict
    reason: str
    sections: tuple[StepSection, ...]
    notes: tuple[str, ...]
    can_go_back: bool
    can_test_again: bool
    signs: str
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""

    @property
    def rows(self) -> tuple[tuple[str, str], ...]:
        """Give all rows one after another, as names and values."""
        return tuple((row.name, row.value) for section in self.sections for row in section.rows)


def step_view(book: Snapshot, step_number: int) -> StepView:
    """Put a step into words."""
    record = book.step(step_number)
    outcome = record.deciding
    reason = outcome.reason if outcome else say("No verdict: it is on trial, or was never tested through.")
    notes = tuple(f"{note.at[:16].replace('T', ' ')}  {note.text}" for note in record.notes)
    return StepView(
        number=step_number,
        title=step_title(book.declaration, record.step),
        verdict=record.verdict,
        reason=reason,
        sections=_sections(book, record),
        notes=notes,
        can_go_back=book.can_go_back(step_number),
        can_test_again=book.can_test_again(step_number),
        signs=_signs(book, record),
        recorded=record.recorded,
    )


def _sections(book: Snapshot, record: StepRecord) -> tuple[StepSection, ...]:
    """Put what is known of a step in order: what it brought, what proves it, what it cost, and how it ran."""
    declaration = book.declaration
    readings = _reading_rows(declaration, record)
    short = ", ".join(value for _, value in readings[:2])
    found = (
        _gains(book, record),
        StepSection("last", say("Right before it"), _plain(_last_rows(declaration, record))),
        StepSection("proof", say("What proves it"), _plain(_proven_rows(book, record))),
        StepSection("cost", say("What it cost"), _plain(readings), short),
        StepSection(
            "ran", say("How it ran"), _plain((*_history_rows(declaration, record), *_apart(declaration, record))),
        ),
        StepSection("derived", say("Comes to"), _plain(_derived_rows(book, record))),
    )  # fmt: skip
    return tuple(section for section in found if section.rows)


def _plain(rows: tuple[tuple[str, str], ...]) -> tuple[StepRow, ...]:
    return tuple(StepRow(name, value) for name, value in rows)


def answered_by(book: Snapshot, record: StepRecord) -> StepRecord | None:
    """Give what the tuner did about a step that failed: the next one tried from the same place, if there is any."""
    outcome = record.deciding
    if outcome is None or outcome.failure is None or record.verdict is Verdict.HELD:
        return None
    later = (r for r in book.steps if r.step.number > record.step.number)
    return next((r for r in later if r.step.parent == record.step.parent and r.step.kind is StepKind.CHANGE), None)


def _signs(book: Snapshot, record: StepRecord) -> str:
    """Say why a plan asked for the test, what a failure points to, and what was tried next about it."""
    pointer = record.deciding.pointer if record.deciding is not None else Pointer()
    why = record.attempts[-1].conditions.get(ASKED_BECAUSE) if record.attempts else None
    words = [say("Asked for: {why}.", why=why)] if why else []
    if pointer.signs:
        where = say("Points to the {subsystem}: ", subsystem=pointer.subsystem) if pointer.subsystem else say("Signs: ")
        words.append(f"{where}{'; '.join(pointer.signs)}.")
    answer = answered_by(book, record)
    if answer is not None:
        words.append(
            say(
                "Then tried {step_title}, step {number}.",
                step_title=step_title(book.declaration, answer.step),
                number=answer.step.number,
            )
        )
    return "\n".join(words)


def _history_rows(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    told, rows = telling_of(record.outcomes), []
    if len(told) > 1:
        held = sum(o.verdict is Verdict.HELD for o in told)
        rows.append((say("Tested"), say("{n} times, held {held}", n=len(told), held=held)))
    off = _started_off(declaration, record)
    if off:
        rows.append((say("Rounds started"), off))
    if record.step.unknown:
        names = listed([declaration.knob(knob).name for knob in record.step.unknown])
        rows.append((say("Not known then"), names))
    return tuple(rows)


def _started_off(declaration: RigDeclaration, record: StepRecord) -> str:
    """Say how warm the latest rounds began where that isn't how warm they were to begin."""
    attempt = next((a for a in reversed(record.attempts) if a.check is not None and a.passes), None)
    if attempt is None or attempt.check is None or attempt.check.settle_above is None:
        return ""
    starts = started_at(attempt.check, attempt.passes)
    above, below = attempt.check.settle_above, attempt.check.settle_below
    if (
        not starts
        or below is None
        or (min(starts) > above - START_TOLERANCE_K and max(starts) < below + START_TOLERANCE_K)
    ):
        return ""
    channel = declaration.channel(attempt.check.settle_channel)
    return say(
        "at {low} to {high}, not at {above} to {below}: figures differ by more than their margins tell",
        low=figure(min(starts), channel.unit, 1),
        high=quantity(max(starts), channel.unit, 1),
        above=figure(above, channel.unit),
        below=quantity(below, channel.unit),
    )


def _last_rows(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """What the sensors of the part a failure points to said last, before it."""
    outcome = record.deciding
    if outcome is None or not outcome.last or not outcome.pointer.subsystem:
        return ()
    part = (
        Subsystem.MEMORY if outcome.pointer.subsystem == Subsystem.CONTROLLER else Subsystem(outcome.pointer.subsystem)
    )
    return tuple(
        (c.name, quantity(outcome.last[c.id], c.unit, c.digits))
        for c in declaration.read_ever
        if c.id in outcome.last and c.subsystem is part and c.nature.told_last and c.core is None
    )


def _derived_rows(book: Snapshot, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """The derived quantities that this step moved."""
    base = book.declaration.derived(book.declaration.stock)
    return tuple(
        (d.name, d.text(record.derived[d.id]))
        for d in book.declaration.derived_of
        if d.id in record.derived and record.derived[d.id] != base.get(d.id)
    )


def _gains(book: Snapshot, record: StepRecord) -> StepSection:
    """Tell what a step brought: the mean first, then the benchmarks from the best to the worst, then what has no gain."""
    gained, others, told = list[tuple[float, list[StepRow]]](), list[StepRow](), []
    for benchmark in book.declaration.benchmarks:
        value = gain_of(book, record, benchmark)
        if value is not None:
            at_cap = capped(record, benchmark)
            if not at_cap:
                told.append((benchmark, value))
            range_ = (value.low, value.fraction, value.high) if not at_cap and math.isfinite(value.margin) else None
            rows = [StepRow(benchmark.name, say("at its cap") if at_cap else told_words(value), range_)]
            lows = lows_gain_of(book, record, benchmark)
            if lows is not None:
                rows.append(StepRow(f"{benchmark.name}, {LOW}", lows_words(lows, lows.n * benchmark.pass_s)))
            gained.append((-math.inf if at_cap else value.fraction, rows))
            continue
        measured = spread(record.scores(benchmark.id))
        if measured is not None:
            metric = benchmark.metric
            words = ranged(measured.mean, measured.low, measured.high, metric.unit, metric.digits)
            others.append(StepRow(benchmark.name, words))
    gained.sort(key=lambda each: -each[0])
    together, first = mean_gain(book, record), list[StepRow]()
    if together is not None and together.benchmarks > 1:
        these = together.these
        range_ = (these.low, these.fraction, these.high) if math.isfinite(these.margin) else None
        first.append(StepRow(say("Geometric mean of {n}", n=together.benchmarks), gain_words(these), range_))
    drawn = drawn_words(together) if first and together is not None else ""
    last = [StepRow(say("Drawn at random"), drawn)] if drawn else []
    ordered = (*first, *(row for _, each in gained for row in each), *others, *last)
    return StepSection("gains", say("What it brought"), ordered, step_sentence(told), always=True)


def _proven_rows(book: Snapshot, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """What a search recommended here, and what all load on these settings proves without any model."""
    found = [(say("Edge search"), recommended_words(f)) for f in book.findings if f.step == record.step.number]
    lived = lived_through(book, record.step.setup)
    kept = [(say("Daily use"), lived_words(lived))] if lived is not None else []
    return (*found, *kept, *((p.load, proof_words(p)) for p in proofs(book, record.step.setup)))


def _reading_rows(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """Readings under load: highest temperatures and power, mean clock and voltage, over the latest attempt."""
    attempt = record.attempts[-1] if record.attempts else None
    if attempt is None:
        return ()
    measured = [p.result.measured for p in attempt.passes if p.result is not None]
    touched = {declaration.knob(c.knob).subsystem for c in declaration.stock.changes_to(record.step.setup)}
    touched |= {Subsystem.PROCESSOR, Subsystem.COOLING}
    rows = []
    told = (c for c in declaration.read_ever if c.core is None and (c.subsystem in touched or c.id.startswith(METER)))
    for channel in told:
        if channel.quantity in (Quantity.TEMPERATURE, Quantity.POWER):
            values = [m.most[channel.id] for m in measured if channel.id in m.most]
            if values:
                rows.append(
                    (
                        say("{channel}, highest", channel=channel.name),
                        quantity(max(values), channel.unit, channel.digits),
                    )
                )
        elif channel.quantity in (Quantity.CLOCK, Quantity.VOLTAGE):
            values = [m.mean[channel.id] for m in measured if channel.id in m.mean]
            if values:
                shown = quantity(min(values), channel.unit, channel.digits)
                asked = record.step.setup.get(channel.follows) if channel.id.startswith(METER) else None
                set_ = (
                    say(" of {asked} set", asked=declaration.knob(channel.follows).text(asked))
                    if asked is not None
                    else ""
                )
                rows.append((say("{channel} in load", channel=channel.name), shown + set_))
    return (*rows, *_efficiency_row(declaration, record))


def _apart(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """How far apart the workers of one run were, in the benchmark where they were furthest: a slow core shows here."""
    attempt = record.attempts[-1] if record.attempts else None
    if attempt is None:
        return ()
    apart: dict[str, list[float]] = {}
    for made in attempt.passes:
        rates = made.result.measured.per_worker if made.counts and made.result else ()
        if len(rates) > 1 and min(rates) > 0:
            apart.setdefault(made.workload, []).append((max(rates) - min(rates)) / max(rates))
    usual = {name: statistics.median(values) for name, values in apart.items()}
    if not usual or max(usual.values()) < APART_SHOWN:
        return ()
    name = max(usual, key=usual.__getitem__)
    return (
        (
            say("Workers apart"),
            say(
                "{usual}\u202f% in {workload}",
                usual=number(100 * usual[name], 1),
                workload=declaration.workload(name).name,
            ),
        ),
    )


def _efficiency_row(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """Score per watt, where an outside meter sees all the power."""
    if not any(channel.id.startswith(METER) for channel in declaration.channels):
        return ()
    from yondle.analysis.efficiency import power_channel, score_per_watt

    power = power_channel(declaration)
    if power is None or not power.id.startswith(METER):
        return ()
    rows = []
    for benchmark in declaration.benchmarks:
        passes = [p for a in record.attempts for p in a.passes if p.workload == benchmark.id]
        value = score_per_watt(passes, power, benchmark.metric.direction)
        if value is not None:
            unit = benchmark.metric.unit if benchmark.metric.direction is Direction.HIGHER else "runs/h"
            rows.append((say("{benchmark} per watt", benchmark=benchmark.name), quantity(value, f"{unit}/W", 3)))
    return tuple(rows)
