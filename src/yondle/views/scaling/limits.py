"""What holds each benchmark back at a step, from what was recorded there and from what was swept."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.analysis.limiting import Limitation, what_limits
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.workloads import Workload
from yondle.views.scaling.evidence import evidence
from yondle.views.scaling.sensitivities import Sensitivities
from yondle.views.shared.measured import Settings
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class LimitedBenchmark:
    """One benchmark and what holds it back."""

    benchmark: Workload
    finding: Limitation


def limits(
    book: Snapshot, settings: Settings, told: Sensitivities, number: int | None = None
) -> tuple[LimitedBenchmark, ...]:
    """Say what holds every benchmark back at a step, the present one if none is named; raises KnownError without figures.

    `told` is what each benchmark answers to.
    """
    record = book.step(number) if number is not None else book.position
    if record is None:
        raise KnownError(say("The rig is at no step of the trail."), say("Name a step, or go back to one."))
    setting = next((s for s in settings if record.step.number in s.steps), None)
    if setting is None or not setting.figures:
        raise KnownError(
            say("Step {number} has no figures.", number=record.step.number), say("Name a step whose benchmarks ran.")
        )
    return tuple(
        LimitedBenchmark(b, what_limits(evidence(book.declaration, b, setting, told.answers(book.declaration, b))))
        for b in book.declaration.benchmarks
        if b.id in setting.figures
    )
