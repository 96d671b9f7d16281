"""The engine: opens a step, sets it, climbs the check ladder, judges, and leaves the rig at a setup that was read back.

Order of things: every act is announced by a durable record before it happens and answered by one after it. Whatever way
a test ends, `_restore` runs; a machine that went down is brought back first. Requests (stop, pause, halt) come from other
threads and are looked at once per sample.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass, replace

from yondle.analysis.judging import DISTURBED_USE_PERCENT, failed, judge, pass_failed
from yondle.engine.ports import Clock, Recorder, Rig, Run
from yondle.engine.requests import Request, Requests
from yondle.engine.states import State, Trigger, follow
from yondle.engine.watcher import BlockGatherer, Breach, Guard, PassSummary
from yondle.model.errors import KnownError, MachineDownError
from yondle.model.events import (
    Applied,
    ApplyOpened,
    AttemptClosed,
    BlockRecorded,
    Durable,
    PassEnded,
    PassOpened,
    PositionMoved,
    PutBackOpened,
    Record,
    Sampled,
    Settled,
    SettleOpened,
    StateChanged,
    StepOpened,
    VerdictGiven,
)
from yondle.model.knobs import Setup
from yondle.model.quantities import duration, quantity
from yondle.model.steps import Check, PassRecord, Step, StepKind
from yondle.model.verdicts import MACHINE_FAILURES, Failure, Outcome, Verdict
from yondle.model.workloads import PassResult
from yondle.planning.ladder import RunPass, Settle, ladder

logger = logging.getLogger(__name__)

_STARTS_AGAIN_AT_MOST = 3


@dataclass(frozen=True, slots=True)
class Order:
    """One test to run: the step, how it is checked, and where the rig goes should it not hold."""

    attempt: int
    step: Step
    check: Check
    home: Setup
    home_step: int | None


class _Ended(Exception):
    """The test is over before its ladder is: carries the outcome."""

    def __init__(self, outcome: Outcome, halted: bool = False) -> None:
        super().__init__(outcome.reason)
        self.outcome = outcome
        self.halted = halted


class Engine:
    """Runs one test at a time on one rig, in the thread that calls it."""

    def __init__(self, rig: Rig, clock: Clock, recorder: Recorder, listener: Callable[[Record], None]) -> None:
        self._rig = rig
        self._clock = clock
        self._recorder = recorder
        self._listener = listener
        self._declaration = rig.declaration
        self._guard = Guard(rig.declaration)
        self._blocks = BlockGatherer(rig.declaration)
        self._state = State.RESTING
        self._attempt = 0
        self._ordinal: int | None = None
        self.requests = Requests()

    @property
    def state(self) -> State:
        """What the engine is doing now."""
        return self._state

    def test(self, order: Order) -> Outcome:
        """Run one test to its end and leave the rig where it belongs.

        Raises KnownError when the record can't be kept or the rig can't be reached; the rig is put back first.
        """
        self.requests.clear()
        self._fire(Trigger.OPEN)
        self._attempt, self._ordinal = order.attempt, None
        self._guard.begin(self._clock.now())
        passes: list[PassRecord] = []
        halted = False
        try:
            self._emit(self._opening(order))
            outcome = self._climb(order, passes)
        except _Ended as ended:
            outcome, halted = ended.outcome, ended.halted
        except MachineDownError as down:
            outcome = self._went_down(down, passes)
        except BaseException:
            self._end_in_trouble(order.home)
            raise
        return self._close(order, outcome, halted)

    def rest_at(self, setup: Setup, position: int | None) -> bool:
        """Bring the rig to an earlier setup outside any test; returns whether it reads back as asked."""
        self._fire(Trigger.RESTORE)
        self._attempt = 0
        try:
            self._emit(PutBackOpened(0, setup))
            rests_at, verified = self._restore((setup, self._declaration.stock))
            landed = position if rests_at == setup else None
            self._emit(PositionMoved(landed, rests_at, verified, self._wall()))
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
        self._attempt = attempt
        try:
            if outcome is not None:
                self._emit(VerdictGiven(attempt, step, outcome))
            self._emit(PutBackOpened(attempt, home))
            rests_at, verified = self._restore((home, self._declaration.stock))
            position = home_step if rests_at == home else None
            self._emit(AttemptClosed(attempt, step, rests_at, verified, position, self._wall()))
        except BaseException:
            self._end_in_trouble(home)
            raise
        self._fire(Trigger.REST)
        return verified

    # -- the climb ---------------------------------------------------------------------------------------------------

    def _opening(self, order: Order) -> StepOpened:
        facts = self._rig.facts()
        boot = self._rig.boot_id()
        at, now = self._wall(), self._clock.now()
        return StepOpened(order.attempt, order.step, order.home, order.home_step, boot, at, now, facts)

    def _climb(self, order: Order, passes: list[PassRecord]) -> Outcome:
        self._apply(order)
        climb = ladder(order.check, self._declaration)
        answer: PassRecord | None = None
        while True:
            try:
                instruction = climb.send(answer)
            except StopIteration:
                break
            self._pause_if_asked()
            match instruction:
                case Settle():
                    answer = None
                    self._settle(instruction)
                case RunPass():
                    answer = self._pass(order, instruction, len(passes) + 1)
                    passes.append(answer)
        last = passes[-1] if passes else None
        if last is not None and last.result is not None and not last.result.ok:
            return pass_failed(self._declaration, last)
        return judge(self._declaration, order.step.setup, passes)

    def _apply(self, order: Order) -> None:
        self._fire(Trigger.APPLY)
        setup = order.step.setup
        self._emit(ApplyOpened(order.attempt, setup))
        try:
            replies = self._rig.apply(setup)
        except MachineDownError as down:
            raise _Ended(self._down_outcome(down, "when the values were set", "setting", 0.0)) from down
        read_back = self._rig.read_back()
        self._emit(Applied(order.attempt, replies, read_back))
        for reply in replies:
            knob = self._declaration.knob(reply.knob)
            if not reply.taken:
                reason = f"{knob.name} {knob.text(reply.asked)} was refused: {reply.message}"
                raise _Ended(failed(Failure.REFUSED, reason, "setting", 0.0))
            in_force = read_back.get(reply.knob)
            if in_force is None or abs(in_force - reply.asked) > knob.step * 1e-6:
                shown = "nothing" if in_force is None else knob.text(in_force)
                reason = f"{knob.name} {knob.text(reply.asked)} was asked, {shown} reads back."
                raise _Ended(failed(Failure.NOT_IN_FORCE, reason, "reading back", 0.0))

    def _settle(self, order: Settle) -> None:
        index = [c.id for c in self._declaration.channels].index(order.channel)
        row = self._rig.sample()
        value = row[index]
        if value is not None and value <= order.below:
            return
        self._fire(Trigger.SETTLE)
        self._emit(SettleOpened(self._attempt, order.channel, order.below))
        began = self._clock.now()
        reached = False
        while not reached and self._clock.now() - began < order.at_most_s:
            value = self._watch(None)[index]
            reached = value is not None and value <= order.below
        self._flush()
        self._emit(Settled(self._attempt, self._clock.now() - began, reached))

    def _pass(self, order: Order, instruction: RunPass, ordinal: int) -> PassRecord:
        self._fire(Trigger.RUN)
        began = self._clock.now()
        i = instruction
        self._emit(
            PassOpened(
                order.attempt, ordinal, i.stage, i.workload, i.round, i.warm_up, i.number, i.of, i.seconds, began
            )
        )
        self._ordinal = ordinal
        record = PassRecord(ordinal, i.stage, i.workload, i.round, i.warm_up, began, None)
        summary = PassSummary(self._declaration)
        try:
            result = self._follow(i, order.step.setup, summary)
        except (_Ended, MachineDownError) as end:
            after = self._clock.now() - began
            ended = end if isinstance(end, _Ended) else self._fell(end, i.workload, after)
            ended.outcome = replace(ended.outcome, stage=i.stage, time_to_failure_s=after)
            failure = ended.outcome.failure.value if ended.outcome.failure else ""
            self._end_pass(record, PassResult(False, None, after, failure, ended.outcome.reason), summary)
            raise ended from end
        return self._end_pass(record, result, summary)

    def _end_pass(self, record: PassRecord, result: PassResult, summary: PassSummary) -> PassRecord:
        self._flush()
        self._ordinal = None
        facts = summary.facts()
        whole = replace(result, facts={**facts, **result.facts})
        ended = replace(record, result=whole, disturbed=_disturbance(facts))
        self._emit(PassEnded(self._attempt, ended))
        return ended

    def _fell(self, down: MachineDownError, workload: str, after_s: float) -> _Ended:
        name = self._declaration.workload(workload).name
        return _Ended(self._down_outcome(down, f"after {duration(after_s)} of {name}", "", after_s))

    def _follow(self, order: RunPass, setup: Setup, summary: PassSummary) -> PassResult:
        try:
            run = self._rig.start(order.workload, order.seconds, setup)
        except KnownError as error:
            return PassResult(False, None, 0.0, Failure.PROGRAM_CRASHED.value, error.problem)
        try:
            while True:
                row = self._watch(run)
                result = run.poll()
                if result is not None:
                    return result
                summary.add(row)
        finally:
            run.stop()

    def _watch(self, run: Run | None) -> tuple[float | None, ...]:
        self._clock.wait(self._declaration.sample_interval_s)
        row = self._rig.sample()
        now = self._clock.now()
        self._listener(Sampled(self._attempt, now, row))
        block = self._blocks.add(now, row, self._clock.block_s)
        if block is not None:
            self._emit(BlockRecorded(self._attempt, self._ordinal, block))
        breach = self._guard.look(now, row)
        if breach is not None:
            raise _Ended(self._breached(breach))
        request = self.requests.pending()
        if request is Request.STOP:
            raise _Ended(failed(Failure.STOPPED, "Stopped by the tuner before the check was through."))
        if request is Request.HALT:
            if run is not None:
                run.stop()
            raise _Ended(failed(Failure.STOPPED, "Emergency stop by the tuner; the rig went to stock."), halted=True)
        return row

    def _pause_if_asked(self) -> None:
        if self.requests.pending() is not Request.PAUSE:
            return
        self._fire(Trigger.PAUSE)
        while self.requests.pending() is Request.PAUSE:
            self._watch(None)
        self._flush()

    # -- the end -----------------------------------------------------------------------------------------------------

    def _close(self, order: Order, outcome: Outcome, halted: bool) -> Outcome:
        if halted:
            self._quiet_stock()
        self._fire(Trigger.END)
        try:
            self._flush()
            self._emit(VerdictGiven(order.attempt, order.step.number, outcome))
            stays = _stays(order.step, outcome)
            target = self._declaration.stock if halted else order.step.setup if stays else order.home
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
        try:
            self._emit(AttemptClosed(order.attempt, order.step.number, rests_at, verified, position, self._wall()))
        finally:
            self._fire(Trigger.REST)
        return outcome

    def _restore(self, targets: tuple[Setup, ...]) -> tuple[Setup, bool]:
        """Apply the first target that the machine takes and survives; returns what reads back and whether it is it."""
        rests_at = targets[-1]
        for target in targets[:_STARTS_AGAIN_AT_MOST]:
            try:
                if self._rig.read_back() != target:
                    self._rig.apply(target)
                rests_at = self._rig.read_back()
                if rests_at == target:
                    return rests_at, True
            except MachineDownError:
                self._bring_back()
        return rests_at, False

    def _bring_back(self) -> None:
        self._fire(Trigger.DOWN)
        remaining = self._rig.bring_back()
        while remaining > 0:
            tick = min(remaining, self._declaration.sample_interval_s)
            self._clock.wait(tick)
            remaining -= tick
        self._fire(Trigger.RESTORE)

    def _quiet_stock(self) -> None:
        try:
            self._rig.apply(self._declaration.stock)
        except MachineDownError:
            logger.warning("the machine went down during the emergency stop")

    def _end_in_trouble(self, home: Setup) -> None:
        """Put the rig back although the record can't be kept or the program has a fault."""
        try:
            self._rig.apply(home)
        except MachineDownError:
            self._rig.bring_back()
        except Exception:
            logger.exception("the rig could not be put back")
        self._blocks.flush()
        self._state = State.RESTING
        self._listener(StateChanged(State.RESTING.name, State.RESTING.value))

    def _went_down(self, down: MachineDownError, passes: list[PassRecord]) -> Outcome:
        return self._down_outcome(down, "between passes", passes[-1].stage if passes else "setting", None)

    def _down_outcome(self, down: MachineDownError, when: str, stage: str, after_s: float | None) -> Outcome:
        code = f", code {down.code}" if down.code else ""
        reason = f"{down.failure.value.capitalize()} {when}{code}."
        return failed(down.failure, reason, stage, after_s, down.code)

    def _breached(self, breach: Breach) -> Outcome:
        channel = self._declaration.channel(breach.channel)
        limit = quantity(breach.most, channel.unit, 3 if channel.digits == 3 else 0)
        if breach.value is None:
            reason = f"{channel.name} gave no reading any more; the test was stopped because its ceiling is {limit}."
            return failed(Failure.SENSOR_LOST, reason)
        reached = quantity(breach.value, channel.unit, channel.digits)
        return failed(Failure.CEILING, f"{channel.name} reached {reached}; its ceiling is {limit}.")

    # -- the stream --------------------------------------------------------------------------------------------------

    def _emit(self, record: Durable) -> None:
        self._recorder.take(record)
        self._listener(record)

    def _flush(self) -> None:
        block = self._blocks.flush()
        if block is not None:
            self._emit(BlockRecorded(self._attempt, self._ordinal, block))

    def _fire(self, trigger: Trigger) -> None:
        before, self._state = self._state, follow(self._state, trigger)
        if self._state is not before:
            self._listener(StateChanged(self._state.name, self._state.value))

    def _wall(self) -> str:
        return self._clock.wall().isoformat(timespec="seconds")


def _stays(step: Step, outcome: Outcome) -> bool:
    """A held step stays in force; so does a baseline that ran through, even when stock itself is held back."""
    if outcome.verdict is Verdict.HELD:
        return True
    return step.kind is StepKind.BASELINE and outcome.verdict is Verdict.HELD_BACK


def _disturbance(facts: dict[str, str | float]) -> str:
    others = float(facts.get("mean other_use", 0.0))
    return f"other programs used {others:.0f} % of the machine" if others > DISTURBED_USE_PERCENT else ""
