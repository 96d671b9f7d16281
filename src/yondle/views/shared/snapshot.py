"""A logbook and its rig at one moment: what every read model is worked out from, and all a face ever sees of them."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import TYPE_CHECKING, Any, Protocol

from yondle.analysis.judging import limited_benchmarks, started_at
from yondle.formats.documents import Conditions, Documents
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.findings import Finding
from yondle.model.kept import KeptNow
from yondle.model.knobs import Change, Setup
from yondle.model.plan_runs import PlanRun
from yondle.model.profiles import Profile
from yondle.model.proposals import Proposal
from yondle.model.rigs import ELSEWHERE, RigDeclaration
from yondle.model.standing import Looked, Resumed, Verified, Waiting
from yondle.model.steps import Check, SensorLog, StepKind, StepRecord, may_be_stood_at
from yondle.planning.ladder import (
    BRACKET_EVERY,
    STEP_PASSES,
    bracket_check,
    bracketed,
    knowing,
    looking,
    quick_check,
    step_check,
)

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

NOTHING_KEPT = Documents({}, lambda detail: KnownError(detail, ""))
NOT_LOOKED = Looked(0.0, {}, "")


class Reader(Protocol):
    """What is too large to be at hand all the time, and is read when it is shown; any thread may ask."""

    def trace_arrays(self, attempt: int) -> tuple[NDArray[np.float64], dict[str, NDArray[np.float32]]]:
        """Give the whole trace of an attempt: times in seconds on the rig's clock, and the readings of every channel."""

    def sensor_log_names(self) -> Sequence[tuple[int, int, str]]:
        """Give number, step and name of every sensor log there is."""

    def sensor_logs(self, step: int) -> Sequence[SensorLog]:
        """Give the sensor logs added to a step."""

    def plan_runs(self) -> tuple[PlanRun, ...]:
        """List every run of a plan, latest first."""

    def open_plan_run(self) -> PlanRun | None:
        """Give the latest run of a plan that has not ended."""

    def attachment(self, attachment: int) -> bytes:
        """Give the bytes of a file kept as proof."""

    def rig(self) -> tuple[str, str, str]:
        """Give kind, name and definition of the rig the logbook is about."""

    def values(self, samples: bool = True) -> dict[str, Any]:
        """Give everything in the logbook as plain values, as an archive holds it."""


_MOST_BOOKS, _MOST_KEPT = 8, 4096
_SAME: dict[int, tuple[tuple[StepRecord, ...], dict[Setup, list[StepRecord]]]] = {}
"""Steps by their settings, for the trails that were looked at last."""


def _by_setup(steps: tuple[StepRecord, ...]) -> dict[Setup, list[StepRecord]]:
    kept = _SAME.get(id(steps))
    if kept is None or kept[0] is not steps:
        by_setup: dict[Setup, list[StepRecord]] = {}
        for record in steps:
            by_setup.setdefault(record.step.setup, []).append(record)
        if len(_SAME) >= _MOST_BOOKS:
            _SAME.clear()
        kept = _SAME[id(steps)] = steps, by_setup
    return kept[1]


_LIMITED: dict[int, tuple[RigDeclaration, StepRecord, tuple[str, ...]]] = {}
"""What limited a step, by the step itself: it doesn't change, and is asked with every move of a marker."""


def _limited_in(declaration: RigDeclaration, record: StepRecord) -> tuple[str, ...]:
    kept = _LIMITED.get(id(record))
    if kept is None or kept[0] is not declaration or kept[1] is not record:
        if len(_LIMITED) >= _MOST_KEPT:
            _LIMITED.clear()
        kept = declaration, record, limited_benchmarks(declaration, [record])
        _LIMITED[id(record)] = kept
    return kept[2]


@dataclass(frozen=True, slots=True)
class Bracket:
    """A step that is due to be measured again before a test, and how."""

    record: StepRecord
    check: Check


@dataclass(frozen=True, slots=True, eq=False)
class Snapshot:
    """What a logbook held and how its rig stood; nothing in it changes, so any thread may read it.

    `declaration` has the tuner's own limits on it. `version` grows with every change, and is 0 for a logbook that is only
    read; so `opened` tells the one that is worked on. `source` is where more is read from, and `kept` what is kept beside the
    steps. `put_back` tells what was put back when Yondle last ended, and isn't in force until something is done; `notices` what
    the tuner has to know of this machine as it was found. `pace` is that of a simulated rig, `kept_here` what the machine keeps
    over restarts.
    """

    path: Path
    declaration: RigDeclaration
    steps: tuple[StepRecord, ...]
    baseline_step: StepRecord | None
    position: StepRecord | None
    in_force: Setup
    profiles: tuple[Profile, ...] = ()
    findings: tuple[Finding, ...] = ()
    proposal: Proposal | None = None
    waiting: Waiting | None = None
    verified: Verified | None = None
    version: int = 0
    source: Reader | None = field(default=None, repr=False)
    kept: Documents = field(default=NOTHING_KEPT, repr=False)
    looked: Looked = NOT_LOOKED
    put_back: tuple[Change, ...] = ()
    resumed: tuple[Resumed, ...] = ()
    notices: tuple[str, ...] = ()
    simulated: bool = False
    pace: float | None = None
    kept_here: KeptNow | None = None

    @property
    def opened(self) -> bool:
        """Whether it is the logbook that is worked on, and not one that is only read."""
        return self.version > 0

    @property
    def elsewhere(self) -> bool:
        """Whether it is of a machine that runs no Yondle: nothing is set or tested there."""
        return self.declaration.info.id == ELSEWHERE

    @property
    def reader(self) -> Reader:
        """Where more of the logbook is read from; raises KnownError for one that is only read."""
        if self.source is None:
            raise KnownError(
                say("{path} is only read, without its traces and files.", path=self.path.name),
                say("Open it by itself."),
            )
        return self.source

    @property
    def conditions(self) -> dict[str, str | float]:
        """The conditions as they are now: what the rig finds out, and what the tuner told."""
        return {**self.looked.facts, **self.kept.of(Conditions).root}

    @property
    def not_told(self) -> tuple[str, ...]:
        """The conditions the rig can't find out and the tuner hasn't told yet."""
        known = self.conditions
        return tuple(name for name in self.declaration.asks if name not in known)

    @property
    def proposed(self) -> Setup:
        """The setup in force with the proposal on top."""
        changes = self.proposal.changes if self.proposal else ()
        return self.in_force.with_values({c.knob: c.new for c in changes})

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        at = bisect_left(self.steps, number, key=lambda record: record.step.number)
        if at == len(self.steps) or self.steps[at].step.number != number:
            raise KnownError(
                say("There is no step {number}.", number=number)
                if self.opened
                else say("{path} has no step {number}.", path=self.path.name, number=number),
                say("'yondle status' lists the steps there are."),
            )
        return self.steps[at]

    def same_settings(self, setup: Setup) -> list[StepRecord]:
        """Give the steps with exactly these settings, oldest first."""
        return list(_by_setup(self.steps).get(setup, ()))

    def check(self, passes: int | None = None) -> Check:
        """Give the check ladder that a test of the proposal would run."""
        if self.proposal is None:
            return knowing(quick_check(self.declaration, passes or STEP_PASSES, self.in_force), None)
        check = step_check(self.declaration, passes, self.in_force, self.proposed)
        return self.informed(check, self.in_force, self.proposed)

    def informed(self, check: Check, home: Setup, setup: Setup) -> Check:
        """Let the check of a setup know what the logbook does: what limits, whether to look for that, where rounds start."""
        if not check.scores:
            return check
        seen = any(p.counts for r in self.same_settings(setup) for a in r.attempts for p in a.passes)
        looks = looking(check, self.declaration, home, setup, seen)
        return knowing(looks, self.limited_with(setup), self.start_reading)

    def bracket_due(self, check: Check) -> Bracket | None:
        """Give the step that is due to be measured again before a test from the settings in force, where one is."""
        wanted = bracketed(self.declaration, check, self.in_force) if self.baseline_step is not None else None
        if wanted is None:
            return None
        record = next((r for r in (self.baseline_step, self.position) if r and r.step.setup == wanted), None)
        if record is None or self.since_measured(record) < BRACKET_EVERY:
            return None
        again = knowing(bracket_check(self.declaration), self.limited_with(wanted), self.start_reading)
        return Bracket(record, again)

    @property
    def since_baseline(self) -> int:
        """How many tests with figures were made since the baseline was measured last; none without a baseline."""
        return self.since_measured(self.baseline_step) if self.baseline_step is not None else 0

    def since_measured(self, record: StepRecord) -> int:
        """How many tests with figures were made since a step was tested last with some of its own."""
        measured = max((a.id for a in record.attempts if any(p.counts for p in a.passes)), default=0)
        late = (a for r in self.steps[-2 * BRACKET_EVERY :] for a in r.attempts if a.id > measured)
        return sum(any(p.counts for p in a.passes) for a in late)

    @property
    def start_reading(self) -> float | None:
        """What the channel that rounds settle on read in the middle one of the baseline's rounds; None without any."""
        attempts = self.baseline_step.attempts if self.baseline_step is not None else ()
        starts = [t for a in attempts if a.check is not None for t in started_at(a.check, a.passes)]
        return median(starts) if starts else None

    @property
    def limited_benchmarks(self) -> tuple[str, ...]:
        """The benchmarks in which a limit acted at stock or at the settings in force."""
        return self.limited_with(self.in_force)

    def limited_with(self, setup: Setup) -> tuple[str, ...]:
        """Name the benchmarks in which a limit acted at stock, at the settings in force, or whenever these were tested."""
        records = [r for r in (self.baseline_step, self.position, *self.same_settings(setup)) if r is not None]
        found = {work for record in records for work in _limited_in(self.declaration, record)}
        return tuple(work.id for work in self.declaration.benchmarks if work.id in found)

    def can_test_again(self, number: int) -> bool:
        """Tell whether a step may be tested once more from where the rig is."""
        step, here = self.step(number).step, self.position.step.number if self.position is not None else None
        at_hand = step.kind is StepKind.CHANGE and here in (step.parent, number)
        return at_hand and not self.declaration.not_offered(step.setup)

    def can_go_back(self, number: int) -> bool:
        """Tell whether a step's settings may be put in force again, and aren't already."""
        record, here = self.step(number), self.position.step.number if self.position is not None else None
        may = number != here and may_be_stood_at(record, self.elsewhere)
        return may and not self.declaration.not_offered(record.step.setup)
