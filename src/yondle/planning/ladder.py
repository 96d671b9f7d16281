"""The check ladder: which pass comes next, from quick to hard, until something fails or all is done."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import LONG, SCORE_STAGE, Check, PassRecord, Stage, StageKind

MOST_REPEATS = 3
"""How often one attempt repeats disturbed passes before it goes on with what it has."""


@dataclass(frozen=True, slots=True)
class Settle:
    """Idle until the check's start temperature is reached."""

    channel: str
    below: float
    at_most_s: float


@dataclass(frozen=True, slots=True)
class RunPass:
    """Run one pass of a workload."""

    stage: str
    workload: str
    round: int
    warm_up: bool
    seconds: float
    number: int
    of: int


Instruction = Settle | RunPass


def ladder(check: Check, declaration: RigDeclaration) -> Generator[Instruction, PassRecord | None, None]:
    """Yield what to do; receives the record of each pass, and ends at the first one that failed."""
    total = sum(_passes(stage) for stage in check.stages)
    number = repeats = 0
    for stage in check.stages:
        for round_ in range(stage.warm_up_rounds + stage.rounds):
            if check.settle_channel:
                yield Settle(check.settle_channel, check.settle_below, check.settle_at_most_s)
            for name in stage.workloads:
                number += 1
                seconds = stage.pass_s or declaration.workload(name).pass_s
                warm_up = round_ < stage.warm_up_rounds
                order = RunPass(stage.name, name, round_, warm_up, seconds, number, total)
                record = yield order
                while record is not None and record.disturbed and repeats < MOST_REPEATS and not warm_up:
                    repeats += 1
                    record = yield order
                if record is not None and record.result is not None and not record.result.ok:
                    return


def check_seconds(check: Check, declaration: RigDeclaration) -> float:
    """Estimate how long the ladder takes when nothing fails, without the time to cool down."""
    return sum(loads_of(check, declaration).values())


def loads_of(check: Check, declaration: RigDeclaration) -> dict[str, float]:
    """Give the seconds of every workload that a check runs."""
    seconds: dict[str, float] = {}
    for stage in check.stages:
        for name in stage.workloads:
            each = (stage.pass_s or declaration.workload(name).pass_s) * (stage.rounds + stage.warm_up_rounds)
            seconds[name] = seconds.get(name, 0.0) + each
    return seconds


def quick_check(
    declaration: RigDeclaration, passes: int, setup: Setup | None = None, benchmarks: tuple[str, ...] = ()
) -> Check:
    """Make the usual ladder of a rig: rounds of all benchmarks with one warm-up, then loads from special to mixed.

    A setup that differs from stock in a subsystem with a load of its own is checked with that, too.
    """
    chosen = benchmarks or tuple(w.id for w in declaration.benchmarks if not w.by_hand)
    stages = [Stage(SCORE_STAGE, StageKind.SCORE, chosen, passes, 1)]
    touched = {declaration.knob(c.knob).subsystem for c in declaration.stock.changes_to(setup)} if setup else set()
    loads = [load for subsystem, load in declaration.loads_for.items() if subsystem in touched]
    if declaration.hard_load:
        loads.append((declaration.hard_load, declaration.hard_load_s))
    for workload, seconds in loads:
        work = declaration.workload(workload)
        name = work.id if not work.scored else f"{LONG}{work.id}"
        stages.append(Stage(name, StageKind.LOAD, (work.id,), 1, 0, seconds))
    return Check(tuple(stages), declaration.settle_channel, declaration.settle_below)


def score_check(declaration: RigDeclaration, passes: int) -> Check:
    """Make a check that is score passes with one warm-up and no more."""
    chosen = tuple(w.id for w in declaration.benchmarks if not w.by_hand)
    stage = Stage(SCORE_STAGE, StageKind.SCORE, chosen, passes, 1)
    return Check((stage,), declaration.settle_channel, declaration.settle_below)


def _passes(stage: Stage) -> int:
    return (stage.rounds + stage.warm_up_rounds) * len(stage.workloads)
