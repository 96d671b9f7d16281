"""One step in full: verdict and reason, what a failure points to, gains, readings, and what can be done with it."""

from __future__ import annotations

import statistics
from dataclasses import dataclass

from yondle.analysis.judging import started_at
from yondle.analysis.margins import spread
from yondle.language.saying import listed, say
from yondle.model.knobs import Subsystem
from yondle.model.pacing import LOW
from yondle.model.quantities import number, quantity, ranged
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import METER, Quantity
from yondle.model.steps import ASKED_BECAUSE, Attempt, StepKind, StepRecord, telling_of
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
class StepView:
    """One step in full: verdict and reason, what a failure points to, gains and readings in rows, notes, what can be done."""

    number: int
    title: str
    verdict: Verdict
    reason: str
    rows: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]
    can_go_back: bool
    can_test_again: bool
    signs: str
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


def step_view(book: Snapshot, step_number: int) -> StepView:
    """Put a step into words."""
    record = book.step(step_number)
    outcome = record.deciding
    reason = outcome.reason if outcome else say("No verdict: it is on trial, or was never tested through.")
    rows = (
        *_history_rows(book.declaration, record),
        *_gain_rows(book, record),
        *_last_rows(book.declaration, record),
        *_proven_rows(book, record),
        *_reading_rows(book.declaration, record),
        *_derived_rows(book, record),
    )
    notes = tuple(f"{note.at[:16].replace('T', ' ')}  {note.text}" for note in record.notes)
    return StepView(
        number=step_number,
        title=step_title(book.declaration, record.step),
        verdict=record.verdict,
        reason=reason,
        rows=rows,
        notes=notes,
        can_go_back=book.can_go_back(step_number),
        can_test_again=book.can_test_again(step_number),
        signs=_signs(book, record),
        recorded=record.recorded,
    )


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
        "at {low:g} to {high}, not at {above:g} to {below}: figures differ by more than their margins tell",
        low=round(min(starts), 1),
        high=quantity(max(starts), channel.unit, 1),
        above=above,
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
        (say("{c}, last", c=c.name), quantity(outcome.last[c.id], c.unit, c.digits))
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


def _gain_rows(book: Snapshot, record: StepRecord) -> tuple[tuple[str, str], ...]:
    rows, told = [], []
    for benchmark in book.declaration.benchmarks:
        value = gain_of(book, record, benchmark)
        if value is not None:
            if not capped(record, benchmark):
                told.append((benchmark, value))
            rows.append((benchmark.name, say("at its cap") if capped(record, benchmark) else told_words(value)))
            lows = lows_gain_of(book, record, benchmark)
            if lows is not None:
                rows.append((f"{benchmark.name}, {LOW}", lows_words(lows, lows.n * benchmark.pass_s)))
            continue
        measured = spread(record.scores(benchmark.id))
        if measured is not None:
            metric = benchmark.metric
            words = ranged(measured.mean, measured.low, measured.high, metric.unit, metric.digits)
            rows.append((benchmark.name, words))
    if sentence := step_sentence(told):
        rows.insert(0, (say("Over all"), sentence))
    together = mean_gain(book, record)
    if together is not None and together.benchmarks > 1:
        rows.append((say("Geometric mean of {n}", n=together.benchmarks), gain_words(together.these)))
        drawn = drawn_words(together)
        rows += [(say("Drawn at random"), drawn)] if drawn else []
    return tuple(rows)


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
    return (*rows, *_efficiency_row(declaration, record), *_apart_row(declaration, attempt))


def _apart_row(declaration: RigDeclaration, attempt: Attempt) -> tuple[tuple[str, str], ...]:
    """How far apart the workers of one run were, in the benchmark where they were furthest: a slow core shows here."""
    apart: dict[str, list[float]] = {}
    for record in attempt.passes:
        rates = record.result.measured.per_worker if record.counts and record.result else ()
        if len(rates) > 1 and min(rates) > 0:
            apart.setdefault(record.workload, []).append((max(rates) - min(rates)) / max(rates))
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
