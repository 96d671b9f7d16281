"""What a logbook has learnt, as lessons for the planner: of one attempt, or of everything that was ever tested."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace

from yondle.analysis.exposure import Warmths, runs_of, warmths
from yondle.analysis.judging import limit_acted
from yondle.analysis.limiting import FLAGGED_SHARE
from yondle.analysis.margins import GainWord
from yondle.analysis.soak import warmed
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.steps import Attempt, PassRecord, StepRecord
from yondle.model.verdicts import Failure
from yondle.model.workloads import Workload
from yondle.planning.goals.lessons import Gained, Lesson, Seen
from yondle.planning.goals.readings import READ_SPREAD
from yondle.views.shared.leveled import levels_of
from yondle.views.shared.rooms import room_told
from yondle.views.shared.snapshot import Snapshot

SINGLE_SPREAD = 0.02
"""How far a single figure may be beside what is typical, on logs, where nothing tells (one standard deviation)."""
_LONG_ENOUGH_S = 4.0
_SEEN = tuple(READ_SPREAD)


def lesson_of(book: Snapshot, record: StepRecord, benchmarks: Iterable[Workload], of: str = "") -> Lesson:
    """Give what the latest attempt of a step taught; `of` is the knob whose edge was asked for."""
    attempt = record.attempts[-1]
    home = attempt.home or _from(book, record)
    gained = tuple(_gains(book, record.step.setup, home, benchmarks)) if _scored(attempt) else ()
    return _lesson(book.declaration, record, attempt, home, warmths(book.steps), gained, of)


def lessons_of(book: Snapshot, benchmarks: Iterable[Workload]) -> tuple[Lesson, ...]:
    """Give what everything that was ever tested taught: every setup measured against the baseline once, and every run."""
    base, named = book.baseline_step, tuple(benchmarks)
    warm, done = warmths(book.steps), set[Setup]()
    found = list[Lesson]()
    for record in book.steps:
        setup = record.step.setup
        for number, attempt in enumerate(record.attempts):
            gained: tuple[Gained, ...] = ()
            home = base.step.setup if base is not None else setup
            if base is not None and number == 0 and setup not in done and setup != home:
                gained = tuple(_gains(book, setup, home, named))
                done.add(setup)
            changed = attempt.home or _from(book, record)
            if gained and changed != home:
                found.append(Lesson(setup, home, record.verdict, gained))
                gained = ()
            found.append(_lesson(book.declaration, record, attempt, changed, warm, gained, ""))
        if not record.attempts and base is not None and setup not in done and setup != base.step.setup:
            done.add(setup)
            gained = tuple(_gains(book, setup, base.step.setup, named))
            if gained:
                found.append(Lesson(setup, base.step.setup, record.verdict, gained))
    return tuple(found)


def best_of(record: StepRecord, benchmarks: Iterable[Workload]) -> dict[str, float]:
    """Give the mean of what a step scored, by benchmark."""
    scores = ((work.id, record.scores(work.id)) for work in benchmarks)
    return {name: sum(told) / len(told) for name, told in scores if told}


def _scored(attempt: Attempt) -> bool:
    return any(made.counts for made in attempt.passes)


def _from(book: Snapshot, record: StepRecord) -> Setup:
    parent = record.step.parent
    return book.step(parent).step.setup if parent is not None else record.step.setup


def _gains(book: Snapshot, setup: Setup, home: Setup, benchmarks: Iterable[Workload]) -> Iterable[Gained]:
    for work in benchmarks:
        levels = levels_of(book, work)
        told = levels.difference(setup, home)
        if told is not None:
            yield Gained(work.id, told.value, told.own + told.shared + told.beside**2 / 3.0)
            continue
        gain = levels.gain(setup, home) if setup != home else None
        if gain is not None and gain.word is GainWord.TOO_FEW and gain.fraction > -1.0:
            yield Gained(work.id, math.log1p(gain.fraction), 2.0 * SINGLE_SPREAD**2)


def _lesson(
    declaration: RigDeclaration,
    record: StepRecord,
    attempt: Attempt,
    home: Setup,
    warm: Warmths,
    gained: tuple[Gained, ...],
    of: str,
) -> Lesson:
    setup = record.step.setup
    first = next(iter(setup), None)
    runs = runs_of([replace(record, attempts=(attempt,))], first, warm) if first is not None else []
    verdict = attempt.outcome.verdict if attempt.outcome is not None else record.verdict
    seen = (*_seen(declaration, setup, attempt, warm), *_stopped_at(declaration, attempt, warm))
    room = room_told(attempt.conditions)
    ceiling = attempt.outcome is not None and attempt.outcome.failure is Failure.CEILING
    by = tuple(_limits(declaration, attempt))
    return Lesson(setup, home, verdict, gained, seen, tuple(runs), room, of, by, ceiling)


def _seen(declaration: RigDeclaration, setup: Setup, attempt: Attempt, warm: Warmths) -> Iterable[Seen]:
    """Read what was seen in the passes at the step's own settings; a temperature from the one that left it warmest."""
    channels = [c for c in declaration.channels if c.quantity in _SEEN]
    by_work: dict[str, list[PassRecord]] = {}
    for made in attempt.passes:
        if made.result is not None and not made.warm_up and made.result.duration_s >= _LONG_ENOUGH_S:
            by_work.setdefault(made.workload, []).append(made)
    for work, passes in by_work.items():
        acted = any(limit_acted(declaration, setup, made) for made in passes)
        held = min((_held(declaration, setup, made) for made in passes), default=1.0) if acted else 1.0
        warmest = min(passes, key=lambda made: _cool(attempt, made, warm))
        for channel in channels:
            hot = channel.quantity is Quantity.TEMPERATURE
            told = [m.result.measured for m in ([warmest] if hot else passes) if m.result is not None]
            read = [
                r
                for m in told
                if (r := (m.most if hot and channel.id in m.most else m.mean).get(channel.id)) is not None
            ]
            if read:
                cool = _cool(attempt, warmest, warm) if hot else 0.0
                yield Seen(work, channel.id, sum(read) / len(read), acted and not hot, held, cool)


def _stopped_at(declaration: RigDeclaration, attempt: Attempt, warm: Warmths) -> Iterable[Seen]:
    """Read what a test was stopped at that came to a ceiling."""
    outcome = attempt.outcome
    if outcome is None or outcome.failure is not Failure.CEILING or not attempt.passes:
        return
    channel, reading = outcome.seen.get("channel"), outcome.seen.get("reading")
    last = attempt.passes[-1]
    if isinstance(channel, str) and isinstance(reading, int | float):
        lasted = outcome.time_to_failure_s or 0.0
        begun = warm.get((attempt.id, last.ordinal), 0.0)
        yield Seen(last.workload, channel, float(reading), False, 1.0, 1.0 - warmed(begun, lasted))


def _cool(attempt: Attempt, made: PassRecord, warm: Warmths) -> float:
    lasted = made.result.duration_s if made.result is not None else 0.0
    return 1.0 - warmed(warm.get((attempt.id, made.ordinal), 0.0), lasted)


def _limits(declaration: RigDeclaration, attempt: Attempt) -> Iterable[str]:
    flags = [c.id for c in declaration.channels if c.quantity is Quantity.FLAG]
    results = [made.result.measured.mean for made in attempt.passes if made.result is not None]
    return (flag for flag in flags if any(mean.get(flag, 0.0) >= FLAGGED_SHARE for mean in results))


def _held(declaration: RigDeclaration, setup: Setup, made: PassRecord) -> float:
    """Give the share of the asked clock that was left in a pass, of the knob that lacked most."""
    means = made.result.measured.mean if made.result is not None else {}
    shares = [
        means[c.id] / setup[c.follows]
        for c in declaration.channels
        if c.quantity is Quantity.CLOCK and c.follows in setup and c.id in means and setup[c.follows] > 0.0
    ]
    return min(shares, default=1.0)
