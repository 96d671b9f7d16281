"""One logbook: takes the engine's records durably as they come, and answers questions about what was done."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from yondle.logbook import schema
from yondle.logbook.samples import pack, unpack
from yondle.logbook.store import WriterLock, create_store, damaged, must_be_there, open_store, trouble
from yondle.model.errors import KnownError
from yondle.model.events import (
    Applied,
    ApplyOpened,
    AttemptClosed,
    BlockRecorded,
    Durable,
    PassEnded,
    PassOpened,
    PositionMoved,
    PutBackOpened,
    Settled,
    SettleOpened,
    StepOpened,
    VerdictGiven,
)
from yondle.model.knobs import Change, Setup
from yondle.model.sensors import SampleBlock
from yondle.model.steps import Attempt, Note, PassRecord, Step, StepKind, StepRecord
from yondle.model.verdicts import Failure, Outcome, Verdict
from yondle.model.workloads import PassResult


@dataclass(frozen=True, slots=True)
class OpenAttempt:
    """An attempt that was never closed: what the program was about when it ended without a word."""

    attempt: Attempt
    step: Step
    home: Setup
    home_step: int | None
    last_act: str
    last_detail: dict[str, Any]
    last_sample_s: float | None


class Logbook:
    """A logbook file held open by its one writer. Records come in through `take`, in one transaction each."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = WriterLock(path)
        must_be_there(path)
        self._lock.take()
        try:
            self._engine = open_store(path)
        except BaseException:
            self._lock.release()
            raise

    @classmethod
    def create(cls, path: Path, kind: str, name: str, definition: str) -> Logbook:
        """Make a logbook for a rig and open it."""
        create_store(path)
        book = cls(path)
        with book._engine.begin() as connection:
            connection.execute(schema.rig.insert().values(kind=kind, name=name, definition=definition))
        return book

    def close(self) -> None:
        """Close the file and let others write it."""
        self._engine.dispose()
        self._lock.release()

    def rig(self) -> tuple[str, str, str]:
        """Give kind, name and definition of the rig the logbook is about."""
        with self._engine.connect() as connection:
            row = connection.execute(sa.select(schema.rig).order_by(schema.rig.c.id)).first()
        if row is None:
            raise KnownError(f"{self.path} names no rig.", "It was never finished; make a new one with 'yondle new'.")
        return row.kind, row.name, row.definition

    # -- what the engine says ---------------------------------------------------------------------------------------

    def take(self, record: Durable) -> None:
        """Write one record; when this returns it is on the disk. Raises KnownError when it can't be written."""
        try:
            with self._engine.begin() as connection:
                _write(connection, record)
        except sa.exc.DatabaseError as error:
            raise trouble(self.path, error) from error

    def add_note(self, step: int, at: str, text: str) -> None:
        """Keep a note at a step."""
        with self._engine.begin() as connection:
            connection.execute(schema.note.insert().values(step=step, at=at, text=text))

    def next_step(self) -> int:
        """Give the number the next step on the trail gets."""
        return self._next(schema.step.c.number)

    def next_attempt(self) -> int:
        """Give the number the next attempt gets."""
        return self._next(schema.attempt.c.id)

    # -- what others ask --------------------------------------------------------------------------------------------

    def steps(self) -> list[StepRecord]:
        """Give every step with its attempts, passes and notes, oldest first."""
        return self._read(None)

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        found = self._read(number)
        if not found:
            raise KnownError(f"There is no step {number}.", "'yondle status' lists the steps there are.")
        return found[0]

    def position(self) -> int | None:
        """Give the step whose setup is in force, or None before the baseline."""
        with self._engine.connect() as connection:
            value = connection.execute(
                sa.select(schema.state.c.value).where(schema.state.c.name == "position")
            ).scalar_one_or_none()
        return json.loads(value) if value is not None else None

    def unclosed(self) -> list[OpenAttempt]:
        """List attempts that were opened and never closed."""
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(schema.attempt).where(schema.attempt.c.closed_at.is_(None)).order_by(schema.attempt.c.id)
            ).all()
            return [_open_attempt(connection, row) for row in rows]

    def last_time_s(self) -> float:
        """Give the latest time on the rig's clock that was ever written."""
        with self._engine.connect() as connection:
            times = [
                connection.execute(sa.select(sa.func.max(column))).scalar_one()
                for column in (schema.attempt.c.started_s, schema.sample_block.c.to_s, schema.pass_.c.started_s)
            ]
        return max((float(t) for t in times if t is not None), default=0.0)

    def trace(self, attempt: int) -> list[SampleBlock]:
        """Give the sample blocks of an attempt in order of time; a damaged block is a KnownError."""
        blocks = schema.sample_block
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(blocks).where(blocks.c.attempt == attempt).order_by(blocks.c.from_s)
            ).all()
        try:
            return [unpack(tuple(json.loads(row.channels)), row.samples, row.data) for row in rows]
        except ValueError as error:
            raise KnownError(
                f"The trace of attempt {attempt} in {self.path} can't be read: {error}.",
                "The rest of the logbook is unharmed; restore a copy to see this trace.",
            ) from error

    def journal(self, attempt: int) -> list[str]:
        """List the acts the journal holds of an attempt, in order."""
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(schema.journal.c.act).where(schema.journal.c.attempt == attempt).order_by(schema.journal.c.id)
            )
            return [row.act for row in rows]

    def _read(self, number: int | None) -> list[StepRecord]:
        try:
            with self._engine.connect() as connection:
                return list(_steps(connection, number))
        except (ValueError, TypeError, AttributeError) as error:
            raise damaged(self.path, f"a step can't be read: {error}") from error
        except sa.exc.DatabaseError as error:
            raise trouble(self.path, error) from error

    def _next(self, column: sa.Column[int]) -> int:
        with self._engine.connect() as connection:
            return int(connection.execute(sa.select(sa.func.coalesce(sa.func.max(column), 0) + 1)).scalar_one())


def _write(connection: sa.Connection, record: Durable) -> None:
    match record:
        case StepOpened():
            _write_step(connection, record)
            _note_act(connection, record.attempt, record, {"step": record.step.number})
        case ApplyOpened():
            _note_act(connection, record.attempt, record, dict(record.setup))
        case Applied():
            asked = {reply.knob: reply.message if not reply.taken else "" for reply in record.replies}
            _note_act(connection, record.attempt, record, {"asked": asked, "read": dict(record.read_back)})
        case SettleOpened():
            _note_act(connection, record.attempt, record, {"channel": record.channel, "below": record.below})
        case Settled():
            _note_act(connection, record.attempt, record, {"waited_s": record.waited_s, "reached": record.reached})
        case PassOpened():
            _write_pass_opened(connection, record)
            _note_act(
                connection, record.attempt, record,
                {"ordinal": record.ordinal, "stage": record.stage, "workload": record.workload, "t": record.t},
            )  # fmt: skip
        case BlockRecorded():
            _write_block(connection, record)
        case PassEnded():
            _write_pass_ended(connection, record)
            _note_act(connection, record.attempt, record, {"ordinal": record.record.ordinal})
        case VerdictGiven():
            _write_verdict(connection, record)
            _note_act(connection, record.attempt, record, {"verdict": record.outcome.verdict.value})
        case PutBackOpened():
            _note_act(connection, record.attempt, record, dict(record.setup))
        case AttemptClosed():
            connection.execute(
                schema.attempt.update()
                .where(schema.attempt.c.id == record.attempt)
                .values(rests_at=_setup_text(record.rests_at), verified=record.verified, closed_at=record.at)
            )
            _write_position(connection, record.position)
            _note_act(connection, record.attempt, record, {"verified": record.verified, "position": record.position})
        case PositionMoved():
            _write_position(connection, record.position)
            _note_act(connection, None, record, {"verified": record.verified, "position": record.position})


def _note_act(connection: sa.Connection, attempt: int | None, record: Durable, detail: dict[str, Any]) -> None:
    connection.execute(
        schema.journal.insert().values(attempt=attempt, act=type(record).__name__, detail=json.dumps(detail))
    )


def _write_step(connection: sa.Connection, record: StepOpened) -> None:
    step = record.step
    there = connection.execute(sa.select(schema.step.c.number).where(schema.step.c.number == step.number)).first()
    if there is None:
        connection.execute(
            schema.step.insert().values(
                number=step.number,
                rig=1,
                kind=step.kind.value,
                parent=step.parent,
                setup=_setup_text(step.setup),
                changes=json.dumps([[c.knob, c.old, c.new] for c in step.changes]),
                joint=step.joint,
            )
        )
    connection.execute(
        schema.attempt.insert().values(
            id=record.attempt,
            step=step.number,
            home=_setup_text(record.home),
            home_step=record.home_step,
            boot_id=record.boot_id,
            started_at=record.at,
            started_s=record.t,
            conditions=json.dumps(record.conditions),
        )
    )


def _write_pass_opened(connection: sa.Connection, record: PassOpened) -> None:
    connection.execute(
        schema.pass_.insert().values(
            attempt=record.attempt,
            ordinal=record.ordinal,
            stage=record.stage,
            workload=record.workload,
            round=record.round,
            warm_up=record.warm_up,
            started_s=record.t,
        )
    )


def _write_pass_ended(connection: sa.Connection, record: PassEnded) -> None:
    result = record.record.result
    if result is None:
        return
    connection.execute(
        schema.pass_.update()
        .where(schema.pass_.c.attempt == record.attempt, schema.pass_.c.ordinal == record.record.ordinal)
        .values(
            ok=result.ok,
            score=result.score,
            duration_s=result.duration_s,
            failure=result.failure,
            detail=result.detail,
            facts=json.dumps(result.facts),
            disturbed=record.record.disturbed,
        )
    )


def _write_block(connection: sa.Connection, record: BlockRecorded) -> None:
    block = record.block
    connection.execute(
        schema.sample_block.insert().values(
            attempt=record.attempt,
            ordinal=record.ordinal,
            from_s=block.times_s[0],
            to_s=block.times_s[-1],
            samples=len(block.times_s),
            channels=json.dumps(block.channels),
            data=pack(block),
        )
    )


def _write_verdict(connection: sa.Connection, record: VerdictGiven) -> None:
    outcome = record.outcome
    connection.execute(
        schema.attempt.update()
        .where(schema.attempt.c.id == record.attempt)
        .values(
            verdict=outcome.verdict.value,
            failure=outcome.failure.value if outcome.failure else None,
            stage=outcome.stage,
            time_to_failure_s=outcome.time_to_failure_s,
            reason=outcome.reason,
            code=outcome.code,
        )
    )


def _write_position(connection: sa.Connection, position: int | None) -> None:
    connection.execute(schema.state.delete().where(schema.state.c.name == "position"))
    connection.execute(schema.state.insert().values(name="position", value=json.dumps(position)))


def _setup_text(setup: Setup) -> str:
    return json.dumps(dict(setup))


def _steps(connection: sa.Connection, number: int | None) -> Iterator[StepRecord]:
    step_rows = sa.select(schema.step).order_by(schema.step.c.number)
    attempt_rows = sa.select(schema.attempt).order_by(schema.attempt.c.id)
    pass_rows = sa.select(schema.pass_).order_by(schema.pass_.c.attempt, schema.pass_.c.ordinal)
    note_rows = sa.select(schema.note).order_by(schema.note.c.id)
    if number is not None:
        step_rows = step_rows.where(schema.step.c.number == number)
        attempt_rows = attempt_rows.where(schema.attempt.c.step == number)
        note_rows = note_rows.where(schema.note.c.step == number)
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
        notes.setdefault(row.step, []).append(Note(row.id, row.step, row.at, row.text))
    for row in connection.execute(step_rows):
        yield StepRecord(_step(row), tuple(attempts.get(row.number, ())), tuple(notes.get(row.number, ())))


def _step(row: sa.Row[Any]) -> Step:
    changes = tuple(Change(*entry) for entry in json.loads(row.changes))
    return Step(row.number, StepKind(row.kind), row.parent, Setup.of(json.loads(row.setup)), changes, bool(row.joint))


def _attempt(row: sa.Row[Any], passes: tuple[PassRecord, ...]) -> Attempt:
    outcome = None
    if row.verdict is not None:
        failure = Failure(row.failure) if row.failure else None
        outcome = Outcome(
            Verdict(row.verdict), row.reason or "", failure, row.stage or "", row.time_to_failure_s, row.code or ""
        )
    conditions = json.loads(row.conditions)
    return Attempt(row.id, row.step, row.started_at, row.started_s, row.boot_id, outcome, passes, conditions)


def _pass(row: sa.Row[Any]) -> PassRecord:
    result = None
    if row.ok is not None:
        facts = json.loads(row.facts or "{}")
        result = PassResult(bool(row.ok), row.score, row.duration_s, row.failure or "", row.detail or "", facts)
    return PassRecord(
        row.ordinal, row.stage, row.workload, row.round, bool(row.warm_up), row.started_s, result, row.disturbed
    )


def _open_attempt(connection: sa.Connection, row: sa.Row[Any]) -> OpenAttempt:
    step_row = connection.execute(sa.select(schema.step).where(schema.step.c.number == row.step)).one()
    last = connection.execute(
        sa.select(schema.journal).where(schema.journal.c.attempt == row.id).order_by(schema.journal.c.id.desc())
    ).first()
    sampled = connection.execute(
        sa.select(sa.func.max(schema.sample_block.c.to_s)).where(schema.sample_block.c.attempt == row.id)
    ).scalar_one()
    return OpenAttempt(
        attempt=_attempt(row, ()),
        step=_step(step_row),
        home=Setup.of(json.loads(row.home)),
        home_step=row.home_step,
        last_act=last.act if last else "StepOpened",
        last_detail=json.loads(last.detail) if last else {},
        last_sample_s=sampled,
    )
