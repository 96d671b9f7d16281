"""The steps of a logbook at hand: read once, and again one by one as they change."""

from __future__ import annotations

import threading
from dataclasses import replace

from yondle.language.saying import say
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.rigs import ELSEWHERE, RigDeclaration
from yondle.model.steps import Attempt, PassRecord, Step, StepKind, StepRecord, baseline_of, may_be_put_in_force
from yondle.model.verdicts import Outcome


class Book:
    """Every step by its number, oldest first, and the latest baseline: all are asked for all the time."""

    def __init__(self, logbook: Logbook, declaration: RigDeclaration) -> None:
        """`declaration` is what the machine offers now; steps written with other knobs are brought to it."""
        self._logbook = logbook
        self._declaration = declaration
        self._reads = threading.Lock()
        read = logbook.steps()
        self._records = {record.step.number: fitted(record, declaration) for record in read}
        self._knobs_then = _knobs_of_latest(read)
        self._note()

    def reload(self, number: int) -> None:
        """Read one step anew; any thread may ask, and what is read last was read latest."""
        with self._reads:
            read = fitted(self._logbook.step(number), self._declaration)
            self._records[number] = _shared(read, self._records.get(number))
            self._note()

    def reload_attempt(self, number: int, attempt: int) -> None:
        """Read a step anew of which one attempt has changed; the passes of the others are those at hand."""
        with self._reads:
            before = self._records.get(number)
            known = {a.id: a.all_passes for a in before.attempts} if before is not None else {}
            read = fitted(self._logbook.step(number, attempt), self._declaration)
            if all(a.id in known for a in read.attempts if a.id != attempt):
                attempts = (a if a.id == attempt else a.with_passes(known[a.id]) for a in read.attempts)
                self._records[number] = _shared(replace(read, attempts=tuple(attempts)), before)
                self._note()
                return
        self.reload(number)

    def reload_pass(self, number: int, attempt: int, ordinal: int) -> None:
        """Read one pass of a step anew: a test of thousands reads each only as often as it changes."""
        with self._reads:
            read, record = self._logbook.pass_of(attempt, ordinal), self._records[number]
            attempts = tuple(_with_pass(a, read) if a.id == attempt else a for a in record.attempts)
            self._records[number] = replace(record, attempts=attempts)
            self._note()

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        try:
            return self._records[number]
        except KeyError:
            raise KnownError(
                say("There is no step {number}.", number=number), say("'yondle status' lists the steps there are.")
            ) from None

    def outcomes(self, number: int) -> tuple[Outcome, ...]:
        """Give the outcomes of a step's attempts, oldest first; none for a step that isn't there yet."""
        record = self._records.get(number)
        return tuple(record.outcomes) if record is not None else ()

    def tried_from(self, parent: int | None, setup: Setup) -> StepRecord | None:
        """Give the step that tried a setup from a place: testing it again is another attempt, not another step."""
        return next((r for r in self.steps if r.step.parent == parent and r.step.setup == setup), None)

    def proven_at(self, setup: Setup) -> int | None:
        """Give the latest step that may be put in force with a setup."""
        found = next((r for r in reversed(self.steps) if r.step.setup == setup and may_be_put_in_force(r)), None)
        return found.step.number if found is not None else None

    def step_from(self, parent: int | None, home: Setup, setup: Setup, joint: bool) -> Step:
        """Give the step that tries a setup from a place: the one that did before, or a new one."""
        again = self.tried_from(parent, setup)
        if again is not None:
            return again.step
        return Step(self._logbook.next_step(), StepKind.CHANGE, parent, setup, home.changes_to(setup), joint)

    def without_baseline(self) -> KnownError:
        """Say why no gain could be told: stock was never measured, or not well enough."""
        tried = next((r for r in reversed(self.steps) if r.step.kind is StepKind.BASELINE), None)
        if tried is None or tried.outcome is None:
            return KnownError(
                say("There is no baseline yet, so no gain could be told."), say("Run the baseline first.")
            )
        return KnownError(
            say(
                "The baseline is {verdict}, so no gain could be told. {reason}",
                verdict=tried.word,
                reason=tried.outcome.reason,
            ),
            say("See that nothing else runs and the rig has settled, then run it again."),
        )

    def came_and_went(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Name the knobs that came to the machine since the latest attempt, and those that went; none before the first."""
        here = {knob.id for knob in self._declaration.knobs}
        then = self._knobs_then if self._knobs_then is not None else here
        self._knobs_then = frozenset(here)
        return tuple(sorted(here - then)), tuple(sorted(then - here))

    @property
    def latest_attempt(self) -> Attempt | None:
        """The attempt that was made last."""
        return max((a for r in self.steps for a in r.attempts), key=lambda a: a.id, default=None)

    def _note(self) -> None:
        """Have the steps as a tuple that stays the same one until a step changes: what is worked out of them is kept by it."""
        self.steps = tuple(self._records[n] for n in sorted(self._records))
        self.baseline = baseline_of(self.steps, self._declaration.info.id == ELSEWHERE)


def _knobs_of_latest(records: list[StepRecord]) -> frozenset[str] | None:
    """Give the knobs the machine had at the latest attempt, as its step was written; None before the first."""
    latest = max(((a.id, r) for r in records for a in r.attempts), key=lambda pair: pair[0], default=None)
    return frozenset(latest[1].step.setup) if latest is not None else None


def fitted(record: StepRecord, declaration: RigDeclaration) -> StepRecord:
    """Bring a step to the knobs that are there now."""
    before = record.step.setup
    setup = declaration.fitted(before)
    if setup is before:
        return record
    unknown = tuple(knob for knob in setup if knob not in before)
    return replace(record, step=replace(record.step, setup=setup, unknown=unknown))


def _shared(read: StepRecord, before: StepRecord | None) -> StepRecord:
    """Keep the attempts that are as they were, so that memory doesn't fill with copies of them."""
    known = {a.id: a for a in before.attempts} if before is not None else {}
    return replace(read, attempts=tuple(known[a.id] if known.get(a.id) == a else a for a in read.attempts))


def _with_pass(attempt: Attempt, read: PassRecord) -> Attempt:
    before = [p for p in attempt.all_passes if p.ordinal < read.ordinal]
    after = [p for p in attempt.all_passes if p.ordinal > read.ordinal]
    return attempt.with_passes((*before, read, *after))
