"""A whole logbook as one JSON document: rig, steps, attempts, passes, notes, profiles and what was told. Same rig, same bytes."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

from yondle.app.session import Session
from yondle.model.steps import Attempt, StepRecord

FORMAT = "yondle-logbook 1"


def logbook_text(session: Session) -> str:
    """Write the logbook; nothing in it depends on where the file lies or when it is written."""
    keeping = session.logbook.keeping
    document = {
        "format": FORMAT,
        "rig": asdict(session.declaration.info),
        "steps": [_step(session, record) for record in session.steps],
        "position": session.position.step.number if session.position else None,
        "in_force": dict(session.in_force),
        "profiles": [{**asdict(p), "setup": dict(p.setup)} for p in keeping.profiles()],
        "conditions": session.own.conditions,
        "ranges": keeping.value("ranges") or {},
        "limits": keeping.value("limits") or {},
    }
    return json.dumps(document, ensure_ascii=False, indent=1, sort_keys=True) + "\n"


def _step(session: Session, record: StepRecord) -> dict[str, Any]:
    step = record.step
    return {
        "number": step.number,
        "kind": str(step.kind),
        "parent": step.parent,
        "joint": step.joint,
        "changes": [asdict(change) for change in step.changes],
        "setup": dict(step.setup),
        "derived": record.derived,
        "verdict": str(record.verdict),
        "attempts": [_attempt(session, attempt) for attempt in record.attempts],
        "results from elsewhere": [asdict(added) for added in record.added],
        "sensor logs": [asdict(log) for log in session.logbook.sensor_logs(step.number)],
        "notes": [{"at": note.at, "text": note.text} for note in record.notes],
    }


def _attempt(session: Session, attempt: Attempt) -> dict[str, Any]:
    return {
        "id": attempt.id,
        "started_at": attempt.started_at,
        "started_s": attempt.started_s,
        "conditions": attempt.conditions,
        "outcome": asdict(attempt.outcome) if attempt.outcome else None,
        "passes": [asdict(record) for record in attempt.passes],
        "journal": session.logbook.journal(attempt.id),
    }
