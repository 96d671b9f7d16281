"""One open logbook with its rig and engine: carries out commands, keeps what is at hand up to date, gives snapshots."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TypeVar

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine, goes_on
from yondle.app.session.book import Book
from yondle.app.session.commands import Command
from yondle.app.session.faults import VARIABLE, with_faults
from yondle.app.session.own import OwnSettings
from yondle.app.session.resting import RigAtRest
from yondle.app.session.stopping import StopsFromOutside
from yondle.app.session.waiting import WaitForHands
from yondle.app.system.awake import KeepsAwake
from yondle.engine.engine import Engine
from yondle.engine.ports import Hands
from yondle.engine.requests import Request
from yondle.engine.states import State
from yondle.formats.documents import Document
from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import say
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.events import (
    AttemptClosed,
    PassEnded,
    PassOpened,
    PositionMoved,
    Record,
    StateChanged,
    StepOpened,
    VerdictGiven,
)
from yondle.model.findings import Finding
from yondle.model.kept import KeptNow
from yondle.model.knobs import Change
from yondle.model.profiles import Profile
from yondle.model.proposals import Proposal
from yondle.model.rigs import RigDeclaration
from yondle.model.standing import Looked, Resumed
from yondle.model.steps import PassRecord
from yondle.rigs.elsewhere.rig import ElsewhereRig, runs_nothing
from yondle.rigs.linux.proc import Proc
from yondle.views.shared.snapshot import Snapshot

Listener = Callable[[Record], None]
T = TypeVar("T")


class Session:
    """An open logbook, used by one thread. Faces send it commands (`do`) and read snapshots; commands use its parts.

    `book` has the steps, `rests` where the rig rests, `waits` what is waited for, `own` what the tuner told, `stops` what other
    programs ask, `kept_here` what this machine keeps over restarts; `declaration` is the rig's with the tuner's
    own limits on it.
    """

    declaration: RigDeclaration
    engine: Engine
    book: Book
    own: OwnSettings
    rests: RigAtRest
    waits: WaitForHands

    def __init__(self, logbook: Logbook, machine: Machine, asks: bool = False) -> None:
        self.logbook = logbook
        self.machine = machine
        self.proposal: Proposal | None = None
        self.hands: Hands = NobodyThere() if asks else machine.hands
        self.stops = StopsFromOutside(logbook.path, RealClock().now)
        self._take_rig()
        latest = self.book.latest_attempt
        boot = Proc().boot_id() if machine.bench is not None or machine.elsewhere else machine.rig.boot_id()
        goes_on(machine.clock, boot, logbook.keeping, latest, logbook.last_time_s())
        if machine.bench is not None:
            machine.bench.patience.waits = lambda: self._tests
            machine.bench.patience.gives_up = lambda: self.engine.requests.pending() in (Request.STOP, Request.HALT)
            machine.bench.patience.tells = lambda words: self._hear(StateChanged(State.BRINGING_BACK.name, words))
        self.stops.forget()
        self.kept_here: KeptNow | None = None
        self._listeners: list[Listener] = []
        self._running = 0
        self._tests = True
        self._version = 0
        self._findings: tuple[Finding, ...] = ()
        self._profiles: tuple[Profile, ...] = ()
        self._snapshot: tuple[object, Snapshot] | None = None
        self._looked = Looked(0.0, {}, "")
        self._awake = KeepsAwake()
        if machine.virtual is None:
            self.subscribe(self._awake.take)
        self.take_own_limits()
        self.reread()
        self._resumed: list[Resumed] = []
        if machine.away:
            self.rests.stand_as_before()
            self.look()
            self._tests = False
            return
        self._resumed = self._close_what_was_open()
        self.rests.come_back(self.waits)
        self.waits.arrange_return()
        if self.rests.verified is None and not self.rests.put_back:
            self.rests.verify()
        self.look()
        self._tests = False

    def close(self) -> tuple[Change, ...]:
        """Let go of the rig and the logbook; gives what was put back thereby, as it reads before and after."""
        self._awake.let_go()
        put_back = self.machine.rig.close()
        self.logbook.close()
        return put_back

    # -- for faces -------------------------------------------------------------------------------------------------------

    def do(self, command: Command[T]) -> T:
        """Carry out a command; raises KnownError where it can't be, and then nothing has changed."""
        if command.runs:
            self.must_run_things()
        before, self._tests = self._tests, command.tests
        try:
            return command.do(self)
        finally:
            self._tests = before
            if self._away() != self._looked.away:
                self.look()

    def subscribe(self, listener: Listener) -> None:
        """Hear every record from now on, in the thread that runs the engine."""
        self._listeners.append(listener)

    @property
    def snapshot(self) -> Snapshot:
        """The logbook and its rig as they are now."""
        book, rests, virtual = self.book, self.rests, self.machine.virtual
        pace = virtual.pace if virtual is not None else None
        told = (
            self._version, self.proposal, self.waits.now, rests.verified, rests.in_force, rests.put_back, self._looked,
            self._documents, pace, self.kept_here,
        )  # fmt: skip
        if self._snapshot is None or self._snapshot[0] != told:
            at = rests.position
            made = Snapshot(
                self.logbook.path, self.declaration, book.steps, book.baseline,
                book.step(at) if at is not None else None, rests.in_force, self._profiles, self._findings, self.proposal,
                self.waits.now, rests.verified, self._version, self.logbook.reader, self._documents, self._looked,
                rests.put_back, tuple(self._resumed), self._notices(), virtual is not None, pace,
                self.kept_here,
            )  # fmt: skip
            self._snapshot = (told, made)
        return self._snapshot[1]

    # -- for commands ----------------------------------------------------------------------------------------------------

    def must_be_free(self) -> None:
        """See that the machine is there, nothing waits to be entered by hand, and what the logbook stands for is in force."""
        if self.machine.bench is not None:
            self.machine.bench.must_be_there()
        self.waits.must_be_none()
        self.rests.bring_back()

    def free_attempt(self) -> int:
        """Give the number of an attempt that no move of a plan waits for: a plan cut off before it began one still names it."""
        run = self.logbook.keeping.open_plan_run()
        named = [move.attempt for move in run.moves if move.attempt is not None] if run is not None else []
        return max((self.logbook.next_attempt(), *(attempt + 1 for attempt in named)))

    def must_run_things(self) -> None:
        """Raise KnownError for a machine elsewhere: nothing is tested there."""
        if self.machine.elsewhere:
            raise runs_nothing(self.declaration.info.name)

    @contextmanager
    def unattended(self) -> Iterator[None]:
        """Have a simulated rig's owner enter values meanwhile, whoever is asked otherwise."""
        before = self.hands
        self._use_hands(self.machine.hands)
        try:
            yield
        finally:
            self._use_hands(before)

    def keep(self, document: Document) -> None:
        """Keep a document, and have it in the snapshot."""
        self.logbook.keeping.keep(document)
        self.take_documents()

    def take_documents(self) -> None:
        """Have the documents in the snapshot as they are kept now; what was measured stays as it is, and so does the version."""
        self._documents = self.logbook.keeping.documents

    def take_own_limits(self) -> None:
        """Lay the tuner's own limits over those the rig came with."""
        self.declaration = self.own.declaration()
        self.engine.use_limits(self.declaration.limits)
        self.take_documents()
        self._version += 1

    def reload(self, number: int) -> None:
        """Read a step anew after something was written about it."""
        self.book.reload(number)
        self._version += 1

    def reread(self) -> None:
        """Read anew what is kept beside the steps and shown everywhere: what plans have found, latest first, and profiles."""
        keeping, fitted = self.logbook.keeping, self.declaration.fitted
        self._findings = tuple(found for run in keeping.plan_runs() for found in run.found or ())
        self._profiles = tuple(replace(kept, setup=fitted(kept.setup)) for kept in keeping.profiles())
        self._version += 1

    def look(self) -> Looked:
        """Look at the machine as it is now; one across the room tells its conditions anew only when it is tested."""
        rig = self.machine.rig
        asks = self.machine.bench is None or self._tests
        self._looked = Looked(
            self.machine.clock.now(), rig.facts() if asks else self._looked.facts, rig.gone_back(), self._away()
        )
        return self._looked

    def wall(self) -> str:
        """Give date and time of the rig's clock, as they are written."""
        return self.machine.clock.wall().isoformat(timespec="seconds")

    def take_elsewhere(self, knobs: Mapping[str, DescribedKnob], sensors: Sequence[str]) -> None:
        """Have these knobs and sensors of a machine elsewhere from now on, in memory; raises KnownError for another machine."""
        rig = self.machine.rig
        if not isinstance(rig, ElsewhereRig):
            raise KnownError(
                say("{rig} has the knobs it has.", rig=self.declaration.info.name),
                say("Describe your own:  yondle own add, or --by-hand"),
            )
        rig.take(self.declaration.info.name, knobs, sensors)
        self._take_rig()
        self.rests.come_back(self.waits)
        self.rests.verify()
        self.take_own_limits()
        self.reread()
        self.look()

    # -- inside ----------------------------------------------------------------------------------------------------------

    def _take_rig(self) -> None:
        """Put together what works with the rig as it is declared."""
        machine, logbook = self.machine, self.logbook
        self.declaration = machine.rig.declaration
        recorder = with_faults(logbook, os.environ.get(VARIABLE))
        self.engine = Engine(machine.rig, machine.clock, recorder, self.hands, self._hear)
        self.engine.requests.from_outside = self.stops.look
        self.book = Book(logbook, machine.rig.declaration)
        self.own = OwnSettings(logbook.keeping, machine.rig.declaration)
        self.rests = RigAtRest(logbook, machine, self.engine, self.book)
        self.waits = WaitForHands(logbook, machine, self.book, lambda: isinstance(self.hands, NobodyThere))

    def _use_hands(self, hands: Hands) -> None:
        self.hands = hands
        self.engine.use_hands(hands)

    def _notices(self) -> tuple[str, ...]:
        unguarded = (
            say("Your limit on {sensor} guards nothing: that sensor isn't there.", sensor=name)
            for name in self.own.guard_nothing
        )
        return (*self.rests.left_alone, *unguarded)

    def _away(self) -> str:
        bench = self.machine.bench
        return bench.away_words if bench is not None and bench.away else ""

    def _close_what_was_open(self) -> list[Resumed]:
        found = []
        for open_ in self.logbook.unclosed():
            if open_.attempt.outcome is None and self.waits.take_up(open_):
                self._running = open_.step.number
                self.engine.wait_for()
                continue
            found.append(self.rests.close(open_, self.declaration))
        return found

    def _reload_attempt(self, number: int, attempt: int) -> None:
        self.book.reload_attempt(number, attempt)
        self._version += 1

    def _hear(self, record: Record) -> None:
        match record:
            case StepOpened():
                self._reload_attempt(record.step.number, record.attempt)
                self._running = record.step.number
            case (
                PassOpened(attempt=attempt, ordinal=ordinal)
                | PassEnded(attempt=attempt, record=PassRecord(ordinal=ordinal))
            ):
                self.book.reload_pass(self._running, attempt, ordinal)
                self._version += 1
            case VerdictGiven():
                self._reload_attempt(record.step, record.attempt)
            case AttemptClosed():
                self._rest(record)
                self._reload_attempt(record.step, record.attempt)
                self.look()
            case PositionMoved():
                self._rest(record)
                self.look()
            case _:
                pass
        self.waits.hear(record, self._running)
        for listener in self._listeners:
            listener(record)

    def _rest(self, record: AttemptClosed | PositionMoved) -> None:
        self.rests.rest(record.position, record.rests_at, record.verified)
        self._version += 1
