"""How rows of a logbook become steps, attempts and passes again."""

from __future__ import annotations

import json
from array import array
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from yondle.language.saying import said_again, say
from yondle.logbook.samples import unpack
from yondle.logbook.shapes import changes, numbers, plain, told, words
from yondle.logbook.sql import Connection, Row
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


def steps(connection: Connection, number: int | None, passes_of: int | None = None) -> Iterator[StepRecord]:
    """Read one step, or all in order of their numbers, with attempts, passes and notes.

    With `passes_of` the passes of that attempt alone are read; the others come without any.
    """
    asked = {"number": number, "attempt": passes_of}
    at_step, of_step, which = "", "", ["attempt = :attempt"] if passes_of is not None else []
    if number is not None:
        at_step, of_step = "WHERE number = :number", "WHERE step = :number"
        which.append("attempt IN (SELECT id FROM attempt WHERE step = :number)")
    of_passes = f"WHERE {' AND '.join(which)}" if which else ""

    def rows(select: str) -> Iterator[Row]:
        return connection.execute(select, asked)

    passes: dict[int, list[PassRecord]] = {}
    for row in rows(f"SELECT * FROM pass {of_passes} ORDER BY attempt, ordinal"):
        passes.setdefault(row["attempt"], []).append(_pass(row))
    attempts: dict[int, list[Attempt]] = {}
    for row in rows(f"SELECT * FROM attempt {of_step} ORDER BY id"):
        attempts.setdefault(row["step"], []).append(_attempt(row, tuple(passes.get(row["id"], ()))))
    notes: dict[int, list[Note]] = {}
    for row in rows(f"SELECT * FROM note {of_step} ORDER BY id"):
        notes.setdefault(row["step"], []).append(_note(row))
    added: dict[int, list[AddedResult]] = {}
    for row in rows(f"SELECT * FROM result {of_step} ORDER BY id"):
        added.setdefault(row["step"], []).append(_added(row))
    attached: dict[int, list[Attachment]] = {}
    for row in rows(f"SELECT id, step, at, name, length(data), sha256 FROM attachment {of_step} ORDER BY id"):
        attached.setdefault(row["step"], []).append(Attachment(*row))
    for row in rows(f"SELECT * FROM step {at_step} ORDER BY number"):
        derived = numbers(row["derived"]) if row["derived"] else {}
        n = row["number"]
        yield StepRecord(
            _step(row), tuple(attempts.get(n, ())), tuple(notes.get(n, ())), derived, tuple(added.get(n, ())),
            tuple(attached.get(n, ())),
        )  # fmt: skip


def pass_of(connection: Connection, attempt: int, ordinal: int) -> PassRecord:
    """Read one pass; raises ValueError where it is damaged or not there."""
    one = "SELECT * FROM pass WHERE attempt = ? AND ordinal = ?"
    row = connection.execute(one, (attempt, ordinal)).fetchone()
    if row is None:
        raise ValueError(say("pass {ordinal} of test {attempt} isn't there", ordinal=ordinal, attempt=attempt))
    return _pass(row)


def _note(row: Row) -> Note:
    return Note(row["id"], row["step"], row["at"], row["text"], bool(row["caveat"]), row["edited_at"])


def _step(row: Row) -> Step:
    changed = tuple(Change(*entry) for entry in changes(row["changes"]))
    return Step(
        row["number"],
        StepKind(row["kind"]),
        row["parent"],
        Setup.of(numbers(row["setup"])),
        changed,
        bool(row["joint"]),
    )


def _attempt(row: Row, passes: tuple[PassRecord, ...]) -> Attempt:
    _must_be_a_moment(row["started_at"])
    conditions = {k: said_again(v) if isinstance(v, str) else v for k, v in told(row["conditions"]).items()}
    check = _check(plain(row["check"])) if row["check"] else None
    home = Setup.of(numbers(row["home"]))
    made = Attempt(
        row["id"], row["step"], row["started_at"], row["started_s"], row["boot_id"], _outcome(row), (), check, conditions,
        (), home,
    )  # fmt: skip
    return made.with_passes(passes)


def _outcome(row: Row) -> Outcome | None:
    if row["verdict"] is None:
        return None
    return Outcome(
        Verdict(row["verdict"]),
        said_again(row["reason"] or ""),
        Failure(row["failure"]) if row["failure"] else None,
        row["stage"] or "",
        row["time_to_failure_s"],
        row["code"] or "",
        numbers(row["last"] or "{}"),
        Pointer(row["points_to"] or "", _signs(row["signs"])),
        told(row["seen"] or "{}"),
    )


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


def _pass(row: Row) -> PassRecord:
    result = None
    if row["ok"] is not None:
        measured = _measured(row["facts"])
        frames: Sequence[float] = array("f", row["frame_times"]) if row["frame_times"] else ()
        result = PassResult(
            bool(row["ok"]),
            row["score"],
            float(row["duration_s"]),
            row["failure"] or "",
            said_again(row["detail"] or ""),
            measured,
            frames,
        )
    return PassRecord(
        row["ordinal"],
        row["stage"],
        row["workload"],
        row["round"],
        bool(row["warm_up"]),
        row["started_s"],
        result,
        said_again(row["disturbed"]),
        row["discarded"],
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


def _added(row: Row) -> AddedResult:
    frames: Sequence[float] = array("f", row["frame_times"]) if row["frame_times"] else ()
    return AddedResult(
        row["id"],
        row["step"],
        row["workload"],
        row["at"],
        row["score"],
        _measured(row["facts"]),
        frames,
        row["discarded"],
    )


def sensor_logs(connection: Connection, step: int) -> list[SensorLog]:
    """Read the sensor logs added to a step; raises ValueError for a damaged one."""
    rows = connection.execute("SELECT * FROM sensor_log WHERE step = ? ORDER BY id", (step,)).fetchall()
    return [
        SensorLog(
            row["id"], row["step"], row["at"], row["name"], row["began_at"],
            unpack(tuple(json.loads(row["channels"])), row["samples"], row["data"]),
        )
        for row in rows
    ]  # fmt: skip


def open_attempt(connection: Connection, row: Row) -> OpenAttempt:
    """Read how far an attempt had come that was never closed."""
    step_row = connection.execute("SELECT * FROM step WHERE number = ?", (row["step"],)).fetchone()
    last = _latest_act(connection, row["id"], ())
    restarted = _latest_act(connection, row["id"], Act.RESTARTED.names)
    applied = _latest_act(connection, row["id"], Act.APPLY_OPENED.names)
    attempt, home = _attempt(row, ()), Setup.of(numbers(row["home"]))
    alternates = attempt.check is not None and attempt.check.alternates
    sampled = connection.execute("SELECT max(to_s) FROM sample_block WHERE attempt = ?", (row["id"],)).fetchone()[0]
    return OpenAttempt(
        attempt=attempt,
        step=_step(step_row),
        home=home,
        home_step=row["home_step"],
        last_act=Act(last["act"]) if last else Act.STEP_OPENED,
        last_detail=_detail(last),
        last_sample_s=sampled,
        boot_id=str(_detail(restarted)["boot_id"]) if restarted else row["boot_id"],
        at_home=alternates and applied is not None and Setup.of(_detail(applied)) == home,
    )


def _latest_act(connection: Connection, attempt: int, names: Sequence[str]) -> Row | None:
    """Give what the journal holds last of an attempt, of acts of these names alone where some are given."""
    among = f"AND act IN ({', '.join('?' * len(names))})" if names else ""
    asked = f"SELECT act, detail FROM journal WHERE attempt = ? {among} ORDER BY id DESC LIMIT 1"
    found: Row | None = connection.execute(asked, (attempt, *names)).fetchone()
    return found


def _detail(row: Row | None) -> dict[str, Any]:
    """Read what an act of the journal was about; raises ValueError for what is nothing of the kind."""
    found = plain(row["detail"]) if row is not None else {}
    if not isinstance(found, dict):
        raise ValueError(say("an act of the journal is about {found!r}", found=found))
    return found
