"""Other logbooks, read without touching them or their rigs, to be compared with the one that is open."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from yondle.app.machine.machines import SIMULATED, RigChoice, elsewhere_of, make_machine
from yondle.app.session.book import fitted
from yondle.app.session.kept_declaration import kept_declaration
from yondle.app.session.own import with_own
from yondle.logbook.records import RecordReader, reading
from yondle.model.rigs import ELSEWHERE, RigDeclaration
from yondle.model.steps import baseline_of
from yondle.views.shared.snapshot import Snapshot


def read_book(path: Path) -> Snapshot:
    """Read a logbook as it stands, also while it is open elsewhere; raises KnownError for what can't be read."""
    with reading(path) as records:
        choice = RigChoice(*records.rig())
        given = _given(choice, records, path)
        steps = [fitted(record, given) for record in records.steps()]
        at = records.position()
        position = next((r for r in steps if r.step.number == at), None)
        return Snapshot(
            path,
            with_own(given, records.documents),
            tuple(steps),
            baseline_of(steps, choice.kind == ELSEWHERE),
            position,
            position.step.setup if position is not None else given.stock,
            tuple(replace(kept, setup=given.fitted(kept.setup)) for kept in records.profiles()),
        )


def _given(choice: RigChoice, records: RecordReader, path: Path) -> RigDeclaration:
    if choice.kind == SIMULATED:
        return _declaration(choice)
    if choice.kind == ELSEWHERE:
        return elsewhere_of(choice, records.documents).rig.declaration
    return kept_declaration(records, path)


def _declaration(choice: RigChoice) -> RigDeclaration:
    machine = make_machine(choice, None, None)
    try:
        return machine.rig.declaration
    finally:
        machine.rig.close()
