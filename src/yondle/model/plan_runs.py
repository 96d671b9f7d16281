"""Runs of plans as a logbook keeps them: every move written down before it is made, and what became of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, StrEnum
from typing import Any

from yondle.model.findings import Finding


class Ended(StrEnum):
    """How a run of a plan came to its end, or why it isn't there yet: `GOES_ON` tells which ends are none."""

    DONE = "done"
    STOPPED = "stopped by the tuner"
    RULE = "stopped by a rule"
    PAUSED = "paused"
    WAITING = "waiting for values entered by hand"
    LOST = "left the ground it stood on"


GOES_ON = (Ended.STOPPED, Ended.PAUSED, Ended.WAITING)
"""What a run can be taken up again after; the step that was stopped is made anew."""


class MoveKind(Enum):
    """What a move of a plan does."""

    BACK = "back"
    AGAIN = "again"
    RECALL = "recall"
    TRY = "try"


@dataclass(frozen=True, slots=True)
class MoveStage:
    """What a move loads the machine with: these workloads one after the other, for so long each, or so many score passes."""

    workloads: tuple[str, ...]
    rounds: int
    pass_s: float | None


@dataclass(frozen=True, slots=True)
class KeptMove:
    """A move of a plan as it is written down: the step it goes back to or tests again, or the values it tries and how it checks.

    One that recalls names the knob it asks about, and in `values` what else is set.
    """

    kind: MoveKind
    step: int | None = None
    knob: str = ""
    values: Mapping[str, float] = field(default_factory=dict)
    stages: tuple[MoveStage, ...] = ()


@dataclass(frozen=True, slots=True)
class PlanMove:
    """One move of a plan's run: what it is, the attempt it was to make, and what became of it (None while under way)."""

    number: int
    move: KeptMove
    attempt: int | None
    result: dict[str, Any] | None


@dataclass(frozen=True, slots=True)
class PlanRun:
    """A run of a plan: its definition as TOML text, where and when it started, its moves so far.

    `ended_at` is empty and `ended` None while it goes on; `reason` says why it ended. `found` is what it found, None
    where that was not kept.
    """

    id: int
    definition: str
    start: dict[str, Any]
    started_at: str
    started_s: float
    moves: tuple[PlanMove, ...]
    ended_at: str = ""
    ended: Ended | None = None
    reason: str = ""
    found: tuple[Finding, ...] | None = None
