"""The plan that makes every step of a field book again, as a plan file."""

from __future__ import annotations

import tomlkit
from tomlkit.items import InlineTable

from yondle.app.session import Session
from yondle.language.saying import say
from yondle.model.knobs import Knob
from yondle.model.steps import StepKind

_FORMAT = "yondle-plan 1"
_PASSES = 5


def plan_again(session: Session) -> str:
    """Write a plan whose steps are the settings of the trail, every knob that was ever moved named in each."""
    document = tomlkit.document()
    document["format"] = _FORMAT
    document["name"] = say("{info} again", info=session.declaration.info.name)
    document["passes"] = _passes(session)
    tried = [r.step.setup for r in session.steps if r.step.kind is not StepKind.BASELINE]
    stock = session.declaration.stock
    touched = {change.knob for setup in tried for change in stock.changes_to(setup)}
    steps = tomlkit.array()
    for setup in dict.fromkeys(tried):
        if setup == stock:
            continue
        table = tomlkit.inline_table()
        for knob in session.declaration.knobs:
            if knob.id in touched:
                _put(table, knob, setup[knob.id])
        steps.append(table)
    moves = tomlkit.aot()
    if len(steps):
        move = tomlkit.table()
        move["kind"] = "steps"
        move["steps"] = steps.multiline(True)
        moves.append(move)
        document["do"] = moves
    return tomlkit.dumps(document)


def _put(table: InlineTable, knob: Knob, value: float) -> None:
    table[knob.id] = knob.bare(value) if knob.choices else int(value) if value == int(value) else value


def _passes(session: Session) -> int:
    rounds = [
        stage.rounds
        for record in session.steps
        for attempt in record.attempts
        if attempt.check is not None
        for stage in attempt.check.stages
        if stage.rounds > 1
    ]
    return max(rounds, default=_PASSES)
