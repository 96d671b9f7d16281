"""How moves and ends of plans are written down: structured; the sentences older logbooks have are read the same."""

from __future__ import annotations

import json
from dataclasses import asdict
from itertools import pairwise
from typing import Any

from yondle.language.saying import kept, said_again, say
from yondle.model.plan_runs import Ended, KeptMove, MoveKind, MoveStage

_BACK, _AGAIN, _RECALL, _TRY, _SAME = "back to ", "again ", "recall ", "try ", "the same"


def move_text(move: KeptMove) -> str:
    """Write a move down."""
    return json.dumps({**asdict(move), "kind": move.kind.value})


def move_of(text: str) -> KeptMove:
    """Read a move; raises ValueError, TypeError or KeyError for what is none."""
    if not text.startswith("{"):
        return _older(text)
    told: dict[str, Any] = json.loads(text)
    stages = tuple(MoveStage(tuple(map(str, s["workloads"])), s["rounds"], s["pass_s"]) for s in told["stages"])
    values = {str(knob): float(value) for knob, value in told["values"].items()}
    step = told["step"]
    return KeptMove(MoveKind(told["kind"]), int(step) if step is not None else None, str(told["knob"]), values, stages)


def end_text(ended: Ended, reason: str) -> str:
    """Write down how a plan's run ended."""
    return json.dumps([ended.value, kept(reason)])


def end_of(text: str) -> tuple[Ended | None, str]:
    """Read how a plan's run ended, and why; raises ValueError for what is no end."""
    if text.startswith("["):
        ended, reason = json.loads(text)
        return Ended(ended), said_again(str(reason))
    for each in Ended:
        if text == each or text.startswith(f"{each}: "):
            return each, text.removeprefix(each).removeprefix(": ")
    return None, text


def _older(words: str) -> KeptMove:
    """Read a move as it was written before it was structured: 'try core_clock=4300 5 passes of stacking star_match'."""
    if words.startswith(_BACK):
        return KeptMove(MoveKind.BACK, int(words.removeprefix(_BACK)))
    if words.startswith(_AGAIN):
        return KeptMove(MoveKind.AGAIN, int(words.removeprefix(_AGAIN)))
    if words.startswith(_RECALL):
        knob, *others = words.removeprefix(_RECALL).split()
        return KeptMove(MoveKind.RECALL, knob=knob, values=_values(others))
    if words.startswith(_TRY):
        tokens = words.removeprefix(_TRY).removeprefix(_SAME).split()
        given = [token for token in tokens if "=" in token]
        return KeptMove(MoveKind.TRY, values=_values(given), stages=_stages(tokens[len(given) :]))
    raise ValueError(say("'{words}' is no move", words=words))


def _values(tokens: list[str]) -> dict[str, float]:
    parted = (token.partition("=") for token in tokens)
    return {knob: float(value) for knob, _, value in parted}


def _stages(tokens: list[str]) -> tuple[MoveStage, ...]:
    """Read '5 passes of stacking star_match 60 s of mixed_load': each stage begins two words before its 'of'."""
    begins = [i - 2 for i, token in enumerate(tokens) if token == "of"]
    if tokens and begins[:1] != [0]:
        raise ValueError(say("'{words}' is no move", words=" ".join(tokens)))
    stages = []
    for first, last in pairwise([*begins, len(tokens)]):
        amount, unit, _, *workloads = tokens[first:last]
        timed = unit == "s"
        rounds, pass_s = (1, float(amount)) if timed else (int(amount), None)
        stages.append(MoveStage(tuple(workloads), rounds, pass_s))
    return tuple(stages)
