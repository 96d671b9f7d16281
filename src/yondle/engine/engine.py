"""The engine: opens a step, sets it, climbs the check ladder, judges, and leaves the rig at a setup that was read back.

Order of things: every act is announced by a durable record before it happens and answered by one after it. Whatever way
a test ends, `_restore` runs; a machine that went down is brought back first. Requests (stop, pause, halt) come from other
threads and are looked at once per sample. A step whose values only the tuner can enter is left waiting, over a restart
and the end of the program if need be, and taken up again with `go_on`.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace

from yondle.analysis.judging import UNLIMITED, Limited, Trial, down_outcome, failed, judge, of_the_start, pass_failed
from yondle.analysis.pointing import point
from yondle.engine.bench import Bench, TestEnded
from yondle.engine.passes import Passes
from yondle.engine.ports import Clock, Hands, Recorder, Rig
from yondle.engine.requests import Requests
from yondle.engine.setting import HandsNeeded, Refusal, Setter
from yondle.engine.states import State, Trigger
from yondle.language.saying import clause, later, listed, say
from yondle.model.errors import KnownError, MachineDownError
from yondle.model.events import (
    Applied,
    ApplyOpened,
    AttemptClosed,
    Durable,
    Entered,
    PositionMoved,
    PutBackOpened,
    Record,
    Restarted,
    StepOpened,
    VerdictGiven,
)
from yondle.model.knobs import Knob, Setup, When
from yondle.model.rigs import KnobReply
from yondle.model.sensors import Limit
from yondle.model.steps import COMPARED_STAGE, Check, PassRecord, StartAnswer, Step, StepKind, verdict_of
from yondle.model.verdicts import MACHINE_FAILURES, SAYS_NOTHING, START_FAILURES, Failure, Outcome, Verdict
from yondle.planning.ladder import Answer, RunPass, Settle, TakeUp, ladder

logger = logging.getLogger(__name__)

_STARTS_AGAIN_AT_MOST = 3


@dataclass(frozen=True, slots=True)
class Order:
    """One test to run: the step, how it is checked, and where the rig goes should it not hold.

    `before` are the outcomes of earlier attempts of the step, `own_conditions` what the tuner said about this one, and
    `at_home` what limited the machine at the settings it starts from.
    """

    attempt: int
    step: Step
    check: Check
    home: Setup
    home_step: int | None
    before: tuple[Outcome, ...] = ()
    own_conditions: tuple[tuple[str, str | float], ...] = ()
    at_home: Limited = UNLIMITED
    returns: bool = False
    """Whether the rig goes home afterwards, however it ended."""


class Engine:
    """Runs one test at a time on one rig, in the thread that calls it."""

    def __init__(
        self, rig: Rig, clock: Clock, recorder: Recorder, hands: Hands, listener: Callable[[Record], None]
    ) -> None:
        self.requests = Requests()
        self._bench = Bench(rig, clock, recorder, listener, self.requests)
        self._setter = Setter(self._bench, hands)
        self._passes = Passes(self._bench, self._not_in_force)
        self._declaration = rig.declaration
        self._at_home = False

    @property
    def state(self) -> State:
        """What the engine is doing now."""
        return self._bench.state

    def use_limits(self, limits: tuple[Limit, ...]) -> None:
        """Hold every sample against these ceilings from now on."""
        self._bench.guard.use(limits)

    def use_hands(self, hands: Hands) -> None:
        """Have values entered by these hands from now on."""
        self._setter.hands = hands

    def believe(self, setup: Setup) -> None:
        """Take these values to be in force where the machine doesn't tell."""
        self._setter.believe(setup)

    def read(self) -> Setup:
        """Read the values in force."""
        return self._setter.read()

    def test(self, order: Order) -> Outcome | None:
        """Run one test to its end and leave the rig where it belongs; None when it waits for the tuner's hands.

        Raises KnownError when the record can't be kept or the rig can't be reached; the rig is put back first.
        """
        self._begin(order)
        self._fire(Trigger.OPEN)
        return self._carry_out(order, lambda: self._emit(self._opening(order)), None)

    def wait_for(self) -> None:
        """Take up the waiting of an earlier program: a step is open whose values are being entered."""
        self._fire(Trigger.WAIT)

    def go_on(self, order: Order, answer: StartAnswer | None, restarted: bool = True) -> Outcome | None:
        """Go on with a test that waited for hands, now that it is told how it went; `restarted` whether that took a restart.

        Without an answer the values are still to be entered, by whatever hands there are now.
        """
        self._begin(order)
        self._fire(Trigger.RESUME)

        def announce() -> None:
            if answer is not None and restarted:
                self._emit(Restarted(order.attempt, self._bench.rig.boot_id()))
            if answer is not None:
                self._emit(Entered(order.attempt, answer))

        return self._carry_out(order, announce, answer)

    def drop(self, order: Order) -> Outcome | None:
        """Give up a test that waits for values to be entered; what may have been entered is put back."""
        self._begin(order)
        return self._close(order, failed(Failure.STOPPED, say("Dropped by the tuner before its values were entered.")))

    def rest_at(self, setup: Setup, position: int | None) -> bool:
        """Bring the rig to an earlier setup outside any test; returns whether it reads back as asked."""
        self._fire(Trigger.RESTORE)
        self._bench.attempt = 0
        try:
            self._emit(PutBackOpened(0, setup, position))
            rests_at, verified = self._restore((setup, self._declaration.stock))
            landed = position if rests_at == setup else None
            self._emit(PositionMoved(landed, rests_at, verified, self._bench.wall()))
        except BaseException:
            self._end_in_trouble(setup)
            raise
        self._fire(Trigger.REST)
        return verified and rests_at == setup

    def close_interrupted(
        self, attempt: int, step: int, home: Setup, home_step: int | None, outcome: Outcome | None
    ) -> bool:
        """Close an attempt that an earlier program left open: give its verdict, put the rig back, write both down."""
        self._fire(Trigger.RESTORE)
        self._bench.attempt = attempt
        try:
            if outcome is not None:
                self._emit(VerdictGiven(attempt, step, outcome))
            self._emit(PutBackOpened(attempt, home))
            rests_at, verified = self._restore((home, self._declaration.stock))
            position = home_step if rests_at == home else None
            self._emit(AttemptClosed(attempt, step, rests_at, verified, position, self._bench.wall()))
        except BaseException:
            self._end_in_trouble(home)
            raise
        self._fire(Trigger.REST)
        return verified

    # -- the climb ---------------------------------------------------------------------------------------------------

    def _begin(self, order: Order) -> None:
        self._bench.attempt, self._bench.ordinal, self._at_home = order.attempt, None, False
        self._bench.guard.begin(self._bench.clock.now())

    def _carry_out(self, order: Order, announce: Callable[[], None], answer: StartAnswer | None) -> Outcome | None:
        passes: list[PassRecord] = []
        halted = False
        try:
            announce()
            outcome = self._climb(order, passes, answer)
        except TestEnded as ended:
            outcome, halted = ended.outcome, ended.halted
        except HandsNeeded:
            self._fire(Trigger.WAIT)
            return None
        except MachineDownError as down:
            own = (made.stage for made in reversed(passes) if made.stage != COMPARED_STAGE)
            stage = COMPARED_STAGE if self._at_home else next(own, "setting")
            outcome = down_outcome(down, later("between passes"), stage, None)
        except BaseException:
            self._end_in_trouble(order.home)
            raise
        return self._close(order, self._with_evidence(order, outcome, passes), halted)

    def _opening(self, order: Order) -> StepOpened:
        rig, bench = self._bench.rig, self._bench
        facts = {**rig.facts(), **dict(order.own_conditions)}
        derived = self._declaration.derived(order.step.setup)
        return StepOpened(
            order.attempt, order.step, order.home, order.home_step, rig.boot_id(), bench.wall(), bench.clock.now(), facts,
            order.check, derived,
        )  # fmt: skip

    def _climb(self, order: Order, passes: list[PassRecord], answer: StartAnswer | None) -> Outcome:
        self._apply(order, answer)
        climb = ladder(order.check, self._declaration, order.step.setup, order.home)
        done: Answer = None
        setup = order.step.setup
        while True:
            try:
                instruction = climb.send(done)
            except StopIteration:
                break
            self._passes.pause_if_asked()
            match instruction:
                case Settle():
                    done = self._passes.settle(instruction)
                case RunPass():
                    record = self._passes.run(instruction, setup, len(passes) + 1)
                    passes.append(record)
                    done = record
                case TakeUp():
                    setup = order.home if instruction.home else order.step.setup
                    self._take_up(order, setup, instruction.home)
                    done = None
        last = passes[-1] if passes else None
        if last is not None and last.result is not None and not last.result.ok:
            return pass_failed(self._declaration, last)
        baseline = order.step.kind is StepKind.BASELINE
        own = tuple(made for made in passes if made.stage != COMPARED_STAGE)
        return judge(
            self._declaration,
            Trial(order.step.setup, order.step.changes, own, baseline, order.at_home, not order.returns),
        )

    def _take_up(self, order: Order, setup: Setup, home: bool) -> None:
        """Set values in the middle of a test, live; what goes wrong with those it starts from is no fault of the step's."""
        self._at_home = home
        self._fire(Trigger.APPLY)
        self._emit(ApplyOpened(order.attempt, setup))
        try:
            replies = self._setter.reach(setup, putting_back=False)
            read_back = self._setter.read()
            self._emit(Applied(order.attempt, replies, read_back))
            self._must_be_taken(replies, read_back)
            self._must_be_in_force(setup, replies, read_back)
        except TestEnded as ended:
            if home:
                ended.outcome = replace(ended.outcome, stage=COMPARED_STAGE)
            raise
        except MachineDownError as down:
            stage = COMPARED_STAGE if home else "setting"
            raise TestEnded(down_outcome(down, say("when the values were set"), stage, 0.0)) from down

    def _apply(self, order: Order, answer: StartAnswer | None) -> None:
        if self._bench.state is State.OPENING:
            self._fire(Trigger.APPLY)
        setup = order.step.setup
        if answer is not None:
            self._must_have_started(setup, answer)
        self._emit(ApplyOpened(order.attempt, setup))
        try:
            replies = self._setter.reach(setup, putting_back=False)
        except Refusal as refusal:
            self._must_be_taken(refusal.replies, self._setter.read())
            raise
        except MachineDownError as down:
            restarting = self._bench.state is State.RESTARTING
            when, stage = (
                (say("after the restart"), later("starting"))
                if restarting
                else (say("when the values were set"), later("setting"))
            )
            raise TestEnded(down_outcome(down, when, stage, 0.0)) from down
        read_back = self._setter.read()
        self._emit(Applied(order.attempt, replies, read_back))
        self._must_be_taken(replies, read_back)
        self._must_be_in_force(setup, replies, read_back)

    def _must_have_started(self, setup: Setup, answer: StartAnswer) -> None:
        """Judge what the tuner told of the restart, and what the machine itself tells."""
        if answer.failure is not None:
            where = say(" at {stopped_at}", stopped_at=answer.stopped_at) if answer.stopped_at else ""
            words = say("after the values were entered{where}", where=where)
            raise TestEnded(down_outcome(MachineDownError(answer.failure, answer.code), words, "starting", 0.0))
        self._setter.believe(setup)
        ignored = self._declaration.differing(self._setter.read(), setup, When.BY_HAND)
        for knob_id, asked in ignored.items():
            knob = self._declaration.knob(knob_id)
            shown = knob.text(self._setter.read()[knob_id])
            reason = say(
                "{knob} {asked} was entered, {shown} reads back.", knob=knob.name, asked=knob.text(asked), shown=shown
            )
            raise TestEnded(failed(Failure.NOT_IN_FORCE, reason, later("reading back"), 0.0))

    def _must_be_taken(self, replies: tuple[KnobReply, ...], read_back: Setup) -> None:
        for reply in replies:
            if not reply.taken:
                knob = self._declaration.knob(reply.knob)
                reason = say(
                    "{knob} {asked} was refused: {message}.",
                    knob=knob.name,
                    asked=knob.text(reply.asked),
                    message=clause(reply.message),
                )
                raise TestEnded(failed(Failure.REFUSED, reason, "setting", 0.0))

    def _must_be_in_force(self, setup: Setup, replies: tuple[KnobReply, ...], read_back: Setup) -> None:
        said = {reply.knob: reply.message for reply in replies if reply.message}
        for knob, asked, in_force in _differing(self._declaration.knobs, setup, read_back):
            shown = say("nothing") if in_force is None else knob.text(in_force)
            why = listed([" (", said[knob.id], ")"], "") if knob.id in said else ""
            reason = say(
                "{knob} {asked} was asked, {shown} reads back{why}.",
                knob=knob.name,
                asked=knob.text(asked),
                shown=shown,
                why=why,
            )
            raise TestEnded(failed(Failure.NOT_IN_FORCE, reason, later("reading back"), 0.0))

    def _not_in_force(self, setup: Setup) -> str:
        """Read back, and say which value of a setup is no longer in force and what is known of why; nothing when all are."""
        for knob, asked, in_force in _differing(self._declaration.knobs, setup, self._setter.read()):
            shown = say("nothing") if in_force is None else knob.text(in_force)
            why = self._bench.rig.gone_back()
            return say(
                "{knob} was set to {asked}, {shown} reads back{why}",
                knob=knob.name,
                asked=knob.text(asked),
                shown=shown,
                why=listed([" (", why, ")"], "") if why else "",
            )
        return ""

    def _with_evidence(self, order: Order, outcome: Outcome, passes: list[PassRecord]) -> Outcome:
        """Add what the sensors said last and what the failure points to."""
        if outcome.failure is None or outcome.failure in SAYS_NOTHING:
            return outcome
        named = zip(self._declaration.channels, self._bench.last_row, strict=False)
        last = {channel.id: value for channel, value in named if value is not None}
        own = tuple(made for made in passes if made.stage != COMPARED_STAGE)
        trial = Trial(order.step.setup, order.step.changes, own)
        return replace(outcome, last=last, pointer=point(self._declaration, trial, outcome))

    # -- the end -----------------------------------------------------------------------------------------------------

    def _close(self, order: Order, outcome: Outcome, halted: bool = False) -> Outcome:
        if halted:
            self._quiet_stock()
        self._fire(Trigger.END)
        try:
            self._bench.flush()
            told = of_the_start(outcome)
            self._emit(VerdictGiven(order.attempt, order.step.number, told))
            stays = _stays(order, told)
            target = self._declaration.stock if halted else order.step.setup if stays else order.home
            if outcome.failure in START_FAILURES:
                self._setter.firmware_was_reset()
            if outcome.failure in MACHINE_FAILURES:
                self._bring_back()
            else:
                self._fire(Trigger.RESTORE)
            self._emit(PutBackOpened(order.attempt, target))
            rests_at, verified = self._restore((target, order.home, self._declaration.stock))
        except BaseException:
            self._end_in_trouble(order.home)
            raise
        position = order.step.number if stays else order.home_step
        if rests_at != (order.step.setup if stays else order.home):
            position = None
        number = order.step.number
        try:
            self._emit(AttemptClosed(order.attempt, number, rests_at, verified, position, self._bench.wall()))
        finally:
            self._fire(Trigger.REST)
        return told

    def _restore(self, targets: tuple[Setup, ...]) -> tuple[Setup, bool]:
        """Apply the first target that the machine takes and survives; returns what reads back and whether it is it.

        Where the tuner's hands are needed the rig stays where it is, unverified, and the record says what is to be done.
        """
        rests_at = targets[-1]
        for target in targets[:_STARTS_AGAIN_AT_MOST]:
            try:
                if self._setter.read() != target or self._bench.rig.pending():
                    self._setter.reach(target, putting_back=True)
                rests_at = self._setter.read()
                if rests_at == target:
                    return rests_at, True
            except HandsNeeded:
                return self._setter.read(), False
            except Refusal:
                logger.warning("the machine refused values it had before")
                rests_at = self._setter.read()
            except MachineDownError as down:
                if down.failure in START_FAILURES:
                    self._setter.firmware_was_reset()
                self._bring_back()
        return rests_at, False

    def _bring_back(self) -> None:
        self._fire(Trigger.DOWN)
        self._bench.idle(self._bench.rig.bring_back())
        self._fire(Trigger.RESTORE)

    def _quiet_stock(self) -> None:
        """Put every knob at stock that can be set at once; what takes a restart follows when the rig is put back."""
        try:
            self._bench.rig.apply(self._declaration.stock)
        except MachineDownError:
            logger.warning("the machine went down during the emergency stop")

    def _end_in_trouble(self, home: Setup) -> None:
        """Put the rig back although the record can't be kept, the rig can't be reached, or the program has a fault."""
        with suppress(KnownError):
            self._bench.flush()
        try:
            self._setter.reach_without_record(home)
        except MachineDownError:
            self._bench.rig.bring_back()
        except HandsNeeded:
            logger.warning("the rig waits for values to be entered by hand")
        except KnownError as error:
            logger.warning("the rig could not be put back: %s", error.problem)
        except Exception:
            logger.exception("the rig could not be put back")
        self._bench.rest()

    def _emit(self, record: Durable) -> None:
        self._bench.emit(record)

    def _fire(self, trigger: Trigger) -> None:
        self._bench.fire(trigger)


def _differing(knobs: tuple[Knob, ...], asked: Setup, read: Setup) -> Iterator[tuple[Knob, float, float | None]]:
    """Give each knob that reads back as something else than was asked, with both values; None where nothing reads back."""
    for knob in knobs:
        wanted, in_force = asked.get(knob.id), read.get(knob.id)
        if wanted is not None and (in_force is None or abs(in_force - wanted) > knob.step * 1e-6):
            yield knob, wanted, in_force


def _stays(order: Order, outcome: Outcome) -> bool:
    """A held step stays in force, unless it failed too often before; so does a baseline that ran through.

    A baseline is stock itself, which stays in force even when it is held back.
    """
    if order.returns:
        return False
    if outcome.verdict is Verdict.HELD:
        return verdict_of((*order.before, outcome)) is Verdict.HELD
    return order.step.kind is StepKind.BASELINE and outcome.verdict is Verdict.HELD_BACK
