from __future__ import annotations

from pathlib import Path

import pytest

from yondle.engine.states import TRANSITIONS, State, Trigger
from yondle.model.transitions import IllegalTransitionError

ROOT = Path(__file__).resolve().parents[3]


def test_every_state_can_be_reached_and_leads_back_to_rest() -> None:
    def reach(start: State) -> set[State]:
        seen = {start}
        while more := {after for (state, _), after in TRANSITIONS.then.items() if state in seen} - seen:
            seen |= more
        return seen

    assert reach(State.RESTING) == set(State)
    assert all(State.RESTING in reach(state) for state in State)


def test_a_trigger_without_a_place_in_the_table_is_a_fault() -> None:
    with pytest.raises(IllegalTransitionError, match="'rest' while 'running a pass'"):
        TRANSITIONS.follow(State.PASSING, Trigger.REST)


def test_the_table_in_the_documentation_is_the_one_in_force() -> None:
    assert TRANSITIONS.table() in (ROOT / "docs" / "architecture.md").read_text("utf-8")
