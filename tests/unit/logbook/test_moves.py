"""Moves and ends of plans are written structured; what older logbooks say in words means the same."""

from __future__ import annotations

import pytest

from yondle.language.saying import say
from yondle.logbook.moves import end_of, end_text, move_of, move_text
from yondle.model.plan_runs import Ended, KeptMove, MoveKind, MoveStage

OLDER = {
    "back to 3": KeptMove(MoveKind.BACK, 3),
    "again 12": KeptMove(MoveKind.AGAIN, 12),
    "recall core_clock": KeptMove(MoveKind.RECALL, knob="core_clock"),
    "recall core_clock core_voltage=1.25 fan_level=80": KeptMove(
        MoveKind.RECALL, knob="core_clock", values={"core_voltage": 1.25, "fan_level": 80.0}
    ),
    "try core_clock=4300": KeptMove(MoveKind.TRY, values={"core_clock": 4300.0}),
    "try the same": KeptMove(MoveKind.TRY),
    "try the same 3600 s of mixed_load": KeptMove(MoveKind.TRY, stages=(MoveStage(("mixed_load",), 1, 3600.0),)),
    "try cas=36 memory_voltage=1.25 5 passes of stacking star_match 60 s of mixed_load": KeptMove(
        MoveKind.TRY,
        values={"cas": 36.0, "memory_voltage": 1.25},
        stages=(MoveStage(("stacking", "star_match"), 5, None), MoveStage(("mixed_load",), 1, 60.0)),
    ),
}


@pytest.mark.parametrize("words", OLDER)
def test_an_older_move_reads_as_what_is_written_now(words: str) -> None:
    assert move_of(words) == OLDER[words]
    assert move_of(move_text(OLDER[words])) == OLDER[words]


@pytest.mark.parametrize(
    "damaged", ["", "sing", "back to", "again x", "try a=b", "try a=1 5 of x", '{"kind": "sing"}', "{}"]
)
def test_what_is_no_move_is_said_so(damaged: str) -> None:
    with pytest.raises((ValueError, KeyError, TypeError)):
        move_of(damaged)


def test_how_a_plan_ended_is_kept_with_its_reason_and_older_ends_are_told_apart() -> None:
    reason = say("{failures} steps have failed", failures=3)
    assert end_of(end_text(Ended.RULE, reason)) == (Ended.RULE, "3 steps have failed")
    assert end_of("stopped by a rule: 3 steps have failed") == (Ended.RULE, "3 steps have failed")
    assert end_of("stopped by the tuner") == (Ended.STOPPED, "")
    assert end_of("fell off the table") == (None, "fell off the table")
    assert end_of("") == (None, "")
