"""The plan that does the work of a logbook again, as a plan file: its steps that held, its searches and its proofs."""

from __future__ import annotations

from typing import Any

import tomlkit
from tomlkit.items import InlineTable

from yondle.formats.toml_files import tables
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup
from yondle.model.plan_runs import PlanRun
from yondle.model.steps import StepKind, StepRecord
from yondle.model.verdicts import Verdict
from yondle.planning.plan_files import FORMAT
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import step_title

_PASSES = 5
_FINDS_OUT = ("edge", "proof", "sweep", "ladder")
"""Parts of a plan that find out something: they are done again, not the steps they made on their way."""


def plan_again(book: Snapshot) -> str:
    """Write a plan that does again what was done: steps that held, with every knob that was ever moved, and the searches,
    sweeps, ladders and proofs of plans in their places. What failed is not done again, but named in a comment.
    """
    document = tomlkit.document()
    document["format"] = FORMAT
    document["name"] = say("{info} again", info=book.declaration.info.name)
    document["passes"] = _passes(book)
    runs, stock = _runs(book), book.declaration.stock
    made = {move.attempt: run for run in runs for move in run.moves if move.attempt is not None}
    tried = [r.step.setup for r in book.steps if r.step.kind is not StepKind.BASELINE]
    touched = {change.knob for setup in tried for change in stock.changes_to(setup)}
    moves, steps, done, left = tomlkit.aot(), list[Setup](), set[int](), list[StepRecord]()
    for record in book.steps:
        run = next((made[a.id] for a in record.attempts if a.id in made), None)
        if run is not None:
            if run.id not in done:
                done.add(run.id)
                start = book.declaration.fitted(Setup.of(run.start["in_force"]))
                _put_steps(moves, book, [*steps, start], touched)
                steps = []
                for part in _parts(run):
                    moves.append(tomlkit.item(part))
            continue
        if record.step.kind is StepKind.BASELINE or record.step.setup == stock:
            continue
        if record.verdict is Verdict.HELD:
            steps.append(record.step.setup)
        else:
            left.append(record)
    _put_steps(moves, book, steps, touched)
    for record in left:
        told = say(
            "not done again: step {number}, {title}, {verdict}",
            number=record.step.number,
            title=step_title(book.declaration, record.step),
            verdict=record.word,
        )
        document.add(tomlkit.comment(told))
    if len(moves):
        document["do"] = moves
    return tomlkit.dumps(document)


def _runs(book: Snapshot) -> list[PlanRun]:
    """List the runs of plans that find out something, oldest first."""
    runs = reversed(book.reader.plan_runs())
    return [run for run in runs if any(part.get("kind") in _FINDS_OUT for part in _parts(run))]


def _parts(run: PlanRun) -> list[dict[str, Any]]:
    try:
        return list(tables(run.definition, say("the plan")).get("do", []))
    except KnownError:
        return []


def _put_steps(moves: Any, book: Snapshot, setups: list[Setup], touched: set[str]) -> None:
    """Add steps to the plan, each with the value of every knob that was ever moved."""
    wanted = [setup for i, setup in enumerate(setups) if i == 0 or setup != setups[i - 1]]
    if len(moves) == 0 and wanted[:1] == [book.declaration.stock]:
        wanted = wanted[1:]
    if not wanted:
        return
    steps = tomlkit.array()
    for setup in wanted:
        table = tomlkit.inline_table()
        for knob in book.declaration.knobs:
            if knob.id in touched:
                _put(table, knob, setup[knob.id])
        steps.append(table)
    move = tomlkit.table()
    move["kind"] = "steps"
    move["steps"] = steps.multiline(True)
    moves.append(move)


def _put(table: InlineTable, knob: Knob, value: float) -> None:
    table[knob.id] = knob.bare(value) if knob.choices else int(value) if value == int(value) else value


def _passes(book: Snapshot) -> int:
    rounds = [
        stage.rounds
        for record in book.steps
        for attempt in record.attempts
        if attempt.check is not None
        for stage in attempt.check.stages
        if stage.rounds > 1
    ]
    return max(rounds, default=_PASSES)
