"""Steps on the trail, the check they undergo, and the attempts and passes that were made of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from yondle.model.knobs import Change, Setup
from yondle.model.verdicts import Outcome, Verdict
from yondle.model.workloads import PassResult


class StepKind(StrEnum):
    """Whether a step measures stock as the baseline or tries a change."""

    BASELINE = "baseline"
    CHANGE = "change"


@dataclass(frozen=True, slots=True)
class Step:
    """One place on the trail: a whole setup, and how it differs from the step it was proposed from."""

    number: int
    kind: StepKind
    parent: int | None
    setup: Setup
    changes: tuple[Change, ...] = ()
    joint: bool = False


class StageKind(StrEnum):
    """What a stage of the check ladder does."""

    SCORE = "score passes"
    LOAD = "load"


SCORE_STAGE = StageKind.SCORE.value
"""What the stage of scored passes is called in every record; the figures of longer loads don't enter gains."""


@dataclass(frozen=True, slots=True)
class Stage:
    """One rung of the check ladder: rounds of scored passes over some workloads, or one load for a time."""

    name: str
    kind: StageKind
    workloads: tuple[str, ...]
    rounds: int
    warm_up_rounds: int
    pass_s: float | None = None


@dataclass(frozen=True, slots=True)
class Check:
    """The check ladder of one attempt, from quick to hard, and the temperature every round starts below."""

    stages: tuple[Stage, ...]
    settle_channel: str = ""
    settle_below: float = 0.0
    settle_at_most_s: float = 600.0


@dataclass(frozen=True, slots=True)
class PassRecord:
    """One pass as the logbook keeps it; warm-up and disturbed passes are kept but left out of figures."""

    ordinal: int
    stage: str
    workload: str
    round: int
    warm_up: bool
    started_s: float
    result: PassResult | None
    disturbed: str = ""

    @property
    def counts(self) -> bool:
        """Tell whether the pass enters figures."""
        done = self.result is not None and self.result.ok and self.result.score is not None
        return done and self.stage == SCORE_STAGE and not self.warm_up and not self.disturbed


@dataclass(frozen=True, slots=True)
class Attempt:
    """One test of a step from opening to put-back; `outcome` is None while it runs."""

    id: int
    step: int
    started_at: str
    started_s: float
    boot_id: str
    outcome: Outcome | None = None
    passes: tuple[PassRecord, ...] = ()
    conditions: dict[str, str | float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Note:
    """What the tuner wrote at a step."""

    id: int
    step: int
    at: str
    text: str


@dataclass(frozen=True, slots=True)
class StepRecord:
    """A step with everything that was done and written about it."""

    step: Step
    attempts: tuple[Attempt, ...] = ()
    notes: tuple[Note, ...] = ()

    @property
    def outcome(self) -> Outcome | None:
        """The outcome of the latest attempt that has one."""
        return next((a.outcome for a in reversed(self.attempts) if a.outcome is not None), None)

    @property
    def verdict(self) -> Verdict:
        """The mark the step carries now."""
        return self.outcome.verdict if self.outcome else Verdict.UNPROVEN

    def scores(self, workload: str) -> list[float]:
        """List the figures of one benchmark that count, in the order they were measured."""
        return [
            p.result.score
            for a in self.attempts
            for p in a.passes
            if p.workload == workload and p.counts and p.result is not None and p.result.score is not None
        ]
