"""How rows of a logbook become steps, attempts and passes again."""

from __future__ import annotations

import json
from array import array
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from yondle.language.saying import said_again, say
from yondle.logbook import schema
from yondle.logbook.samples import unpack
from yondle.logbook.shapes import changes, numbers, plain, told, words
from yondle.model.acts import Act
from yondle.model.knobs import Change, Setup
from yondle.model.measured import Measured
from yondle.model.steps import (
    AddedResult,
    Attachment,
    Attempt,
    Check,
    Note,
    PassRecord,
    SensorLog,
    Stage,
    StageKind,
    Step,
    StepKind,
    StepRecord,
)
from yondle.model.verdicts import Failure, Outcome, Pointer, Verdict
from yondle.model.workloads import PassResult

"""Before the names of facts that are numbers."""
_EARLIEST_YEAR, _LATEST_YEAR = 1970, 9000


@dataclass(frozen=True, slots=True)
class OpenAttempt:
    """An attempt that was never closed: what the program was about when it ended without a word.

    `boot_id` is the boot it was last known to run under, which is not the one it was opened under if it restarted since.
    `at_home` tells that it was at the settings it started from, with which its own took turns.
    """

    attempt: Attempt
    step: Step
    home: Setup
    home_step: int | None
    last_act: Act
    last_detail: dict[str, Any]
    last_sample_s: float | None
    boot_id: str
    at_home: bool


def steps(connection: sa.Connection, number: int | None, passes_of: int | None = None) -> Iterator[StepRecord]:
    """Read one step, or all in order of their numbers, with attempts, passes and notes.

    With `passes_of` the passes of that attempt alone are read; the others come without any.
    """
    step_rows = sa.select(schema.step).order_by(schema.step.c.number)
    attempt_rows = sa.select(schema.attempt).order_by(schema.attempt.c.id)
    pass_rows = sa.select(schema.pass_).order_by(schema.pass_.c.attempt, schema.pass_.c.ordinal)
    note_rows = sa.select(schema.note).order_by(schema.note.c.id)
    result_rows = sa.select(schema.result).order_by(schema.result.c.id)
    kept = schema.attachment.c
    attachment_rows = sa.select(
        kept.id, kept.step, kept.at, kept.name, sa.func.length(kept.data).label("size"), kept.sha256
    ).order_by(kept.id)
    if passes_of is not None:
        pass_rows = pass_rows.where(schema.pass_.c.attempt == passes_of)
    if number is not None:
        step_rows = step_rows.where(schema.step.c.number == number)
        attempt_rows = attempt_rows.where(schema.attempt.c.step == number)
        note_rows = note_rows.where(schema.note.c.step == number)
        result_rows = result_rows.where(schema.result.c.step == number)
        attachment_rows = attachment_rows.where(schema.attachment.c.step == number)
        pass_rows = pass_rows.where(
            schema.pass_.c.attempt.in_(sa.select(schema.attempt.c.id).where(schema.attempt.c.step == number))
        )
    passes: dict[int, list[PassRecord]] = {}
    for row in connection.execute(pass_rows):
        passes.setdefault(row.attempt, []).append(_pass(row))
    attempts: dict[int, list[Attempt]] = {}
    for row in connection.execute(attempt_rows):
        attempts.setdefault(row.step, []).append(_attempt(row, tuple(passes.get(row.id, ()))))
    notes: dict[int, list[Note]] = {}
    for row in connection.execute(note_rows):
        notes.setdefault(row.step, []).append(Note(row.id, row.step, row.at, row.text, bool(row.caveat), row.edited_at))
    added: dict[int, list[AddedResult]] = {}
    for row in connection.execute(result_rows):
        added.setdefault(row.step, []).append(_added(row))
    attached: dict[int, list[Attachment]] = {}
    for row in connection.execute(attachment_rows):
        attached.setdefault(row.step, []).append(Attachment(row.id, row.step, row.at, row.name, row.size, row.sha256))
    for row in connection.execute(step_rows):
        derived = numbers(row.derived) if row.derived else {}
        n = row.number
        yield StepRecord(
            _step(row), tuple(attempts.get(n, ())), tuple(notes.get(n, ())), derived, tuple(added.get(n, ())),
            tuple(attached.get(n, ())),
        )  # fmt: skip


_ONE_PASS = sa.select(schema.pass_).where(
    schema.pass_.c.attempt == sa.bindparam("attempt"), schema.pass_.c.ordinal == sa.bindparam("ordinal")
)


def pass_of(connection: sa.Connection, attempt: int, ordinal: int) -> PassRecord:
    """Read one pass; raises ValueError where it is damaged or not there."""
    row = connection.execute(_ONE_PASS, {"attempt": attempt, "ordinal": ordinal}).one_or_none()
    if row is None:
        raise ValueError(say("pass {ordinal} of test {attempt} isn't there", ordinal=ordinal, attempt=attempt))
    return _pass(row)


def _step(row: sa.Row[Any]) -> Step:
    changed = tuple(Change(*entry) for entry in changes(row.changes))
    return Step(row.number, StepKind(row.kind), row.parent, Setup.of(numbers(row.setup)), changed, bool(row.joint))


def _attempt(row: sa.Row[Any], passes: tuple[PassRecord, ...]) -> Attempt:
    outcome = None
    if row.verdict is not None:
        failure = Failure(row.failure) if row.failure else None
        outcome = Outcome(
            Verdict(row.verdict), said_again(row.reason or ""), failure, row.stage or "", row.time_to_failure_s, row.code or "",
            numbers(row.last or "{}"), Pointer(row.points_to or "", _signs(row.signs)), told(row.seen or "{}"),
        )  # fmt: skip
    _must_be_a_moment(row.started_at)
    conditions = {k: said_again(v) if isinstance(v, str) else v for k, v in told(row.conditions).items()}
    check = _check(plain(row.check)) if row.check else None
    home = Setup.of(numbers(row.home))
    made = Attempt(
        row.id, row.step, row.started_at, row.started_s, row.boot_id, outcome, (), check, conditions, (), home
    )
    return made.with_passes(passes)


def _signs(kept: str | None) -> tuple[str, ...]:
    return tuple(said_again(sign) for sign in words(kept or "[]"))


def _must_be_a_moment(text: str) -> None:
    """Raise ValueError for what is no date and time with its offset (ISO 8601) that can be reckoned with."""
    at = datetime.fromisoformat(text)
    if at.tzinfo is None or not _EARLIEST_YEAR <= at.year <= _LATEST_YEAR:
        raise ValueError(say("'{at}' is no date and time with its offset", at=text))


def _check(kept: dict[str, Any]) -> Check:
    stages = tuple(
        Stage(**{**stage, "kind": StageKind(stage["kind"]), "workloads": tuple(stage["workloads"])})
        for stage in kept["stages"]
    )
    return Check(**{**kept, "stages": stages, "preload": tuple(kept.get("preload", ()))})


def _pass(row: sa.Row[Any]) -> PassRecord:
    result = None
    if row.ok is not None:
        measured = _measured(row.facts)
        frames: Sequence[float] = array("f", row.frame_times) if row.frame_times else ()
        result = PassResult(
            bool(row.ok),
            row.score,
            float(row.duration_s),
            row.failure or "",
            said_again(row.detail or ""),
            measured,
            frames,
        )
    return PassRecord(
        row.ordinal,
        row.stage,
        row.workload,
        row.round,
        bool(row.warm_up),
        row.started_s,
        result,
        said_again(row.disturbed),
        row.discarded,
    )


def _measured(kept: str | None) -> Measured:
    """Read what was measured beside a figure; raises ValueError for what is none."""
    facts = plain(kept or "{}")
    for name, value in facts.items():
        if value.__class__ not in (float, int, str):
            raise ValueError(say("the fact '{name}' is none", name=name))
    try:
        return Measured.of(facts)
    except ValueError as error:
        raise ValueError(say("the fact '{name}' is none", name=error)) from error


def _added(row: sa.Row[Any]) -> AddedResult:
    frames: Sequence[float] = array("f", row.frame_times) if row.frame_times else ()
    return AddedResult(row.id, row.step, row.workload, row.at, row.score, _measured(row.facts), frames, row.discarded)


def sensor_logs(connection: sa.Connection, step: int) -> list[SensorLog]:
    """Read the sensor logs added to a step; raises ValueError for a damaged one."""
    logs = schema.sensor_log
    rows = connection.execute(sa.select(logs).where(logs.c.step == step).order_by(logs.c.id)).all()
    return [
        SensorLog(
            row.id, row.step, row.at, row.name, row.began_at,
            unpack(tuple(json.loads(row.channels)), row.samples, row.data),
        )
        for row in rows
    ]  # fmt: skip


def open_attempt(connection: sa.Connection, row: sa.Row[Any]) -> OpenAttempt:
    """Read how far an attempt had come that was never closed."""
    step_row = connection.execute(sa.select(schema.step).where(schema.step.c.number == row.step)).one()
    last = connection.execute(
        sa.select(schema.journal).where(schema.journal.c.attempt == row.id).order_by(schema.journal.c.id.desc())
    ).first()
    restarted = connection.execute(
        sa.select(schema.journal)
        .where(schema.journal.c.attempt == row.id, schema.journal.c.act.in_(Act.RESTARTED.names))
        .order_by(schema.journal.c.id.desc())
    ).first()
    applied = connection.execute(
        sa.select(schema.journal)
        .where(schema.journal.c.attempt == row.id, schema.journal.c.act.in_(Act.APPLY_OPENED.names))
        .order_by(schema.journal.c.id.desc())
    ).first()
    attempt, home = _attempt(row, ()), Setup.of(numbers(row.home))
    alternates = attempt.check is not None and attempt.check.alternates
    sampled = connection.execute(
        sa.select(sa.func.max(schema.sample_block.c.to_s)).where(schema.sample_block.c.attempt == row.id)
    ).scalar_one()
    return OpenAttempt(
        attempt=attempt,
        step=_step(step_row),
        home=home,
        home_step=row.home_step,
        last_act=Act(last.act) if last else Act.STEP_OPENED,
        last_detail=_detail(last),
        last_sample_s=sampled,
        boot_id=str(_detail(restarted)["boot_id"]) if restarted else row.boot_id,
        at_home=alternates and applied is not None and Setup.of(_detail(applied)) == home,
    )


def _detail(row: sa.Row[Any] | None) -> dict[str, Any]:
    """Read what an act of the journal was about; raises ValueError for what is nothing of the kind."""
    found = plain(row.detail) if row is not None else {}
    if not isinstance(found, dict):
        raise ValueError(say("an act of the journal is about {found!r}", found=found))
    return found
