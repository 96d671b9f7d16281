"""Turns what happened in an attempt into its verdict, with a reason in words."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.knobs import Setup
from yondle.model.quantities import count, duration, number
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.steps import SCORE_STAGE, PassRecord
from yondle.model.verdicts import VERDICT_OF_FAILURE, Failure, Outcome, Verdict

CLOCK_HELD_SHARE = 0.995
"""A clock counts as held when its mean under load is at least this share of what was asked: sensors err by less."""

DISTURBED_USE_PERCENT = 5.0
"""Work of other programs above this share of the machine makes a pass a disturbed one."""


@dataclass(frozen=True, slots=True)
class ClockShortfall:
    """A clock below what was asked: asked value, lowest mean of a pass, and the share of that pass each limit was reached."""

    channel: str
    knob: str
    asked: float
    mean: float
    workload: str
    limits: tuple[tuple[str, float], ...]


def failed(failure: Failure, reason: str, stage: str = "", after_s: float | None = None, code: str = "") -> Outcome:
    """Make the outcome of a failure; its verdict follows from the failure."""
    return Outcome(VERDICT_OF_FAILURE[failure], reason, failure, stage, after_s, code)


def pass_failed(declaration: RigDeclaration, record: PassRecord) -> Outcome:
    """Judge an attempt by the pass that failed in it."""
    result = record.result
    if result is None:
        raise ValueError("the pass has no result yet")
    name = declaration.workload(record.workload).name
    failure = Failure(result.failure)
    detail = f": {result.detail}" if result.detail else ""
    when = f"after {duration(result.duration_s)}" if result.duration_s >= 0.5 else "in the first moment"
    reason = f"{failure.value.capitalize()} {when} of {name}{detail}."
    return failed(failure, reason, record.stage, result.duration_s)


def shortfalls(declaration: RigDeclaration, setup: Setup, passes: list[PassRecord]) -> list[ClockShortfall]:
    """List the clocks that weren't held over the passes of an attempt."""
    found = []
    flags = [c for c in declaration.channels if c.quantity is Quantity.FLAG]
    for channel in declaration.channels:
        if not channel.follows or channel.follows not in setup:
            continue
        asked = setup[channel.follows]
        means = [(_fact(p, f"mean {channel.id}"), p) for p in passes]
        lowest, worst = min(((m, p) for m, p in means if m is not None), default=(None, None), key=lambda pair: pair[0])
        if lowest is None or worst is None or lowest >= asked * CLOCK_HELD_SHARE:
            continue
        shares = ((flag.name, _fact(worst, f"mean {flag.id}")) for flag in flags)
        limits = tuple((name, share) for name, share in shares if share)
        found.append(ClockShortfall(channel.id, channel.follows, asked, lowest, worst.workload, limits))
    return found


def judge(declaration: RigDeclaration, setup: Setup, passes: list[PassRecord]) -> Outcome:
    """Judge an attempt whose whole check ladder was run without a failure."""
    for record in passes:
        for knob_id, asked in setup.items():
            measured = _fact(record, f"measured {knob_id}")
            if measured is not None and measured != asked:
                knob, load = declaration.knob(knob_id), declaration.workload(record.workload).name
                reason = f"{knob.name} {knob.text(asked)} was asked, {knob.text(measured)} was measured in {load}."
                return failed(Failure.NOT_IN_FORCE, reason, record.stage)
    short = shortfalls(declaration, setup, passes)
    if short:
        worst = min(short, key=lambda s: s.mean / s.asked)
        knob = declaration.knob(worst.knob)
        why = ", ".join(f"{name.lower()} in {number(100 * share)} % of the time" for name, share in worst.limits)
        load = declaration.workload(worst.workload).name
        reason = f"{knob.name} not held: {knob.bare(worst.mean)} of {knob.text(worst.asked)} in {load}"
        return failed(Failure.CLOCK_NOT_HELD, f"{reason}{'; ' + why if why else ''}.")
    return Outcome(Verdict.HELD, f"Held: {what_was_run(declaration, passes)}.")


def what_was_run(declaration: RigDeclaration, passes: list[PassRecord]) -> str:
    """Say what an attempt ran: 'Stable' is always stable for which load and how long."""
    scored = [p for p in passes if p.counts]
    benchmarks = {p.workload for p in scored}
    parts = []
    if scored:
        parts.append(f"{count(len(scored), 'score pass', 'score passes')} of {count(len(benchmarks), 'benchmark')}")
    loads = [p for p in passes if p.stage != SCORE_STAGE and p.result and p.result.ok]
    parts += [f"{duration(p.result.duration_s)} of {declaration.workload(p.workload).name}" for p in loads if p.result]
    return ", ".join(parts) or "nothing was run"


def _fact(record: PassRecord, name: str) -> float | None:
    value = record.result.facts.get(name) if record.result is not None else None
    return float(value) if value is not None else None
