"""Everything a logbook holds as rows of one table: tests, passes, incidents, notes, figures from elsewhere, files."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from yondle.language.saying import later, named, say, together
from yondle.model.measured import NOTHING_MEASURED, PER_SECOND, PER_WORKER
from yondle.model.quantities import THIN, duration, moment, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import COMPARED_STAGE, SCORE_STAGE, Attempt, PassRecord, StepRecord
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Workload
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words, stage_words, step_title, word_of


class Kind(StrEnum):
    """What a row is about."""

    TEST = "test"
    PASS = "pass"
    INCIDENT = "incident"
    NOTE = "note"
    CAVEAT = "caveat"
    FIGURE = "figure"
    FILE = "file"
    RECORD = "record"


_PLURALS = {
    Kind.TEST: later("tests"),
    Kind.RECORD: later("records"),
    Kind.PASS: later("passes"),
    Kind.INCIDENT: later("incidents"),
    Kind.NOTE: later("notes"),
    Kind.CAVEAT: later("caveats"),
    Kind.FIGURE: later("figures"),
    Kind.FILE: later("files"),
}


@dataclass(frozen=True, slots=True)
class LogRow:
    """One row: which book and step, when, what, and the ids by which it is found again.

    `at` is the date as it was written; `value` the figure a column is sorted by; `verdict` None where none is told, and `word`
    what it is called;
    `left_out` says why it enters no figures, `discarded` is the tuner's own reason. `haystack` is what is searched, folded.
    """

    book: str
    step: int
    kind: Kind
    at: str
    what: str
    told: str
    verdict: Verdict | None
    word: str
    benchmark: str
    value: float | None
    attempt: int
    item: int
    left_out: str
    discarded: str
    haystack: str


@dataclass(frozen=True, slots=True)
class Filter:
    """What is shown: empty words and None stand for everything."""

    words: str = ""
    kinds: frozenset[Kind] = frozenset()
    benchmark: str = ""
    verdict: Verdict | None = None
    counted: bool | None = None

    @property
    def sentence(self) -> str:
        """Read the filter aloud."""
        kinds = together(named(_PLURALS[k]) for k in Kind if k in self.kinds) or say("everything")
        parts = [say("Shows {kinds}", kinds=kinds)]
        if self.benchmark:
            parts.append(say("of {benchmark}", benchmark=self.benchmark))
        if self.verdict is not None:
            parts.append(say("that ended {verdict}", verdict=self.verdict))
        if self.counted is not None:
            parts.append(say("that count") if self.counted else say("left out of figures"))
        if self.words:
            parts.append(say("with '{words}' in it", words=self.words))
        return " ".join(parts)


class LogRows:
    """The rows of logbooks, the latest first; rows of a step are made again only when it has changed."""

    def __init__(self) -> None:
        self._kept: dict[tuple[str, int], tuple[StepRecord, tuple[LogRow, ...]]] = {}

    def rows(self, books: Iterable[tuple[str, Snapshot]]) -> list[LogRow]:
        """Give all rows of some books, each with its name."""
        return at_once(self.in_pieces(books))

    def in_pieces(self, books: Iterable[tuple[str, Snapshot]]) -> Pieces[list[LogRow]]:
        """Gather them, a pause after each step whose rows are new."""
        made: list[LogRow] = []
        for name, book in books:
            for record in book.steps:
                key = (name, record.step.number)
                kept = self._kept.get(key)
                if kept is None or kept[0] is not record:
                    kept = self._kept[key] = (record, tuple(_rows(name, book.declaration, record)))
                    yield
                made += kept[1]
        made.sort(key=lambda row: row.at, reverse=True)
        return made


def matching(rows: list[LogRow], wanted: Filter) -> list[LogRow]:
    """Give the rows a filter lets through; every word must stand somewhere in a row, in any case."""
    words = wanted.words.casefold().split()
    kinds = wanted.kinds
    return [
        row
        for row in rows
        if (not kinds or row.kind in kinds)
        and (not wanted.benchmark or row.benchmark == wanted.benchmark)
        and (wanted.verdict is None or row.verdict is wanted.verdict)
        and (wanted.counted is None or (row.kind in (Kind.PASS, Kind.FIGURE) and (not row.left_out) is wanted.counted))
        and all(word in row.haystack for word in words)
    ]


FIGURE = "figure"


def place_of(row: LogRow) -> str:
    """Give what `yondle discard` calls a row by: test/pass, or figure/number; empty for what can't be discarded."""
    if row.kind is Kind.PASS:
        return f"{row.attempt}/{row.item}"
    return f"{FIGURE}/{row.item}" if row.kind is Kind.FIGURE else ""


def book_title(book: Snapshot) -> str:
    """Name a logbook."""
    return book.declaration.info.name if book.opened else book.path.stem


def when_words(at: str) -> str:
    """Write a date shortly: '18 Oct 01:12'."""
    try:
        return moment(datetime.fromisoformat(at))
    except ValueError:
        return at


def _rows(book: str, declaration: RigDeclaration, record: StepRecord) -> Iterator[LogRow]:
    names = {w.id: w for w in declaration.workloads}
    title = step_title(declaration, record.step)
    for attempt in record.attempts:
        yield from _attempt_rows(book, declaration, record, attempt, title, names)
    for note in record.notes:
        edited = say(", changed {when}", when=when_words(note.edited_at)) if note.edited_at else ""
        kind = Kind.CAVEAT if note.caveat else Kind.NOTE
        yield _row(book, record, kind, note.at, note.text, title + edited, item=note.id)
    for added in record.added:
        work = names.get(added.workload)
        name = work.name if work is not None else added.workload
        unit = f" {work.metric.unit}" if work is not None else ""
        digits = work.metric.digits if work is not None else 2
        facts = ", ".join(f"{n} {v}" for n, v in added.measured.facts().items())
        yield _row(
            book, record, Kind.FIGURE, added.at, f"{name} {number(added.score, digits)}{unit}", facts, benchmark=name,
            value=added.score, item=added.id, discarded=added.discarded,
        )  # fmt: skip
    for file in record.attached:
        yield _row(
            book,
            record,
            Kind.FILE,
            file.at,
            file.name,
            f"{number(file.bytes / 1024, 1)}{THIN}KiB · {title}",
            item=file.id,
        )


def _attempt_rows(
    book: str, declaration: RigDeclaration, record: StepRecord, attempt: Attempt, title: str, names: dict[str, Workload]
) -> Iterator[LogRow]:
    outcome = attempt.outcome
    verdict, word = (outcome.verdict, word_of(attempt)) if outcome is not None else (None, "")
    conditions = ", ".join(f"{name} {value}" for name, value in attempt.conditions.items())
    reason = outcome.reason if outcome is not None else say("never ended")
    yield _row(
        book, record, Kind.RECORD if attempt.recorded else Kind.TEST, attempt.started_at, title, reason, verdict, word,
        attempt=attempt.id, more=conditions,
    )  # fmt: skip
    if outcome is not None and outcome.failure is not None:
        parts = [
            say("stage {stage}", stage=stage_words(declaration, outcome.stage)) if outcome.stage else "",
            say("code {code}", code=outcome.code) if outcome.code else "",
        ]
        parts += [
            say("points to {subsystem}", subsystem=outcome.pointer.subsystem) if outcome.pointer.subsystem else "",
            *outcome.pointer.signs,
        ]
        words = " · ".join(part for part in parts if part)
        after = outcome.time_to_failure_s
        yield _row(
            book, record, Kind.INCIDENT, attempt.started_at, failure_words(declaration, outcome), words or title, verdict, word,
            value=after, attempt=attempt.id, more=title,
        )  # fmt: skip
    for made in attempt.all_passes:
        yield _pass_row(book, record, attempt, made, names, stage_words(declaration, made.stage))


def _pass_row(
    book: str, record: StepRecord, attempt: Attempt, made: PassRecord, names: dict[str, Workload], stage: str
) -> LogRow:
    work = names.get(made.workload)
    name = work.name if work is not None else made.workload
    result = made.result
    if result is None:
        what = say("{name}: never ended", name=name)
    elif result.score is not None and work is not None:
        what = f"{name} {quantity(result.score, work.metric.unit, work.metric.digits)}"
    else:
        what = f"{name}: {named(result.failure) or say('done')}, {duration(result.duration_s)}"
    measured = result.measured if result is not None else NOTHING_MEASURED
    at = attempt.started_at
    if made.started_s > attempt.started_s:
        begun = datetime.fromisoformat(at) + timedelta(seconds=made.started_s - attempt.started_s)
        at = begun.isoformat(timespec="seconds")
    told = [f"{named(name)} {_short(value)}" for name, value in measured.parts.items()]
    told += [str(measured.told[n]) for n in ("preset", "passage", "detail") if n in measured.told]
    details = result.detail if result is not None else ""
    return _row(
        book, record, Kind.PASS, at, what, ", ".join([*told, *([details] if details else [])]),
        benchmark=name, value=result.score if result is not None else None, attempt=attempt.id, item=made.ordinal,
        left_out=_left_out(made), discarded=made.discarded, more=stage,
    )  # fmt: skip


def _left_out(made: PassRecord) -> str:
    """Say why a pass enters no figures; empty where it does."""
    if made.discarded:
        return say("discarded: {discarded}", discarded=made.discarded)
    if made.warm_up:
        return say("warm-up")
    if made.disturbed:
        return say("disturbed: {disturbed}", disturbed=made.disturbed)
    if made.stage not in (SCORE_STAGE, COMPARED_STAGE):
        return say("load")
    return "" if made.counts else say("no score")


def _short(value: str | float) -> str:
    return number(value, 2) if isinstance(value, float | int) else str(value)


def pass_facts(declaration: RigDeclaration, record: StepRecord, row: LogRow) -> tuple[tuple[str, str], ...]:
    """List everything recorded with a pass, sensors by their names; each core's own are left to Traces, long rows are counted."""
    made = next(
        (p for a in record.attempts if a.id == row.attempt for p in a.all_passes if p.ordinal == row.item), None
    )
    if made is None or made.result is None:
        return ()
    result, measured = made.result, made.result.measured
    channels = {c.id: c for c in declaration.read_ever}
    told = [(named(later("lasted")), duration(result.duration_s))]
    kinds = (
        (say("mean"), measured.mean), (say("highest"), measured.most), (say("lowest"), measured.least),
        (say("at the start"), measured.start),
    )  # fmt: skip
    for id_ in dict.fromkeys(id_ for _, readings in kinds for id_ in readings):
        read = channels.get(id_)
        if read is not None and read.core is not None:
            continue
        for word, readings in kinds:
            if id_ in readings:
                shown = quantity(readings[id_], read.unit, read.digits) if read else _short(readings[id_])
                told.append((f"{read.name if read else id_}, {word}", shown))
    for id_, value in (*measured.errors.items(), *measured.counted.items()):
        told.append((channels[id_].name if id_ in channels else id_, _short(value)))
    told += [(say("{knob}, as measured", knob=id_), _short(value)) for id_, value in measured.settings.items()]
    told += [(named(name), _short(value)) for name, value in measured.parts.items()]
    for name, given in measured.told.items():
        if name in (PER_WORKER, PER_SECOND):
            many = len(measured.per_worker if name == PER_WORKER else measured.per_second)
            told.append((named(name.replace("_", " ")), say("{figures} figures", figures=many)))
        else:
            told.append((named(name), _short(given)))
    if result.frame_times_ms:
        told.append((named(later("frames")), _short(len(result.frame_times_ms))))
    return tuple(told)


def _row(
    book: str,
    record: StepRecord,
    kind: Kind,
    at: str,
    what: str,
    told: str,
    verdict: Verdict | None = None,
    word: str = "",
    benchmark: str = "",
    value: float | None = None,
    attempt: int = 0,
    item: int = 0,
    left_out: str = "",
    discarded: str = "",
    more: str = "",
) -> LogRow:
    out = left_out or (say("discarded: {discarded}", discarded=discarded) if discarded else "")
    words = (book, str(record.step.number), named(kind), what, told, word, out, more, at)
    haystack = " ".join(words).replace(THIN, "").casefold()
    return LogRow(
        book,
        record.step.number,
        kind,
        at,
        what,
        told,
        verdict,
        word,
        benchmark,
        value,
        attempt,
        item,
        out,
        discarded,
        haystack,
    )
