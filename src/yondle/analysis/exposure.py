"""What attempts say about how long a setting lasts: every pass as a run of its load, failed or not."""

from __future__ import annotations

from collections.abc import Iterable

from yondle.analysis.runs import Run
from yondle.analysis.soak import cooled, warmed
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import KEPT_STAGE, Attempt, PassRecord, StepRecord
from yondle.model.verdicts import MACHINE_FAILURES, START_FAILURES, Failure, Outcome, Verdict

ANY_LOAD = ""
"""A machine that doesn't start fails under every load, and one that goes down in daily use would under any of them."""
MOST_CORRECTED = 20
"""Corrected errors come in bursts: more than so many in one run say no more about the rate."""
_UNEXPOSED = frozenset({Failure.CLOCK_NOT_HELD, Failure.NOT_IN_FORCE, Failure.REFUSED})
"""Ends that mean the setting asked for was not what ran."""

_NO_RUN = frozenset({Failure.INTERRUPTED.value, Failure.NOT_RUN.value})
"""Ends of a pass that somebody else brought about, or in which its load never ran: neither exposure nor failure."""


Warmths = dict[tuple[int, int], float]
"""How warm the machine was when a pass began, by attempt and pass."""


def warmths(records: Iterable[StepRecord]) -> Warmths:
    """Work out how warm the machine was at the start of every pass, from the load before it; steps may come in any order."""
    warm: Warmths = {}
    warmth, since = 0.0, 0.0
    for attempt in sorted((a for r in records for a in r.attempts), key=lambda a: a.id):
        for made in attempt.passes:
            gap = made.started_s - since
            warmth = cooled(warmth, gap) if gap >= 0.0 else 0.0
            warm[attempt.id, made.ordinal] = warmth
            lasted = made.result.duration_s if made.result is not None else _time_to_failure(attempt)
            warmth, since = warmed(warmth, lasted), made.started_s + lasted
    return warm


def _time_to_failure(attempt: Attempt) -> float:
    return (attempt.outcome.time_to_failure_s or 0.0) if attempt.outcome is not None else 0.0


def runs_of(records: Iterable[StepRecord], knob_id: str, warm: Warmths) -> list[Run]:
    """List the runs of some steps by the value of a knob; attempts in which the value wasn't in force are left out."""
    return [
        run
        for record in records
        for attempt in record.attempts
        for run in _runs(attempt, record.step.setup[knob_id], warm)
    ]


def reached_by(declaration: RigDeclaration, attempt: Attempt, knob_id: str) -> float | None:
    """Give the lowest mean, over a pass, of the reading that follows a knob, where the attempt ended for not holding it."""
    if attempt.outcome is None or attempt.outcome.failure is not Failure.CLOCK_NOT_HELD:
        return None
    following = [c.id for c in declaration.channels if c.follows == knob_id]
    means = [p.result.measured.mean for p in attempt.passes if p.result is not None]
    return min((mean[id_] for mean in means for id_ in following if id_ in mean), default=None)


def _runs(attempt: Attempt, value: float, warm: Warmths) -> list[Run]:
    outcome = attempt.outcome
    if outcome is None or outcome.failure in _UNEXPOSED:
        return []
    if outcome.failure in START_FAILURES:
        return [Run(ANY_LOAD, value, 0.0, 1, True)]
    if outcome.stage == KEPT_STAGE:
        return [Run(ANY_LOAD, value, outcome.time_to_failure_s or 0.0, 1, True)]
    made = (_run(record, value, outcome, warm.get((attempt.id, record.ordinal), 0.0)) for record in attempt.passes)
    return [run for run in made if run is not None]


def _run(record: PassRecord, value: float, outcome: Outcome, warmth: float) -> Run | None:
    failed = outcome.verdict in (Verdict.DOWN, Verdict.WRONG) and outcome.failure is not Failure.ERRORS_CORRECTED
    result = record.result
    if result is None:
        seconds = outcome.time_to_failure_s
        return Run(record.workload, value, seconds, 1, True, warmth) if failed and seconds is not None else None
    if result.ok:
        corrected = min(round(sum(result.measured.errors.values())), MOST_CORRECTED)
        return Run(record.workload, value, result.duration_s, corrected, False, warmth, corrected)
    if result.failure in _NO_RUN:
        return None
    if failed:
        return Run(record.workload, value, result.duration_s, 1, outcome.failure in MACHINE_FAILURES, warmth)
    return Run(record.workload, value, result.duration_s, 0, False, warmth)
