"""How each of the engine's records becomes rows of a logbook."""

from __future__ import annotations

import json
from array import array
from dataclasses import asdict
from typing import Any

import sqlalchemy as sa

from yondle.logbook import schema
from yondle.logbook.samples import pack
from yondle.model.events import (
    Applied,
    ApplyOpened,
    AttemptClosed,
    BlockRecorded,
    Durable,
    Entered,
    EntryOpened,
    PassEnded,
    PassOpened,
    PositionMoved,
    PutBackOpened,
    Restarted,
    RestartOpened,
    Settled,
    SettleOpened,
    StepOpened,
    VerdictGiven,
)
from yondle.model.knobs import Setup

ENTRY = "entry"
"""The state that names what is being entered by hand."""

HEADING = "heading"
"""The state that names where the rig is being brought outside a test."""


def write(connection: sa.Connection, record: Durable) -> None:
    """Write one record; every one that announces or answers an act leaves its line in the journal."""
    match record:
        case StepOpened():
            _write_step(connection, record)
            _note_act(connection, record.attempt, record, {"step": record.step.number})
        case ApplyOpened():
            _note_act(connection, record.attempt, record, dict(record.setup))
        case Applied():
            asked = {reply.knob: reply.message if not reply.taken else "" for reply in record.replies}
            _note_act(connection, record.attempt, record, {"asked": asked, "read": dict(record.read_back)})
        case EntryOpened():
            keep_state(
                connection,
                ENTRY,
                {
                    "attempt": record.attempt,
                    "values": record.values,
                    "setup": dict(record.setup),
                    "putting_back": record.putting_back,
                    "boot_id": record.boot_id,
                },
            )
            _note_act(connection, record.attempt, record, {"values": record.values, "back": record.putting_back})
        case Entered():
            keep_state(connection, ENTRY, None)
            _note_act(connection, record.attempt, record, asdict(record.answer))
        case RestartOpened():
            _note_act(connection, record.attempt, record, {"values": record.values, "boot_id": record.boot_id})
        case Restarted():
            _note_act(connection, record.attempt, record, {"boot_id": record.boot_id})
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
            if not record.attempt:
                keep_state(connection, HEADING, {"setup": dict(record.setup), "position": record.position})
            _note_act(connection, record.attempt, record, dict(record.setup))
        case AttemptClosed():
            connection.execute(
                schema.attempt.update()
                .where(schema.attempt.c.id == record.attempt)
                .values(rests_at=_setup_text(record.rests_at), verified=record.verified, closed_at=record.at)
            )
            keep_state(connection, "position", record.position)
            if record.verified:
                keep_state(connection, ENTRY, None)
            _note_act(connection, record.attempt, record, {"verified": record.verified, "position": record.position})
        case PositionMoved():
            keep_state(connection, "position", record.position)
            keep_state(connection, HEADING, None)
            if record.verified:
                keep_state(connection, ENTRY, None)
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
                derived=json.dumps(record.derived),
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
            check=json.dumps(asdict(record.check)),
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
            frame_times=array("f", result.frame_times_ms).tobytes() if result.frame_times_ms else None,
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
            last=json.dumps(outcome.last),
            points_to=outcome.pointer.subsystem,
            signs=json.dumps(outcome.pointer.signs),
        )
    )


def keep_state(connection: sa.Connection, name: str, value: Any) -> None:
    """Keep one small value by name, in place of the one before."""
    connection.execute(schema.state.delete().where(schema.state.c.name == name))
    connection.execute(schema.state.insert().values(name=name, value=json.dumps(value)))


def _setup_text(setup: Setup) -> str:
    return json.dumps(dict(setup))
