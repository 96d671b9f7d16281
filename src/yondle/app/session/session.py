"""One open logbook with its rig and engine, and every operation on them; each returns what came of it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from yondle.analysis.judging import UNLIMITED, limited_at
from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import THIS, Machine, RigChoice, goes_on, make_machine, with_absent
from yondle.app.session.book import Book
from yondle.app.session.faults import VARIABLE, kill_self, with_faults
from yondle.app.session.kept_declaration import absent_from, keep_declaration
from yondle.app.session.own import OwnSettings
from yondle.app.session.resting import RigAtRest
from yondle.app.session.stopping import StopsFromOutside
from yondle.app.session.waiting import WaitForHands
from yondle.app.system.awake import KeepsAwake
from yondle.engine.engine import Engine, Order
from yondle.engine.ports import Hands
from yondle.engine.requests import Request
from yondle.engine.states import State
from yondle.language.saying import later, say
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.events import (
    AttemptClosed,
    PassEnded,
    PassOpened,
    PositionMoved,
    Record,
    StepOpened,
    VerdictGiven,
)
from yondle.model.findings import Finding
from yondle.model.knobs import Change, Setup
from yondle.model.profiles import Profile
from yondle.model.proposals import Proposal, must_be_allowed, proposed_with
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.standing import Resumed, Verified, Waiting
from yondle.model.steps import (
    ASKED_BECAUSE,
    AddedResult,
    Check,
    PassRecord,
    StartAnswer,
    Step,
    StepKind,
    StepRecord,
    may_be_put_in_force,
)
from yondle.model.workloads import Workload
from yondle.planning.ladder import quick_check
from yondle.views.shared.snapshot import STEP_PASSES, Snapshot

BASELINE_PASSES = 5

Listener = Callable[[Record], None]


class Session:
    """The operations of Yondle on one logbook. Tests run in the calling thread; requests may come from any thread."""

    def __init__(self, logbook: Logbook, machine: Machine, asks: bool = False) -> None:
        self.logbook = logbook
        self.machine = machine
        self.declaration: RigDeclaration = machine.rig.declaration
        self._listeners: list[Listener] = []
        recorder = with_faults(logbook, os.environ.get(VARIABLE))
        self._hands: Hands = NobodyThere() if asks else machine.hands
        self._engine = Engine(machine.rig, machine.clock, recorder, self._hands, self._hear)
        self._book = Book(logbook, machine.rig.declaration)
        goes_on(machine.clock, machine.rig.boot_id(), logbook.keeping, self._book.latest_attempt, logbook.last_time_s())
        self._stops = StopsFromOutside(logbook.path, RealClock().now)
        self._stops.forget()
        self._engine.requests.from_outside = self._stops.look
        self.own = OwnSettings(logbook.keeping, machine.rig.declaration)
        self._resting = RigAtRest(logbook, machine, self._engine, self._book)
        self._running = 0
        self.version = 0
        self.findings: tuple[Finding, ...] = ()
        self._profiles: tuple[Profile, ...] = ()
        self._snapshot: tuple[object, Snapshot] | None = None
        self._awake = KeepsAwake()
        if machine.virtual is None:
            self.subscribe(self._awake.take)
        self.proposal: Proposal | None = None
        self._waits = WaitForHands(logbook, machine, self._book, lambda: isinstance(self._hands, NobodyThere))
        self._take_own_limits()
        self.reread()
        self.resumed = self._close_what_was_open()
        self._resting.come_back(self._waits)
        self._waits.arrange_return()
        if self.verified is None and not self.put_back:
            self.verify()

    # -- opening and closing -------------------------------------------------------------------------------------------

    @classmethod
    def create(
        cls, path: Path, choice: RigChoice, pace: float | None = None, together: bool = False, asks: bool = False
    ) -> Session:
        """Make a new logbook for a rig and open it."""
        Logbook.create(path, choice.kind, choice.name, choice.definition).close()
        machine_file(path).unlink(missing_ok=True)
        return cls.open(path, pace, together, asks)

    @classmethod
    def open(cls, path: Path, pace: float | None = None, together: bool = False, asks: bool = False) -> Session:
        """Open a logbook, name what was left open in it, and bring the rig to the last setup that held.

        With `together` a simulated machine that goes down takes the program down with it, as the real one does. With
        `asks` the tuner enters values in firmware setup even there; else a simulated rig's owner does.
        """
        logbook = Logbook(path)
        try:
            choice = RigChoice(*logbook.rig())
            goes_down = kill_self if together else None
            if choice.kind == THIS:
                from yondle.app.machine.this_machine import keep_stock, setup_of

                machine = make_machine(choice, None, None, this=setup_of(logbook.keeping))
                machine = with_absent(machine, absent_from(logbook.keeping, path, machine.rig.declaration))
                keep_stock(logbook.keeping, machine.rig.declaration)
                keep_declaration(logbook.keeping, machine.rig.declaration)
            else:
                machine = make_machine(choice, machine_file(path), pace, logbook.last_time_s(), goes_down)
            return cls(logbook, machine, asks)
        except BaseException:
            logbook.close()
            raise

    def close(self) -> tuple[Change, ...]:
        """Let go of the rig and the logbook; gives what was put back thereby, as it reads before and after."""
        self._awake.let_go()
        put_back = self.machine.rig.close()
        self.logbook.close()
        return put_back

    def bring_back(self) -> None:
        """Put the settings the logbook stands for in force again, where they were put back when Yondle last ended.

        On a machine where settings last only while Yondle runs, opening a logbook sets nothing by itself: whoever only looks
        changes nothing. Whatever acts on the settings in force calls this first.
        """
        self._resting.bring_back()

    def subscribe(self, listener: Listener) -> None:
        """Hear every record from now on, in the thread that runs the engine."""
        self._listeners.append(listener)

    # -- what there is -------------------------------------------------------------------------------------------------

    @property
    def steps(self) -> list[StepRecord]:
        """Every step, oldest first."""
        return self._book.steps

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        return self._book.step(number)

    def same_settings(self, setup: Setup) -> list[StepRecord]:
        """Give the steps with exactly these settings, oldest first."""
        return [r for r in self.steps if r.step.setup == setup]

    @property
    def position(self) -> StepRecord | None:
        """The step whose setup is in force."""
        at = self._resting.position
        return self._book.step(at) if at is not None else None

    @property
    def in_force(self) -> Setup:
        """The settings in force."""
        return self._resting.in_force

    @property
    def verified(self) -> Verified | None:
        """When the settings in force were last read back, and how many were as they should be."""
        return self._resting.verified

    @property
    def notices(self) -> tuple[str, ...]:
        """What the tuner has to know of this machine as it was found: settings left alone, limits that guard nothing."""
        unguarded = tuple(
            say("Your limit on {sensor} guards nothing: that sensor isn't there.", sensor=name)
            for name in self.own.guard_nothing
        )
        return (*self._resting.left_alone, *unguarded)

    @property
    def put_back(self) -> tuple[Change, ...]:
        """What was put back when Yondle last ended: the value that stood, and the one in force until `bring_back`."""
        return self._resting.put_back

    @property
    def gone_back(self) -> str:
        """Why the settings in force may have gone back by themselves since they were last read; empty where they can't have."""
        return self.machine.rig.gone_back()

    @property
    def baseline_step(self) -> StepRecord | None:
        """The latest baseline that ran through."""
        return self._book.baseline

    @property
    def waiting(self) -> Waiting | None:
        """What has to be entered by hand before anything else can be done."""
        return self._waits.now

    @property
    def state(self) -> State:
        """What the engine is doing."""
        return self._engine.state

    @property
    def proposed(self) -> Setup:
        """The setup in force with the proposal on top."""
        changes = self.proposal.changes if self.proposal else ()
        return self.in_force.with_values({c.knob: c.new for c in changes})

    # -- operations ----------------------------------------------------------------------------------------------------

    def propose(self, knob_id: str, value: float, joint: bool = False) -> Proposal | None:
        """Propose a value for one knob; the value in force takes it out of the proposal again.

        A second knob needs `joint`. Raises KnownError for a value the knob doesn't take or outside the tuner's own range.
        """
        self._must_be_free()
        self.proposal = proposed_with(self.declaration, self.proposal, self.in_force, knob_id, value, joint)
        return self.proposal

    def drop_proposal(self) -> None:
        """Drop the proposal."""
        self.proposal = None

    def check(self, passes: int | None = None) -> Check:
        """Give the check ladder that a test of the proposal would run."""
        return quick_check(self.declaration, _checked_passes(passes or STEP_PASSES), self.proposed)

    def baseline(self, passes: int | None = None, knowingly: tuple[str, ...] = ()) -> StepRecord:
        """Measure stock: passes of every benchmark, then the hard load.

        `knowingly` lists what was not ready and gone on with all the same; it is kept with the attempt.
        """
        check = quick_check(self.declaration, _checked_passes(passes or BASELINE_PASSES))
        stock = self.declaration.stock
        self._must_be_free()
        self.proposal = None
        step = Step(self.logbook.next_step(), StepKind.BASELINE, self._resting.position, stock)
        home = self.in_force if self._resting.position is not None else stock
        said = ((later("not ready, started anyway"), "; ".join(knowingly)),) if knowingly else ()
        return self._test(step, check, home, said=said)

    def test(self, passes: int | None = None) -> StepRecord:
        """Test what is proposed as one step from where the rig is; raises KnownError with nothing proposed."""
        self._must_be_free()
        if self.baseline_step is None:
            raise self._book.without_baseline()
        if self.proposal is None:
            raise KnownError(say("Nothing is proposed."), say("Move a marker on a ruler, or name a knob and a value."))
        step = self._book.step_from(self._resting.position, self.in_force, self.proposed, self.proposal.joint)
        record = self._test(step, self.check(passes), self.in_force)
        self.proposal = None
        return record

    def try_from(self, origin: int, values: dict[str, float], check: Check | None, why: str = "") -> StepRecord:
        """Test values on top of an earlier step's, wherever the rig is now; should they not hold it goes to that step.

        A load alone on no other values is another test of that step itself: what it proves, or how it fails, belongs to it.
        `why` is kept with the attempt. Raises KnownError for a step that didn't hold and values that aren't allowed.
        """
        self._must_be_free()
        self.proposal = None
        home = self.step(origin)
        if not may_be_put_in_force(home):
            raise KnownError(
                say("Step {origin} is '{verdict}', so nothing starts from it.", origin=origin, verdict=home.word),
                say("Start from one that held."),
            )
        self._resting.must_be_offered(home.step.setup)
        for knob_id, value in values.items():
            must_be_allowed(self.declaration, self.declaration.settable(knob_id), value)
        said = ((ASKED_BECAUSE, why),) if why else ()
        if not values and check is not None and not check.scores and home.step.parent is not None:
            return self._test(home.step, check, self.step(home.step.parent).step.setup, home.step.parent, said)
        setup = home.step.setup.with_values(values)
        step = self._book.step_from(origin, home.step.setup, setup, len(home.step.setup.changes_to(setup)) > 1)
        asked = check or quick_check(self.declaration, STEP_PASSES, setup)
        return self._test(step, asked, home.step.setup, origin, said)

    def test_again(self, number: int, passes: int | None = None) -> StepRecord:
        """Test a step once more, to be sure, from where it was tested before; raises KnownError where it can't be."""
        self._must_be_free()
        record = self.step(number)
        if record.step.kind is StepKind.BASELINE:
            return self.baseline(passes)
        if not self.can_test_again(number):
            raise KnownError(
                say(
                    "Step {number} was tested from step {parent}, and the rig is elsewhere.",
                    number=number,
                    parent=record.step.parent,
                ),
                say("Go back to step {parent} first, then test it once more.", parent=record.step.parent),
            )
        self._resting.must_be_offered(record.step.setup)
        for change in record.step.changes:
            must_be_allowed(self.declaration, self.declaration.settable(change.knob), change.new)
        self.proposal = None
        check = quick_check(self.declaration, _checked_passes(passes or STEP_PASSES), record.step.setup)
        home = self.step(record.step.parent).step.setup if record.step.parent is not None else self.declaration.stock
        return self._test(record.step, check, home, record.step.parent)

    def go_on_waiting(self, answer: StartAnswer | None = None) -> StepRecord | None:
        """Go on with what waits for hands; gives the step tested, or None when the rig was only brought back.

        Where the machine itself knows how it started no answer is needed, nor where nothing takes a restart: going on says that
        it is set. Raises KnownError when nothing waits, and where the machine has to restart and hasn't.
        """
        waiting, virtual = self.waiting, self.machine.virtual is not None
        if waiting is None:
            raise KnownError(say("Nothing waits to be set by hand."), say("Propose a step, or go back to one."))
        done = waiting.restarted or (not waiting.restarts and isinstance(self._hands, NobodyThere) and not virtual)
        if not virtual and not done:
            raise KnownError(
                say("The machine hasn't restarted since the values were to be entered."),
                say("Restart it, enter them in firmware setup, and open this logbook again."),
            )
        with self.unattended():
            if waiting.step is None or self._waits.order is None:
                self._bring_back_by_hand(waiting, answer, done)
                return None
            told = (
                (answer or self.machine.last_start())
                if waiting.restarted
                else answer or StartAnswer()
                if done
                else None
            )
            self._waits.now = None
            self._engine.go_on(self._waits.order, told, waiting.restarts)
            return self._book.step(waiting.step.number)

    @contextmanager
    def unattended(self) -> Iterator[None]:
        """Have a simulated rig's owner enter values meanwhile, whoever is asked otherwise."""
        before = self._hands
        self._use_hands(self.machine.hands)
        try:
            yield
        finally:
            self._use_hands(before)

    def drop_waiting(self) -> StepRecord | None:
        """Give up the step that waits for its values to be entered; gives the step, None when nothing on trial waits.

        Where the machine has restarted since, they may be in force: then they are put back like those of any other step.
        """
        waiting, order = self.waiting, self._waits.order
        if waiting is None or waiting.step is None or order is None:
            return None
        if waiting.restarted:
            self._engine.believe(waiting.setup)
        self._waits.now = None
        self._engine.drop(order)
        return self._book.step(waiting.step.number)

    def go_back(self, number: int) -> StepRecord:
        """Put the settings of an earlier step that held in force again."""
        record = self.step(number)
        if not may_be_put_in_force(record):
            raise KnownError(
                say(
                    "Step {number} is '{verdict}', so it isn't put in force by itself.",
                    number=number,
                    verdict=record.word,
                ),
                say("Go back to a step that held, or propose its values again as a step."),
            )
        self._must_be_free()
        self._resting.must_be_offered(record.step.setup)
        self.proposal = None
        self._engine.rest_at(record.step.setup, number)
        return self.step(number)

    def _must_be_free(self) -> None:
        """See that nothing waits to be entered by hand, and that what the logbook stands for is in force."""
        self._waits.must_be_none()
        self._resting.bring_back()

    def must_be_offered(self, setup: Setup) -> None:
        """Raise KnownError for a setup with values that can't be set on this machine now."""
        self._resting.must_be_offered(setup)

    def can_test_again(self, number: int) -> bool:
        """Tell whether a step may be tested once more from where the rig is."""
        step = self.step(number).step
        at_hand = step.kind is StepKind.CHANGE and self._resting.position in (step.parent, number)
        return at_hand and not self.declaration.not_offered(step.setup)

    def can_go_back(self, number: int) -> bool:
        """Tell whether a step's settings may be put in force again, and aren't already."""
        record = self.step(number)
        may = number != self._resting.position and may_be_put_in_force(record)
        return may and not self.declaration.not_offered(record.step.setup)

    def go_to_stock(self) -> bool:
        """Put every knob at stock in one action; tells whether that reads back. Steps and profiles stay as they are.

        A step that waits for its values to be entered is dropped over it.
        """
        self.drop_waiting()
        self.proposal = None
        baseline = self.baseline_step
        return self._engine.rest_at(self.declaration.stock, baseline.step.number if baseline else None)

    @property
    def conditions(self) -> dict[str, str | float]:
        """The conditions as they are now: what the rig finds out, and what the tuner told."""
        return {**self.machine.rig.facts(), **self.own.conditions}

    @property
    def not_told(self) -> tuple[str, ...]:
        """The conditions the rig can't find out and the tuner hasn't told yet."""
        known = self.conditions
        return tuple(name for name in self.declaration.asks if name not in known)

    def set_own_range(self, knob_id: str, low: float | None, high: float | None) -> None:
        """Set the lowest and highest value of a knob that this tuner stands for; None is the end of its range.

        Raises KnownError when that would leave out the value in force.
        """
        knob = self.declaration.settable(knob_id)
        least, most = self.own.set_range(knob, low, high, self.in_force.get(knob.id, knob.stock))
        self._take_own_limits()
        proposed = self.proposal.value(knob.id) if self.proposal else None
        if proposed is not None and not least <= proposed <= most:
            self.proposal = None

    def set_limit(self, channel_id: str, most: float | None) -> None:
        """Set the reading of a sensor above which a test is stopped; None takes the ceiling away."""
        self.own.set_limit(channel_id, most)
        self._take_own_limits()

    def choose_benchmarks(self, benchmarks: tuple[str, ...]) -> None:
        """Run these benchmarks from now on."""
        self.own.choose(benchmarks)
        self._take_own_limits()

    def add_result(
        self,
        number: int,
        workload: Workload,
        score: float,
        facts: dict[str, str | float],
        frame_times_ms: tuple[float, ...] = (),
    ) -> AddedResult:
        """Keep a figure that was measured elsewhere at a step's settings; see session/results.py."""
        self.step(number)
        at = self.machine.clock.wall().isoformat(timespec="seconds")
        self.logbook.add_result(number, workload.id, at, score, facts, frame_times_ms)
        self._take_own_limits()
        self.reload(number)
        return self._book.step(number).added[-1]

    def verify(self) -> Verified:
        """Read the settings back and count those that are as they should be."""
        return self._resting.verify()

    def stop(self) -> None:
        """End the running test now and go back to the setup before it."""
        self._engine.requests.ask(Request.STOP)

    def pause(self) -> None:
        """Wait before the next pass with the load off; the setting stays."""
        self._engine.requests.ask(Request.PAUSE)

    @property
    def pause_asked(self) -> bool:
        """Tell whether a pause is asked for: it begins before the next pass, and lasts until the tuner goes on."""
        return self._engine.requests.pending() is Request.PAUSE

    def go_on(self) -> None:
        """End a pause."""
        self._engine.requests.go_on()

    def emergency_stop(self) -> None:
        """End the running test and go to stock at once."""
        self._engine.requests.ask(Request.HALT)

    def forget_requests(self) -> None:
        """Begin anew: what was asked of earlier tests is over. To be called before tests are ordered, not between them."""
        self._stops.forget()
        self._engine.requests.clear()

    def heed_request(self) -> bool:
        """Between two tests of one order: tell whether a stop was asked for since the latest test ended.

        It is done by that: nothing more is to be tested, and an emergency stop has put the rig at stock.
        """
        asked = self._engine.requests.pending()
        if asked not in (Request.STOP, Request.HALT):
            return False
        self._engine.requests.clear()
        if asked is Request.HALT:
            self.go_to_stock()
        return True

    # -- inside ----------------------------------------------------------------------------------------------------------

    def _test(
        self,
        step: Step,
        check: Check,
        home: Setup,
        home_step: int | None = None,
        said: tuple[tuple[str, str], ...] = (),
    ) -> StepRecord:
        at = home_step if home_step is not None else self._resting.position
        own = {**self.own.conditions, **dict(said)}
        set_back = self._set_back_s()
        if set_back > 0:
            own["clock"] = say("set back by {set_back} since the test before", set_back=duration(set_back))
        order = Order(
            self.logbook.next_attempt(),
            step,
            check,
            home,
            at,
            self._book.outcomes(step.number),
            tuple(own.items()),
            limited_at(self.declaration, self._book.step(at)) if at is not None else UNLIMITED,
        )
        self._waits.order = order
        self._engine.test(order)
        return self._book.step(step.number)

    def _set_back_s(self) -> float:
        """By how much the wall clock stands before the latest test; order and durations never come from it."""
        latest = self._book.latest_attempt
        if latest is None:
            return 0.0
        return (datetime.fromisoformat(latest.started_at) - self.machine.clock.wall()).total_seconds()

    def _use_hands(self, hands: Hands) -> None:
        self._hands = hands
        self._engine.use_hands(hands)

    def _take_own_limits(self) -> None:
        """Lay the tuner's own limits over those the rig came with."""
        self.declaration = self.own.declaration()
        self._engine.use_limits(self.declaration.limits)
        self.version += 1

    def _close_what_was_open(self) -> list[Resumed]:
        found = []
        for open_ in self.logbook.unclosed():
            if open_.attempt.outcome is None and self._waits.take_up(open_):
                self._running = open_.step.number
                self._engine.wait_for()
                continue
            found.append(self._resting.close(open_, self.declaration))
        return found

    def _bring_back_by_hand(self, waiting: Waiting, answer: StartAnswer | None, done: bool) -> None:
        if done and (answer is None or answer.started):
            self._engine.believe(waiting.setup)
        self._waits.now = None
        self._engine.rest_at(self.declaration.fitted(waiting.setup), self._book.proven_at(waiting.setup))

    def reread(self) -> None:
        """Read anew what is kept beside the steps and shown everywhere: what plans have found, latest first, and profiles."""
        keeping, fitted = self.logbook.keeping, self.declaration.fitted
        self.findings = tuple(found for run in keeping.plan_runs() for found in run.found or ())
        self._profiles = tuple(replace(kept, setup=fitted(kept.setup)) for kept in keeping.profiles())
        self.version += 1

    @property
    def snapshot(self) -> Snapshot:
        """The logbook and its rig as they are now."""
        told = (self.version, self.proposal, self.waiting, self.verified, self.in_force)
        if self._snapshot is None or self._snapshot[0] != told:
            book = self._book
            made = Snapshot(
                self.logbook.path, self.declaration, tuple(book.steps), book.baseline, self.position, self.in_force,
                self._profiles, self.findings, self.proposal, self.waiting, self.verified, self.version, self.logbook,
            )  # fmt: skip
            self._snapshot = (told, made)
        return self._snapshot[1]

    def reload(self, number: int) -> None:
        """Read a step anew after something was written about it."""
        self._book.reload(number)
        self.version += 1

    def _reload_attempt(self, number: int, attempt: int) -> None:
        self._book.reload_attempt(number, attempt)
        self.version += 1

    def _hear(self, record: Record) -> None:
        match record:
            case StepOpened():
                self._reload_attempt(record.step.number, record.attempt)
                self._running = record.step.number
            case (
                PassOpened(attempt=attempt, ordinal=ordinal)
                | PassEnded(attempt=attempt, record=PassRecord(ordinal=ordinal))
            ):
                self._book.reload_pass(self._running, attempt, ordinal)
                self.version += 1
            case VerdictGiven():
                self._reload_attempt(record.step, record.attempt)
            case AttemptClosed():
                self._rest(record)
                self._reload_attempt(record.step, record.attempt)
            case PositionMoved():
                self._rest(record)
            case _:
                pass
        self._waits.hear(record, self._running)
        for listener in self._listeners:
            listener(record)

    def _rest(self, record: AttemptClosed | PositionMoved) -> None:
        self._resting.rest(record.position, record.rests_at, record.verified)
        self.version += 1


def machine_file(logbook: Path) -> Path:
    """Where the state of a simulated machine is kept: beside its logbook."""
    return logbook.with_name(logbook.name + ".machine")


def _checked_passes(passes: int) -> int:
    if not 2 <= passes <= 200:
        raise KnownError(
            say("{passes} passes can't be run.", passes=passes), say("Give 2 to 200; fewer than 3 tell little.")
        )
    return passes
