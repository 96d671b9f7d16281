"""How each of the engine's records becomes rows of a logbook."""

from __future__ import annotations

import json
from array import array
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from yondle.formats.documents import Document, Entry, Heading, RigPosition, value_of
from yondle.language.saying import kept
from yondle.logbook.samples import pack
from yondle.logbook.sql import Connection, deleted, inserted, updated
from yondle.model.acts import Act
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


def write(connection: Connection, record: Durable) -> None:
    """Write one record; every one that announces or answers an act leaves its line in the journal."""
    written = _WRITTEN.get(type(record))
    if written is not None:
        written(connection, record)
    if type(record) in _ACTS:
        act, detail = _ACTS[type(record)]
        attempt = record.attempt if not isinstance(record, PositionMoved) else None
        inserted(connection, "journal", attempt=attempt, act=act.value, detail=json.dumps(detail(record)))


def _rests(record: AttemptClosed | PositionMoved) -> dict[str, Any]:
    return {"verified": record.verified, "position": record.position}


_ACTS: dict[type, tuple[Act, Callable[[Any], dict[str, Any]]]] = {
    StepOpened: (Act.STEP_OPENED, lambda r: {"step": r.step.number}),
    ApplyOpened: (Act.APPLY_OPENED, lambda r: dict(r.setup)),
    Applied: (
        Act.APPLIED,
        lambda r: {"asked": {x.knob: x.message if not x.taken else "" for x in r.replies}, "read": dict(r.read_back)},
    ),
    EntryOpened: (Act.ENTRY_OPENED, lambda r: {"values": r.values, "back": r.putting_back}),
    Entered: (Act.ENTERED, lambda r: asdict(r.answer)),
    RestartOpened: (Act.RESTART_OPENED, lambda r: {"values": r.values, "boot_id": r.boot_id}),
    Restarted: (Act.RESTARTED, lambda r: {"boot_id": r.boot_id}),
    SettleOpened: (Act.SETTLE_OPENED, lambda r: {"channel": r.channel, "below": r.below}),
    Settled: (Act.SETTLED, lambda r: {"waited_s": r.waited_s, "reached": r.reached}),
    PassOpened: (
        Act.PASS_OPENED, lambda r: {"ordinal": r.ordinal, "stage": r.stage, "workload": r.workload, "t": r.t},
    ),
    PassEnded: (Act.PASS_ENDED, lambda r: {"ordinal": r.record.ordinal}),
    VerdictGiven: (Act.VERDICT_GIVEN, lambda r: {"verdict": r.outcome.verdict.value}),
    PutBackOpened: (Act.PUT_BACK_OPENED, lambda r: dict(r.setup)),
    AttemptClosed: (Act.ATTEMPT_CLOSED, _rests),
    PositionMoved: (Act.POSITION_MOVED, _rests),
}  # fmt: skip
"""What the journal calls each record, and the detail it keeps of it."""


def _write_entry(connection: Connection, record: EntryOpened) -> None:
    entry = Entry(
        attempt=record.attempt,
        values=dict(record.values),
        setup=dict(record.setup),
        putting_back=record.putting_back,
        boot_id=record.boot_id,
    )
    keep_document(connection, entry)


def _write_entered(connection: Connection, _: Entered) -> None:
    forget_document(connection, Entry)


def _write_heading(connection: Connection, record: PutBackOpened) -> None:
    if not record.attempt:
        keep_document(connection, Heading(setup=dict(record.setup), position=record.position))


def _write_closed(connection: Connection, record: AttemptClosed) -> None:
    rests_at = _setup_text(record.rests_at)
    updated(
        connection, "attempt", {"id": record.attempt}, rests_at=rests_at, verified=record.verified, closed_at=record.at
    )
    _write_position(connection, record)


def _write_moved(connection: Connection, record: PositionMoved) -> None:
    forget_document(connection, Heading)
    _write_position(connection, record)


def _write_position(connection: Connection, record: AttemptClosed | PositionMoved) -> None:
    keep_document(connection, RigPosition(record.position))
    if record.verified:
        forget_document(connection, Entry)


def _write_step(connection: Connection, record: StepOpened) -> None:
    step = record.step
    there = connection.execute("SELECT number FROM step WHERE number = ?", (step.number,)).fetchone()
    if there is None:
        inserted(
            connection,
            "step",
            number=step.number,
            rig=1,
            kind=step.kind.value,
            parent=step.parent,
            setup=_setup_text(step.setup),
            changes=json.dumps([[c.knob, c.old, c.new] for c in step.changes]),
            joint=step.joint,
            derived=json.dumps(record.derived),
        )
    inserted(
        connection,
        "attempt",
        id=record.attempt,
        step=step.number,
        home=_setup_text(record.home),
        home_step=record.home_step,
        boot_id=record.boot_id,
        started_at=record.at,
        started_s=record.t,
        conditions=json.dumps({k: kept(v) if isinstance(v, str) else v for k, v in record.conditions.items()}),
        check=json.dumps(asdict(record.check)),
    )


def _write_pass_opened(connection: Connection, record: PassOpened) -> None:
    inserted(
        connection,
        "pass",
        attempt=record.attempt,
        ordinal=record.ordinal,
        stage=record.stage,
        workload=record.workload,
        round=record.round,
        warm_up=record.warm_up,
        started_s=record.t,
    )


def _write_pass_ended(connection: Connection, record: PassEnded) -> None:
    result = record.record.result
    if result is None:
        return
    updated(
        connection,
        "pass",
        {"attempt": record.attempt, "ordinal": record.record.ordinal},
        ok=result.ok,
        score=result.score,
        duration_s=result.duration_s,
        failure=result.failure,
        detail=kept(result.detail),
        facts=json.dumps(result.measured.facts()),
        disturbed=kept(record.record.disturbed),
        frame_times=array("f", result.frame_times_ms).tobytes() if result.frame_times_ms else None,
    )


def _write_block(connection: Connection, record: BlockRecorded) -> None:
    block = record.block
    inserted(
        connection,
        "sample_block",
        attempt=record.attempt,
        ordinal=record.ordinal,
        from_s=block.times_s[0],
        to_s=block.times_s[-1],
        samples=len(block.times_s),
        channels=json.dumps(block.channels),
        data=pack(block),
    )


def _write_verdict(connection: Connection, record: VerdictGiven) -> None:
    outcome = record.outcome
    updated(
        connection,
        "attempt",
        {"id": record.attempt},
        verdict=outcome.verdict.value,
        failure=outcome.failure.value if outcome.failure else None,
        stage=outcome.stage,
        time_to_failure_s=outcome.time_to_failure_s,
        reason=kept(outcome.reason),
        code=outcome.code,
        last=json.dumps(outcome.last),
        points_to=outcome.pointer.subsystem,
        signs=json.dumps([kept(sign) for sign in outcome.pointer.signs]),
        seen=json.dumps(outcome.seen),
    )


def keep_document(connection: Connection, document: Document) -> None:
    """Keep a document in place of what stood there."""
    forget_document(connection, type(document))
    inserted(connection, "state", name=document.NAME, value=json.dumps(value_of(document)))


def forget_document(connection: Connection, kind: type[Document]) -> None:
    """Take a document away."""
    deleted(connection, "state", name=kind.NAME)


def _setup_text(setup: Setup) -> str:
    return json.dumps(dict(setup))


_WRITTEN: dict[type, Callable[[Connection, Any], None]] = {
    StepOpened: _write_step, EntryOpened: _write_entry, Entered: _write_entered, PassOpened: _write_pass_opened,
    BlockRecorded: _write_block, PassEnded: _write_pass_ended, VerdictGiven: _write_verdict, PutBackOpened: _write_heading,
    AttemptClosed: _write_closed, PositionMoved: _write_moved,
}  # fmt: skip
"""What is kept of a record besides its line in the journal."""
