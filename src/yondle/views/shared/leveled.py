"""Everything a logbook has measured of a benchmark, as one estimator reads it; gains between any two of its settings."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from yondle.analysis.levels import Levels, Visit
from yondle.model.steps import PassRecord, StepRecord
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.snapshot import Snapshot


def levels_of(book: Snapshot, benchmark: Workload, part: str = "") -> Levels:
    """Give the levels of a benchmark, or of one of its sub-scores, of which more is always better."""
    direction = Direction.HIGHER if part else benchmark.metric.direction
    return _levels(_Same(book.steps), benchmark.id, part, direction)


class _Same:
    """Steps that are the same for being the very same ones."""

    __slots__ = ("steps",)

    def __init__(self, steps: tuple[StepRecord, ...]) -> None:
        self.steps = steps

    def __hash__(self) -> int:
        return id(self.steps)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.steps is self.steps


@lru_cache(maxsize=24)
def _levels(steps: _Same, benchmark: str, part: str, direction: Direction) -> Levels:
    return Levels((visit for record in steps.steps for visit in _visits(record, benchmark, part)), direction)


def _visits(record: StepRecord, benchmark: str, part: str) -> Iterator[Visit]:
    """The passes of a step, attempt by attempt, and those of what it started from; what was typed in is one attempt."""
    for attempt in record.attempts:
        for setup, passes in ((record.step.setup, attempt.passes), (attempt.home, attempt.compared)):
            scored = [p for p in passes if p.workload == benchmark and p.counts]
            scores = _scores(scored, part)
            if setup is not None and scores:
                at_s = sum(p.started_s for p in scored) / len(scored)
                yield Visit(attempt.id, setup, at_s, scores)
    added = [a for a in record.added if a.workload == benchmark and not a.discarded] if not part else []
    if added:
        last = record.attempts[-1] if record.attempts else None
        at_s = last.started_s if last is not None else 0.0
        yield Visit(("added", record.step.number), record.step.setup, at_s, [a.score for a in added])


def _scores(passes: list[PassRecord], part: str) -> list[float]:
    results = [p.result for p in passes if p.result is not None]
    if part:
        return [r.measured.parts[part] for r in results if part in r.measured.parts]
    return [r.score for r in results if r.score is not None]
