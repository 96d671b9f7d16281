"""Everything logbooks have measured of a benchmark, as one estimator reads it; gains between any two of its settings."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from yondle.model.knobs import Setup
from yondle.model.measured import Measured
from yondle.model.pacing import LOW
from yondle.model.steps import PassRecord, StepRecord
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.measured import like
from yondle.views.shared.snapshot import Snapshot

if TYPE_CHECKING:
    from yondle.analysis.levels import Levels, Visit


@dataclass(frozen=True, slots=True)
class Of:
    """What of a pass is compared: its score, a sub-score by name, or its score for each watt of a channel."""

    part: str = ""
    per_watt: str = ""

    def direction(self, benchmark: Workload) -> Direction:
        """Give which way is better; of sub-scores and of work for each watt more always is."""
        return Direction.HIGHER if self.part or self.per_watt else benchmark.metric.direction

    def value(self, score: float | None, measured: Measured, direction: Direction) -> float | None:
        """Give the figure of one pass; None where it has none."""
        if self.part:
            return measured.parts.get(self.part)
        if not self.per_watt:
            return score
        watts = measured.mean.get(self.per_watt, 0.0)
        if not score or watts <= 0.0:
            return None
        return (score if direction is Direction.HIGHER else 1.0 / score) / watts


SCORE = Of()


def levels_of(book: Snapshot, benchmark: Workload, of: Of = SCORE) -> Levels:
    """Give the levels of a benchmark in one logbook, by setup."""
    return _levels(_Same(book.steps), benchmark.id, of, benchmark.metric.direction)


def family_of(book: Snapshot) -> int:
    """Count the gains that a logbook tells: every setting but the baseline's, in every benchmark, the slowest frames too."""
    return _family(_Same(book.steps))


Place = tuple[Path, Setup | int]
"""What passes were made at: a setup in a logbook, or one of its steps."""
Typed = tuple[str, tuple[float, ...]]
"""Figures that were only typed in, by a name."""


def levels_across(
    books: Sequence[Snapshot],
    benchmark: Workload,
    of: Of = SCORE,
    apart: frozenset[Place] = frozenset(),
    typed: tuple[Typed, ...] = (),
) -> Levels:
    """Give the levels of a benchmark in several logbooks, by place, and of what was typed in, by name.

    Steps that are kept `apart` have the passes of their own alone, not all that were made at their setup.
    """
    own = tuple(
        (_Same(book.steps), book.path, found.id, found.metric.direction)
        for book in books
        if (found := like(book.declaration, benchmark)) is not None
    )
    return _across(own, of, of.direction(benchmark), apart, typed)


@lru_cache(maxsize=128)
def _across(
    books: tuple[tuple[_Same, Path, str, Direction], ...],
    of: Of,
    direction: Direction,
    apart: frozenset[Place],
    typed: tuple[Typed, ...],
) -> Levels:
    from yondle.analysis.levels import Levels, Visit

    visits = []
    for same, path, benchmark, own in books:
        made = _visits(same, benchmark, of, own)
        for step, setup, visit in sorted(made, key=lambda each: each[2].at_s):
            place: Place = (path, step) if step is not None and (path, step) in apart else (path, setup)
            visits.append(replace(visit, attempt=(path, visit.attempt), setting=place))
    visits += [Visit(name, name, 0.0, scores, told=True) for name, scores in typed]
    return Levels((replace(visit, at_s=float(i)) for i, visit in enumerate(visits)), direction)


class _Same:
    """Steps that are the same for being the very same ones."""

    __slots__ = ("steps",)

    def __init__(self, steps: tuple[StepRecord, ...]) -> None:
        self.steps = steps

    def __hash__(self) -> int:
        return id(self.steps)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.steps is self.steps


@lru_cache(maxsize=4)
def _family(steps: _Same) -> int:
    settings = 0
    for those in _made(steps).values():
        told = [
            (setup, measured) for step, setup, _, _, brought in those if step is not None for _, measured in brought
        ]
        settings += len({setup for setup, _ in told}) - 1
        settings += max(len({setup for setup, measured in told if LOW in measured.parts}) - 1, 0)
    return max(settings, 1)


@lru_cache(maxsize=128)
def _levels(steps: _Same, benchmark: str, of: Of, direction: Direction) -> Levels:
    from yondle.analysis.levels import Levels

    visits = (visit for _, _, visit in _visits(steps, benchmark, of, direction))
    return Levels(visits, Direction.HIGHER if of != SCORE else direction)


Made = tuple[int | None, Setup, Hashable, float, list[tuple[float | None, Measured]]]
"""Passes of one setup in one attempt: the step whose own they are, the setup, the attempt, when, and what each brought."""


def _visits(steps: _Same, benchmark: str, of: Of, direction: Direction) -> Iterator[tuple[int | None, Setup, Visit]]:
    """What every attempt has measured of a benchmark at a setup."""
    from yondle.analysis.levels import Visit

    for step, setup, attempt, at_s, brought in _made(steps).get(benchmark, ()):
        told = [of.value(score, measured, direction) for score, measured in brought]
        if scores := [score for score in told if score is not None]:
            yield step, setup, Visit(attempt, setup, at_s, scores, told=isinstance(attempt, tuple))


@lru_cache(maxsize=4)
def _made(steps: _Same) -> dict[str, list[Made]]:
    """The passes of all steps by benchmark, gathered in one go; what was typed in at a step is one attempt."""
    found: dict[str, list[Made]] = {}
    for record in steps.steps:
        number, own = record.step.number, record.step.setup
        for attempt in record.attempts:
            for step, setup, passes in ((number, own, attempt.passes), (None, attempt.home, attempt.compared)):
                by_name: dict[str, list[PassRecord]] = {}
                for made in passes:
                    if setup is not None and made.counts and made.result is not None:
                        by_name.setdefault(made.workload, []).append(made)
                for name, scored in by_name.items():
                    at_s = sum(made.started_s for made in scored) / len(scored)
                    brought = [(made.result.score, made.result.measured) for made in scored if made.result is not None]
                    found.setdefault(name, []).append((step, setup or own, attempt.id, at_s, brought))
        at_s = record.attempts[-1].started_s if record.attempts else 0.0
        for name in dict.fromkeys(a.workload for a in record.added if not a.discarded):
            typed: list[tuple[float | None, Measured]] = [
                (a.score, a.measured) for a in record.added if a.workload == name and not a.discarded
            ]
            found.setdefault(name, []).append((number, own, ("added", number), at_s, typed))
    return found
