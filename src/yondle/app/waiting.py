"""What a session waits for: values that have to be entered in firmware setup, and the answer after the restart."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.knobs import Setup
from yondle.model.steps import Step


@dataclass(frozen=True, slots=True)
class Waiting:
    """Values to be entered by hand: those of a step on trial, or (`step` is None) those that bring the rig back.

    `restarted` tells that the machine has restarted since they were asked for, `goes_on` that nobody needs to be asked.
    """

    values: dict[str, float]
    setup: Setup
    step: Step | None
    restarted: bool
    goes_on: bool = False
