"""The engine's states and the one table of transitions between them; `python -m yondle.engine.states` prints it."""

from __future__ import annotations

from enum import StrEnum

from yondle.model.transitions import Transitions


class State(StrEnum):
    """What the engine is doing."""

    RESTING = "resting"
    OPENING = "opening the step"
    APPLYING = "setting and reading back"
    WAITING = "waiting for values entered by hand"
    RESTARTING = "restarting"
    SETTLING = "cooling down"
    PASSING = "running a pass"
    PAUSED = "paused"
    JUDGING = "judging"
    BRINGING_BACK = "bringing the machine back"
    PUTTING_BACK = "putting back"


class Trigger(StrEnum):
    """What moves the engine from state to state."""

    OPEN = "open"
    APPLY = "apply"
    WAIT = "wait"
    RESUME = "resume"
    RESTART = "restart"
    SETTLE = "settle"
    RUN = "run"
    PAUSE = "pause"
    END = "end"
    DOWN = "machine down"
    RESTORE = "restore"
    REST = "rest"


TRANSITIONS = Transitions(
    {
        (State.RESTING, Trigger.OPEN): State.OPENING,
        (State.RESTING, Trigger.RESTORE): State.PUTTING_BACK,
        (State.RESTING, Trigger.WAIT): State.WAITING,
        (State.OPENING, Trigger.APPLY): State.APPLYING,
        (State.OPENING, Trigger.END): State.JUDGING,
        (State.APPLYING, Trigger.WAIT): State.WAITING,
        (State.APPLYING, Trigger.RESTART): State.RESTARTING,
        (State.WAITING, Trigger.RESUME): State.APPLYING,
        (State.WAITING, Trigger.END): State.JUDGING,
        (State.RESTARTING, Trigger.APPLY): State.APPLYING,
        (State.RESTARTING, Trigger.END): State.JUDGING,
        (State.RESTARTING, Trigger.DOWN): State.BRINGING_BACK,
        (State.RESTARTING, Trigger.RESTORE): State.PUTTING_BACK,
        (State.APPLYING, Trigger.SETTLE): State.SETTLING,
        (State.APPLYING, Trigger.RUN): State.PASSING,
        (State.APPLYING, Trigger.PAUSE): State.PAUSED,
        (State.APPLYING, Trigger.END): State.JUDGING,
        (State.SETTLING, Trigger.RUN): State.PASSING,
        (State.SETTLING, Trigger.APPLY): State.APPLYING,
        (State.SETTLING, Trigger.PAUSE): State.PAUSED,
        (State.SETTLING, Trigger.END): State.JUDGING,
        (State.PASSING, Trigger.SETTLE): State.SETTLING,
        (State.PASSING, Trigger.RUN): State.PASSING,
        (State.PASSING, Trigger.APPLY): State.APPLYING,
        (State.PASSING, Trigger.PAUSE): State.PAUSED,
        (State.PASSING, Trigger.END): State.JUDGING,
        (State.PAUSED, Trigger.SETTLE): State.SETTLING,
        (State.PAUSED, Trigger.RUN): State.PASSING,
        (State.PAUSED, Trigger.APPLY): State.APPLYING,
        (State.PAUSED, Trigger.END): State.JUDGING,
        (State.JUDGING, Trigger.RESTORE): State.PUTTING_BACK,
        (State.JUDGING, Trigger.DOWN): State.BRINGING_BACK,
        (State.BRINGING_BACK, Trigger.DOWN): State.BRINGING_BACK,
        (State.BRINGING_BACK, Trigger.RESTORE): State.PUTTING_BACK,
        (State.PUTTING_BACK, Trigger.RESTART): State.RESTARTING,
        (State.PUTTING_BACK, Trigger.DOWN): State.BRINGING_BACK,
        (State.PUTTING_BACK, Trigger.REST): State.RESTING,
    }
)


if __name__ == "__main__":
    print(TRANSITIONS.table())
