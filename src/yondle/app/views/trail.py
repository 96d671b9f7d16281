"""The trail of steps: each in two lines, with its gain."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import overload

from yondle.analysis.judging import AT_ONCE_S, limit_words
from yondle.analysis.margins import Gain, GainWord, spread
from yondle.app.book import limited_at
from yondle.app.session import Session
from yondle.app.views.gains import figure_words, gain_of, gain_words, words_of_gain
from yondle.app.views.proof import LEAST_PROVEN_S
from yondle.language.saying import in_sentence, named, say
from yondle.model.findings import Finding
from yondle.model.quantities import chance, count, duration, number
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import FOR_EDGE, LONG, Step, StepKind, StepRecord, telling_of
from yondle.model.verdicts import START_FAILURES, VERDICT_OF_FAILURE, Failure, Outcome, Verdict
from yondle.model.workloads import Workload


@dataclass(frozen=True, slots=True)
class TrailRow:
    """One step as the trail shows it; `on_path` tells whether it lies between the baseline and where the rig is."""

    number: int
    title: str
    detail: str
    verdict: Verdict
    word: Verdict | Failure
    gain: Gain | None
    gain_text: str
    on_path: bool
    is_position: bool
    running: bool
    notes: int


Words = tuple[str, str, Gain | None, str]
"""Title, detail, gain and gain in words."""


class TrailRows(Sequence[TrailRow]):
    """The rows of the trail at one moment; each is worked out when it is looked at."""

    def __init__(
        self,
        records: tuple[StepRecord, ...],
        path: set[int],
        position: int | None,
        running: int | None,
        base: StepRecord | None,
        benchmark: Workload | None,
        waiting: int | None,
        words_of: Callable[[StepRecord, StepRecord | None, Workload | None], Words],
    ) -> None:
        self.numbers = [record.step.number for record in records]
        self.top_of_path = next((i for i, n in enumerate(self.numbers) if n in path), len(records))
        self._records = records
        self._path, self._position, self._running = path, position, running
        self._base, self._benchmark, self._words_of = base, benchmark, words_of
        self._waiting = waiting

    def __len__(self) -> int:
        return len(self._records)

    @overload
    def __getitem__(self, i: int) -> TrailRow: ...

    @overload
    def __getitem__(self, i: slice) -> list[TrailRow]: ...

    def __getitem__(self, i: int | slice) -> TrailRow | list[TrailRow]:
        if isinstance(i, slice):
            return [self[k] for k in range(*i.indices(len(self)))]
        record = self._records[i]
        title, detail, value, words = self._words_of(record, self._base, self._benchmark)
        n = record.step.number
        here, running = n == self._position, n == self._running
        if n == self._waiting:
            detail = say("waits for values entered by hand")
        notes = len(record.notes)
        return TrailRow(
            n, title, detail, record.verdict, record.word, value, words, n in self._path, here, running, notes
        )


class Trail:
    """The trail of a session. What a row says is kept while its step stays the same, so long trails are quick."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._kept: dict[int, tuple[StepRecord, StepRecord | None, str, tuple[Finding, ...], Words]] = {}

    def rows(self, benchmark: Workload | None, running: int | None = None) -> TrailRows:
        """Give the rows, newest first; without a benchmark they carry no gains."""
        session = self._session
        position = session.position.step.number if session.position else None
        records = tuple(reversed(session.steps))
        waiting = session.waiting.step.number if session.waiting and session.waiting.step else None
        base = session.baseline_step
        return TrailRows(records, on_path(session), position, running, base, benchmark, waiting, self._words)

    def _words(self, record: StepRecord, base: StepRecord | None, benchmark: Workload | None) -> Words:
        about = benchmark.id if benchmark is not None else ""
        kept = self._kept.get(record.step.number)
        if kept is not None and kept[0] is record and kept[1] is base and kept[2:4] == (about, self._session.findings):
            return kept[4]
        declaration = self._session.declaration
        value = gain_of(self._session, record, benchmark) if benchmark is not None else None
        detail = step_detail(self._session, record, benchmark)
        words = words_of_gain(self._session, record, benchmark) if benchmark is not None else ""
        if value is not None and value.word is GainWord.WITHIN_NOISE and words == gain_words(value):
            words, detail = figure_words(value), f"{named(value.word)} · {detail}"
        shown = (step_title(declaration, record.step), detail, value, words)
        self._kept[record.step.number] = (record, base, about, self._session.findings, shown)
        return shown


def on_path(session: Session) -> set[int]:
    """Give the numbers of the steps from the baseline to where the rig is."""
    numbers: set[int] = set()
    here = session.position
    while here is not None and here.step.number not in numbers:
        numbers.add(here.step.number)
        parent = here.step.parent
        here = session.step(parent) if parent is not None else None
    return numbers


def step_title(declaration: RigDeclaration, step: Step) -> str:
    """Write what a step changed."""
    if step.kind is StepKind.BASELINE:
        return say("Baseline · stock")
    if not step.changes:
        return say("Step {parent} again", parent=step.parent)
    first, *others = ((declaration.knob(c.knob), c.new) for c in step.changes)
    words = [f"{first[0].name} {first[0].bare(first[1])}"]
    units = [first[0].unit, *(knob.unit for knob, _ in others)]
    for knob, value in others:
        told = knob.unit and units.count(knob.unit) == 1
        words.append(knob.text(value) if told else f"{knob.name} {knob.bare(value)}")
    return say("Joint: {words}", words=" + ".join(words)) if step.joint else words[0]


def limited_by(declaration: RigDeclaration, record: StepRecord) -> str:
    """Name what limited the clocks of a step that held all the same; empty where they were held."""
    short = limited_at(declaration, record).short
    return limit_words(declaration, list(short)) if short else ""


def step_detail(session: Session, record: StepRecord, benchmark: Workload | None) -> str:
    """Write the second line of a step: how it failed, or what it came from, and what it was proved with."""
    parts = [_how_it_went(session.declaration, record, benchmark), *_tries(record)]
    held = [a for a in record.attempts if a.outcome is not None and a.outcome.verdict is Verdict.HELD]
    long = [p.result for a in held for p in a.passes if p.stage.startswith((LONG, FOR_EDGE)) and p.result is not None]
    loaded_s = sum(result.duration_s for result in long)
    if loaded_s >= LEAST_PROVEN_S:
        first = 0 if record.verdict is Verdict.HELD else len(parts)
        parts.insert(first, say("{loaded} of load held", loaded=duration(loaded_s)))
    found = next((f for f in session.findings if f.step == record.step.number), None)
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
        return failure_words(outcome)
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
    names = {work.id: in_sentence(work.name) for work in (*declaration.absent.workloads, *declaration.workloads)}
    for before in (LONG, FOR_EDGE):
        work = names.get(stage.removeprefix(before)) if stage.startswith(before) else None
        if work is not None:
            return say("long run of {work}", work=work) if before == LONG else say("{work} for the edge", work=work)
    return names.get(stage) or named(stage)


def failure_words(outcome: Outcome) -> str:
    """Write a failure in a few words, with its time or code where that tells something."""
    failure, after_s = outcome.failure, outcome.time_to_failure_s
    if failure is None:
        return named(outcome.verdict)
    if failure in START_FAILURES:
        return say("{failure}, code {code}", failure=failure, code=outcome.code) if outcome.code else named(failure)
    if failure is Failure.ERRORS_CORRECTED:
        return say("errors corrected: {what}", what=outcome.reason.rstrip(".").split(": ", 1)[-1])
    if VERDICT_OF_FAILURE[failure] in (Verdict.DOWN, Verdict.WRONG):
        if after_s is None:
            return named(failure)
        return (
            say("{failure} after {after_s}", failure=failure, after_s=duration(after_s))
            if after_s >= AT_ONCE_S
            else say("{failure} at once", failure=failure)
        )
    if failure is Failure.CLOCK_NOT_HELD:
        return say("clock not held: {what}", what=outcome.reason.split(": ", 1)[-1].split(" in ")[0])
    if failure is Failure.CEILING:
        return outcome.reason.split(";")[0]
    return named(failure)
