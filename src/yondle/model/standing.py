"""How a rig stands: what of its settings was read back, what waits for the tuner's hands, and what was found open at a start."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.knobs import Setup
from yondle.model.steps import Step, StepRecord
from yondle.model.verdicts import Outcome


@dataclass(frozen=True, slots=True)
class Verified:
    """When settings were last read back, and how many of those that can be read were as they should be.

    `told` counts those that no machine tells: they are as the tuner entered them.
    """

    at_s: float
    as_set: int
    of: int
    told: int = 0


@dataclass(frozen=True, slots=True)
class Looked:
    """What a look at the machine told: its clock in seconds, the conditions it finds out itself, and why settings may have gone
    back by themselves since they were last read (`gone_back`, empty where they can't have). `away` says that nothing can be asked
    of a machine across the room, why, and what to do; nothing while it is there.
    """

    at_s: float
    facts: dict[str, str | float]
    gone_back: str
    away: str = ""


@dataclass(frozen=True, slots=True)
class Resumed:
    """What was found open at the start: the step on trial, what became of it, and where the rig rests now."""

    step: StepRecord
    outcome: Outcome
    rests_at_step: int | None
    verified: bool


@dataclass(frozen=True, slots=True)
class Waiting:
    """Values to be entered by hand: those of a step on trial, or (`step` is None) those that bring the rig back.

    `restarts` tells that they take a restart, as in firmware setup, `restarted` that the machine has restarted since they were
    asked for, `goes_on` that nobody needs to be asked.
    """

    values: dict[str, float]
    setup: Setup
    step: Step | None
    restarted: bool
    goes_on: bool = False
    restarts: bool = True
