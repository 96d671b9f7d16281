"""Steps on the trail, the check they undergo, and the attempts and passes that were made of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

from yondle.model.knobs import Change, Setup
from yondle.model.measured import NOTHING_MEASURED, Measured
from yondle.model.sensors import SampleBlock
from yondle.model.verdicts import MACHINE_FAILURES, SAYS_NOTHING, Failure, Outcome, Verdict
from yondle.model.workloads import PassResult


class StepKind(StrEnum):
    """Whether a step measures stock as the baseline or tries a change."""

    BASELINE = "baseline"
    CHANGE = "change"


@dataclass(frozen=True, slots=True)
class StartAnswer:
    """What the tuner tells about a restart: how it failed to start if it did, where it stopped, and the code shown."""

    failure: Failure | None = None
    stopped_at: str = ""
    code: str = ""

    @property
    def started(self) -> bool:
        """Tell whether the machine came up with the new values."""
        return self.failure is None


@dataclass(frozen=True, slots=True)
class Step:
    """One place on the trail: a whole setup, and how it differs from the step it was proposed from.

    `unknown` names knobs that came to the machine since: where they stood is not known, and taken to be as they were found.
    """

    number: int
    kind: StepKind
    parent: int | None
    setup: Setup
    changes: tuple[Change, ...] = ()
    joint: bool = False
    unknown: tuple[str, ...] = ()

    @property
    def unchanged(self) -> bool:
        """Whether it is what its parent was, tested again as the place a sweep in rounds compares with."""
        return self.kind is StepKind.CHANGE and not self.changes


ASKED_BECAUSE = "asked because"
"""The condition under which an attempt keeps why a plan asked for it."""


class StageKind(StrEnum):
    """What a stage of the check ladder does."""

    SCORE = "score passes"
    COMPARED = "compared with"
    LOAD = "load"
    KEPT = "kept in force"
    RECORDED = "recorded"


SCORE_STAGE = StageKind.SCORE.value
"""What the stage of scored passes is called in every record; the figures of longer loads don't enter gains."""
COMPARED_STAGE = StageKind.COMPARED.value
"""What that of scored passes of the setup a step starts from is called, with which its own take turns."""
KEPT_STAGE = StageKind.KEPT.value
"""What daily use with a profile kept over restarts is called: no check of Yondle's, and no load of its own."""
RECORDED_STAGE = StageKind.RECORDED.value
"""What a test is called that Yondle didn't run: its tuner tells what was set and how it went."""
LONG, FOR_EDGE = "long ", "edge "
"""Before the id of a workload: the stage of a long run of a benchmark, and that of a search for an edge.

A stage is kept by such ids, never by what it is called in some language; the stage of another load is its id alone.
"""


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
    """The check ladder of one attempt, from quick to hard, and the state every scored pass starts in.

    A round starts with the channel between `settle_above` and `settle_below`, where the first scored one found itself after a
    rest when they are None. Benchmarks in which a limit acts are run for
    `preload_s` right before each of their scored passes, so that what a limiter still had to give is used up: those of
    `preload` from the start, others once a limit is seen to act in them; with `probe` the warm-up lasts as long, to see it.
    What `alternates` is run in turns with the setup it starts from, one round of either, in the order A B B A.
    """

    stages: tuple[Stage, ...]
    settle_channel: str = ""
    settle_below: float | None = None
    settle_at_most_s: float = 600.0
    settle_above: float | None = None
    preload: tuple[str, ...] = ()
    preload_s: float = 0.0
    probe: bool = False
    alternates: bool = False

    @property
    def scores(self) -> bool:
        """Tell whether it measures scores, or is nothing but load."""
        return any(stage.kind is StageKind.SCORE for stage in self.stages)


@dataclass(frozen=True, slots=True)
class PassRecord:
    """One pass as the logbook keeps it; warm-up, disturbed and discarded passes are kept but left out of figures.

    `discarded` is why the tuner discarded it; empty where nobody did.
    """

    ordinal: int
    stage: str
    workload: str
    round: int
    warm_up: bool
    started_s: float
    result: PassResult | None
    disturbed: str = ""
    discarded: str = ""

    @property
    def counts(self) -> bool:
        """Tell whether the pass enters figures."""
        done = self.result is not None and self.result.ok and self.result.score is not None
        scored = done and self.stage in (SCORE_STAGE, COMPARED_STAGE)
        return scored and not self.warm_up and not self.disturbed and not self.discarded


@dataclass(frozen=True, slots=True)
class Attempt:
    """One test of a step from opening to put-back; `outcome` is None while it runs.

    `passes` are those at the step's settings, `compared` those at the settings it started from, which are its `home`.
    """

    id: int
    step: int
    started_at: str
    started_s: float
    boot_id: str
    outcome: Outcome | None = None
    passes: tuple[PassRecord, ...] = ()
    check: Check | None = None
    conditions: dict[str, str | float] = field(default_factory=dict)
    compared: tuple[PassRecord, ...] = ()
    home: Setup | None = None

    @property
    def all_passes(self) -> tuple[PassRecord, ...]:
        """All its passes in the order they were made."""
        return (
            tuple(sorted((*self.passes, *self.compared), key=lambda made: made.ordinal))
            if self.compared
            else self.passes
        )

    def with_passes(self, passes: Sequence[PassRecord]) -> Attempt:
        """Give it with other passes, each where it belongs."""
        own = tuple(p for p in passes if p.stage != COMPARED_STAGE)
        return replace(self, passes=own, compared=tuple(p for p in passes if p.stage == COMPARED_STAGE))

    @property
    def recorded(self) -> bool:
        """Tell whether it is only told of: Yondle ran nothing of it."""
        return self.check is not None and any(stage.kind is StageKind.RECORDED for stage in self.check.stages)

    @property
    def tested(self) -> bool:
        """Tell whether anything was run with the setting, or the machine went down over it: else it was never tested."""
        down = self.outcome is not None and self.outcome.failure in MACHINE_FAILURES
        return bool(self.passes) or down


@dataclass(frozen=True, slots=True)
class Note:
    """What the tuner wrote at a step; a caveat stands beside the results in every report. `edited_at` is often empty."""

    id: int
    step: int
    at: str
    text: str
    caveat: bool = False
    edited_at: str = ""


@dataclass(frozen=True, slots=True)
class Attachment:
    """A picture or another file kept at a step as proof; its bytes are read when they are asked for."""

    id: int
    step: int
    at: str
    name: str
    bytes: int
    sha256: str


@dataclass(frozen=True, slots=True)
class AddedResult:
    """A figure that was measured outside Yondle at a step's settings: typed in, or read from a file.

    `measured` holds its sub-scores, and told the preset and passage it was measured with, a note, and where it came from.
    """

    id: int
    step: int
    workload: str
    at: str
    score: float
    measured: Measured = NOTHING_MEASURED
    frame_times_ms: Sequence[float] = ()
    discarded: str = ""


@dataclass(frozen=True, slots=True)
class SensorLog:
    """A log of sensors from another program at a step's settings; times are seconds from `began_at`."""

    id: int
    step: int
    at: str
    name: str
    began_at: str
    block: SampleBlock


HOLDS_PER_FAILURE = 2
"""A setting that failed must hold so many times for each failure before it is called held again."""


_FAILED = (Verdict.DOWN, Verdict.WRONG)


def verdict_of(outcomes: Sequence[Outcome]) -> Verdict:
    """Give the mark of a step from the outcomes of all its attempts, oldest first.

    The latest that says something counts, but what ever failed is not held again after one better try, and no later test
    that was only held back or refused hides it.
    """
    decides = deciding(outcomes)
    if decides is None or decides.failure in SAYS_NOTHING:
        return Verdict.UNPROVEN
    last = next(o.verdict for o in reversed(outcomes) if o.verdict in (*_FAILED, Verdict.HELD) or o is decides)
    return Verdict.UNPROVEN if decides.verdict in _FAILED and last is Verdict.HELD else decides.verdict


def deciding(outcomes: Sequence[Outcome]) -> Outcome | None:
    """Give the outcome that a step's mark rests on: the latest failure not yet made up for, else the latest that tells."""
    telling = telling_of(outcomes)
    failed = [o for o in telling if o.verdict in _FAILED]
    if failed and sum(o.verdict is Verdict.HELD for o in telling) < HOLDS_PER_FAILURE * len(failed):
        return failed[-1]
    return telling[-1] if telling else outcomes[-1] if outcomes else None


def telling_of(outcomes: Sequence[Outcome]) -> list[Outcome]:
    """Leave out what tells nothing about the setting: stopped, interrupted, a sensor lost."""
    return [o for o in outcomes if o.failure not in SAYS_NOTHING]


@dataclass(frozen=True, slots=True)
class StepRecord:
    """A step with everything that was done and written about it."""

    step: Step
    attempts: tuple[Attempt, ...] = ()
    notes: tuple[Note, ...] = ()
    derived: dict[str, float] = field(default_factory=dict)
    added: tuple[AddedResult, ...] = ()
    attached: tuple[Attachment, ...] = ()

    @property
    def outcome(self) -> Outcome | None:
        """The outcome of the latest attempt that has one."""
        return next((a.outcome for a in reversed(self.attempts) if a.outcome is not None), None)

    @property
    def recorded(self) -> bool:
        """Tell whether it is nothing but a record: no test of Yondle's own was made of it."""
        return bool(self.attempts) and all(attempt.recorded for attempt in self.attempts)

    @property
    def verdict(self) -> Verdict:
        """The mark the step carries now."""
        return verdict_of(self.outcomes)

    @property
    def word(self) -> Verdict | Failure:
        """The word beside the mark."""
        decides, verdict = self.deciding, self.verdict
        return decides.word if decides is not None and verdict is Verdict.WRONG else verdict

    @property
    def outcomes(self) -> list[Outcome]:
        """The outcomes of the attempts that have one, oldest first."""
        return [a.outcome for a in self.attempts if a.outcome is not None]

    @property
    def deciding(self) -> Outcome | None:
        """The outcome that the mark rests on; its words stand wherever the mark does."""
        return deciding(self.outcomes)

    def scores(self, workload: str) -> list[float]:
        """List the figures of one benchmark that count, in the order they were measured; those added come last."""
        measured = [
            p.result.score
            for a in self.attempts
            for p in a.passes
            if p.workload == workload and p.counts and p.result is not None and p.result.score is not None
        ]
        return measured + [a.score for a in self.added if a.workload == workload and not a.discarded]

    def parts_of(self, workload: str, part: str) -> list[float]:
        """List one sub-score of the passes of a benchmark that count, such as the frame rate of its slowest frames."""
        results = [p.result for a in self.attempts for p in a.passes if p.workload == workload and p.counts]
        return [r.measured.parts[part] for r in results if r is not None and part in r.measured.parts]


_MEASURED = (Verdict.HELD, Verdict.HELD_BACK)


def baseline_of(steps: Sequence[StepRecord], told: bool = False) -> StepRecord | None:
    """Give the latest baseline that ran through; with `told`, where nothing is ever run, the latest with no word against it."""
    stock = (r for r in reversed(steps) if r.step.kind is StepKind.BASELINE)
    may = (*_MEASURED, Verdict.UNPROVEN) if told else _MEASURED
    return next((r for r in stock if r.verdict in may and r.recorded is told), None)


def may_be_put_in_force(record: StepRecord) -> bool:
    """What held may, and so may stock once it was measured, even where it was held back."""
    baseline = record.step.kind is StepKind.BASELINE and record.verdict is Verdict.HELD_BACK
    return record.verdict is Verdict.HELD or baseline


def may_be_stood_at(record: StepRecord, elsewhere: bool) -> bool:
    """Tell whether its settings may be gone back to: `elsewhere`, where nothing is set, those that weren't checked may, too."""
    not_checked = record.recorded and record.verdict is Verdict.UNPROVEN
    return may_be_put_in_force(record) or (elsewhere and not_checked)
