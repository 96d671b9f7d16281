"""Steps in words: what one changed, how it went, and what it was proved with."""

from __future__ import annotations

import math

from yondle.analysis.judging import AT_ONCE_S, counted_words, limit_words, limited_at
from yondle.analysis.margins import spread
from yondle.language.saying import in_sentence, named, say
from yondle.model.knobs import Change, Setup
from yondle.model.quantities import chance, count, duration, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import FOR_EDGE, LONG, Attempt, Step, StepKind, StepRecord, telling_of
from yondle.model.verdicts import START_FAILURES, VERDICT_OF_FAILURE, Failure, Outcome, Verdict
from yondle.model.workloads import Workload
from yondle.views.shared.proof import LEAST_PROVEN_S
from yondle.views.shared.snapshot import Snapshot


def on_path(book: Snapshot) -> set[int]:
    """Give the numbers of the steps from the baseline to where the rig is."""
    numbers: set[int] = set()
    here = book.position
    while here is not None and here.step.number not in numbers:
        numbers.add(here.step.number)
        parent = here.step.parent
        here = book.step(parent) if parent is not None else None
    return numbers


def step_title(declaration: RigDeclaration, step: Step) -> str:
    """Write what a step changed."""
    if step.kind is StepKind.BASELINE:
        return say("Baseline · stock")
    if not step.changes:
        return say("Step {parent} again", parent=step.parent)
    if not step.joint and len(step.changes) == 1:
        return " ".join(title_parts(declaration, step))
    first, *others = ((declaration.knob(c.knob), c.new) for c in step.changes)
    words = [f"{first[0].name} {first[0].bare(first[1])}"]
    units = [first[0].unit, *(knob.unit for knob, _ in others)]
    for knob, value in others:
        told = knob.unit and units.count(knob.unit) == 1
        words.append(knob.text(value) if told else f"{knob.name} {knob.bare(value)}")
    return say("Joint: {words}", words=" + ".join(words)) if step.joint else words[0]


def title_parts(declaration: RigDeclaration, step: Step) -> tuple[str, str]:
    """Give what a step's title may be cut in, and its value, which never is; the value is empty where there is none alone."""
    if step.kind is StepKind.CHANGE and len(step.changes) == 1 and not step.joint:
        knob, change = declaration.knob(step.changes[0].knob), step.changes[0]
        return knob.name, knob.bare(change.new)
    return step_title(declaration, step), ""


def word_of(told: StepRecord | Attempt) -> str:
    """Give the word beside a mark; what is only recorded and neither held nor failed wasn't checked."""
    if isinstance(told, StepRecord):
        return say("not checked") if told.recorded and told.verdict is Verdict.UNPROVEN else named(told.word)
    if told.outcome is None:
        return ""
    return (
        say("not checked")
        if told.recorded and told.outcome.failure is None and told.outcome.verdict is Verdict.UNPROVEN
        else named(told.outcome.word)
    )


def limited_by(declaration: RigDeclaration, record: StepRecord) -> str:
    """Name what limited the clocks of a step that held all the same; empty where they were held."""
    short = limited_at(declaration, record).short
    return limit_words(declaration, list(short)) if short else ""


def step_detail(book: Snapshot, record: StepRecord, benchmark: Workload | None) -> str:
    """Write the second line of a step: how it failed, or what it came from, and what it was proved with."""
    parts = [_how_it_went(book.declaration, record, benchmark), *_tries(record)]
    if record.recorded:
        parts.insert(0, say("recorded") if record.verdict is not Verdict.UNPROVEN else say("recorded, not checked"))
    held = [a for a in record.attempts if a.outcome is not None and a.outcome.verdict is Verdict.HELD]
    long = [p.result for a in held for p in a.passes if p.stage.startswith((LONG, FOR_EDGE)) and p.result is not None]
    loaded_s = sum(result.duration_s for result in long)
    if loaded_s >= LEAST_PROVEN_S:
        first = 0 if record.verdict is Verdict.HELD else len(parts)
        parts.insert(first, say("{loaded} of load held", loaded=duration(loaded_s)))
    found = next((f for f in book.findings if f.step == record.step.number), None)
    if found is not None and record.verdict is Verdict.HELD:
        parts.insert(0, say("recommended, {sure}", sure=chance(found.sure_there)))
    return " · ".join(part for part in parts if part)


def _tries(record: StepRecord) -> list[str]:
    """Say how often a step held that was tested several times with different ends."""
    told = telling_of(record.outcomes)
    held = sum(o.verdict is Verdict.HELD for o in told)
    return [say("held {held} of {n}", held=held, n=len(told))] if 0 < held < len(told) else []


def _how_it_went(declaration: RigDeclaration, record: StepRecord, benchmark: Workload | None) -> str:
    outcome = record.deciding
    if outcome is not None and outcome.failure is not None:
        return failure_words(declaration, outcome)
    limited = limited_by(declaration, record) if record.verdict is Verdict.HELD else ""
    if limited:
        return say("limited by {limits}", limits=limited)
    if record.step.kind is StepKind.BASELINE:
        spread_now = spread(record.scores(benchmark.id)) if benchmark is not None else None
        if spread_now is None or math.isnan(spread_now.variation):
            return say("stock settings")
        return say(
            "{passes}, spread {variation}\u202f%",
            passes=count(spread_now.n, "pass", "passes"),
            variation=number(100 * spread_now.variation, 1),
        )
    was = ", ".join(declaration.knob(c.knob).text(c.old) for c in record.step.changes)
    return say("was {was}", was=was) if was else say("the same settings, measured again")


def stage_words(declaration: RigDeclaration, stage: str) -> str:
    """Write the stage of a check, which the record keeps by the id of its load; older records keep it in words."""
    loads = (*declaration.workloads, *declaration.absent.workloads)
    before = next((each for each in (LONG, FOR_EDGE) if stage.startswith(each)), "")
    load = next((each for each in loads if each.id == stage.removeprefix(before)), None)
    if load is None:
        return named(stage)
    work = in_sentence(load.name)
    if not before:
        return work
    return say("long run of {work}", work=work) if before == LONG else say("{work} for the edge", work=work)


def failure_words(declaration: RigDeclaration, outcome: Outcome) -> str:
    """Write a failure in a few words, with its time, code or figures where those tell something.

    Verdicts written before figures were kept with them have their failure's name alone.
    """
    failure, after_s, told = outcome.failure, outcome.time_to_failure_s, _seen_words(declaration, outcome)
    if failure is None:
        return named(outcome.verdict)
    if told:
        return told
    if failure in START_FAILURES:
        return say("{failure}, code {code}", failure=failure, code=outcome.code) if outcome.code else named(failure)
    timed = VERDICT_OF_FAILURE[failure] in (Verdict.DOWN, Verdict.WRONG) and after_s is not None
    if not timed or after_s is None:
        return named(failure)
    return (
        say("{failure} after {after_s}", failure=failure, after_s=duration(after_s))
        if after_s >= AT_ONCE_S
        else say("{failure} at once", failure=failure)
    )


def _seen_words(declaration: RigDeclaration, outcome: Outcome) -> str:
    """Write what showed a failure; nothing where that wasn't kept, or its sensor isn't known any more."""
    channels, seen = {c.id: c for c in declaration.read_ever}, outcome.seen
    if outcome.failure is Failure.ERRORS_CORRECTED:
        counted = {channels[name]: float(n) for name, n in seen.items() if name in channels}
        return say("errors corrected: {what}", what=counted_words(counted)) if counted else ""
    channel = channels.get(str(seen.get("channel", "")))
    if channel is None:
        return ""
    if "held" in seen:
        held, asked = number(float(seen["held"]), channel.digits), float(seen["asked"])
        told = say("{held} of {asked}", held=held, asked=quantity(asked, channel.unit, channel.digits))
        return say("clock not held: {what}", what=told)
    if "times" in seen:
        times = count(round(float(seen["times"])), "time")
        return say("clock not held: {what}", what=f"{in_sentence(channel.name)} {times}")
    reading = quantity(float(seen["reading"]), channel.unit, channel.digits)
    return say("{channel} reached {reached}", channel=channel.name, reached=reading)


def changes_words(declaration: RigDeclaration, before: Setup, after: Setup) -> str:
    """Say what a setup changes from another, or that it is the same."""
    changes = before.changes_to(after)
    told = (f"{declaration.knob(c.knob).name} {declaration.knob(c.knob).text(c.new)}" for c in changes)
    return ", ".join(told) if changes else say("The settings there are")


def put_back_words(declaration: RigDeclaration, changes: tuple[Change, ...]) -> str:
    """Say what was put back as Yondle ended, and why it is so."""
    knobs = declaration.knobs
    told = (
        say("{knob} to {value}", knob=k.name, value=k.text(c.new)) for c in changes for k in knobs if k.id == c.knob
    )
    return say(
        "Put back when Yondle ended: {values}. On this machine settings last only while Yondle runs; they are set again in the "
        "window and for the next test.",
        values=", ".join(told),
    )
