"""Runs the passes of a check: cools down, starts the workload, watches it to its end, and sums it up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from yondle.analysis.judging import AT_ONCE_S, down_outcome, failed
from yondle.engine.bench import Bench, TestEnded
from yondle.engine.requests import Request
from yondle.engine.states import State, Trigger
from yondle.engine.watcher import PassSummary
from yondle.language.saying import listed, say
from yondle.model.errors import KnownError, MachineDownError
from yondle.model.events import PassEnded, PassOpened, Settled, SettleOpened
from yondle.model.knobs import Setup
from yondle.model.measured import Measured
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import OTHERS_USE, STOLEN, Reading
from yondle.model.steps import PassRecord
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.planning.ladder import RunPass, Settle

MOVED_PERCENT = 5.0
"""A clock reference that moves by more within a pass, without the machine saying that it throttles, is a disturbance."""

LEVEL_S, LEVEL_K = 15.0, 0.5
"""A reading that came down by less in that time has come to rest."""
LONGEST_NAP_S = 0.5
"""The two clocks that tell a suspension differ by less than this when there was none."""


class Passes:
    """Carries out what a check ladder yields."""

    def __init__(self, bench: Bench, not_in_force: Callable[[Setup], str]) -> None:
        """`not_in_force` reads back and says what of a setup is no longer in force; nothing when all of it is."""
        self._bench = bench
        self._not_in_force = not_in_force
        self._settled: dict[str, float] = {}

    def settle(self, order: Settle) -> float | None:
        """Idle until a sensor has come below its value, or falls no further, but not for ever; gives what it read last."""
        bench = self._bench
        index = next((i for i, c in enumerate(bench.declaration.channels) if c.id == order.channel), None)
        value = bench.sample()[index] if index is not None else None
        if order.below is None or value is None or value > order.below:
            value = self._wait(order, index, value)
        self._settled = {order.channel: value} if value is not None else {}
        return value

    def _wait(self, order: Settle, index: int | None, value: float | None) -> float | None:
        bench = self._bench
        bench.fire(Trigger.SETTLE)
        bench.emit(SettleOpened(bench.attempt, order.channel, order.below))
        began = bench.clock.now()
        seen = [(began, value)]
        there = False
        while index is not None and not there and bench.clock.now() - began < order.at_most_s:
            value = bench.watch(None)[index]
            seen.append((bench.clock.now(), value))
            there = _level(seen) if order.below is None else value is not None and value <= order.below
        bench.flush()
        bench.emit(Settled(bench.attempt, bench.clock.now() - began, there))
        return value

    def pause_if_asked(self) -> None:
        """Wait with the load off while a pause is asked for."""
        bench = self._bench
        if bench.requests.pending() is not Request.PAUSE:
            return
        if bench.state is not State.PAUSED:
            bench.fire(Trigger.PAUSE)
        while bench.requests.pending() is Request.PAUSE:
            bench.watch(None)
        bench.flush()

    def run(self, order: RunPass, setup: Setup, ordinal: int) -> PassRecord:
        """Run one pass, then read the settings back.

        Raises Ended, or MachineDownError turned into Ended, when it doesn't come to its end, and when a value is no
        longer in force after it: whatever it showed, it wasn't the setting's.
        """
        bench = self._bench
        bench.fire(Trigger.RUN)
        began, slept = bench.clock.now(), bench.clock.slept_s()
        bench.emit(
            PassOpened(
                bench.attempt,
                ordinal,
                order.stage,
                order.workload,
                order.round,
                order.warm_up,
                order.number,
                order.of,
                order.seconds,
                began,
            )
        )
        bench.ordinal = ordinal
        record = PassRecord(ordinal, order.stage, order.workload, order.round, order.warm_up, began, None)
        summary = PassSummary(bench.declaration, bench.last_row)
        try:
            result = self._follow(order, setup, summary)
            gone = self._not_in_force(setup)
        except (TestEnded, MachineDownError) as end:
            after = bench.clock.now() - began
            ended = end if isinstance(end, TestEnded) else self._fell(end, order.workload, after)
            ended.outcome = replace(ended.outcome, stage=order.stage, time_to_failure_s=after)
            failure = ended.outcome.failure.value if ended.outcome.failure else ""
            self._end(record, PassResult(False, None, after, failure, ended.outcome.reason), summary)
            raise ended from end
        ended_pass = self._end(record, result, summary, bench.clock.slept_s() - slept, gone)
        if gone:
            after = bench.clock.now() - began
            raise TestEnded(
                failed(Failure.NOT_IN_FORCE, say("No longer in force: {gone}.", gone=gone), order.stage, after)
            )
        return ended_pass

    def _follow(self, order: RunPass, setup: Setup, summary: PassSummary) -> PassResult:
        bench = self._bench
        try:
            run = bench.rig.start(order.workload, order.seconds, setup)
        except KnownError as error:
            return PassResult(False, None, 0.0, Failure.NOT_RUN.value, listed([error.problem, error.remedy], " "))
        try:
            while True:
                row = bench.watch(run)
                result = run.poll()
                if result is not None:
                    summary.end(row)
                    return result
                summary.add(row)
        finally:
            run.stop()

    def _end(
        self, record: PassRecord, result: PassResult, summary: PassSummary, slept_s: float = 0.0, gone: str = ""
    ) -> PassRecord:
        bench = self._bench
        bench.flush()
        bench.ordinal = None
        whole = replace(result, measured=replace(summary.measured().joined(result.measured), start=self._settled))
        self._settled = {}
        disturbed = gone or _disturbance(bench.declaration, whole.measured, slept_s)
        ended = replace(record, result=whole, disturbed=disturbed)
        bench.emit(PassEnded(bench.attempt, ended))
        return ended

    def _fell(self, down: MachineDownError, workload: str, after_s: float) -> TestEnded:
        name = self._bench.declaration.workload(workload).name
        return TestEnded(
            down_outcome(
                down,
                say("after {after_s} of {name}", after_s=duration(after_s), name=name)
                if after_s >= AT_ONCE_S
                else say("in the first moment of {name}", name=name),
                "",
                after_s,
            )
        )


def _disturbance(declaration: RigDeclaration, measured: Measured, slept_s: float) -> str:
    if slept_s >= LONGEST_NAP_S:
        return say("the machine was suspended for {slept_s}", slept_s=duration(slept_s))
    others = _mean(declaration, measured, OTHERS_USE)
    if others > declaration.others_at_most:
        stolen = _mean(declaration, measured, STOLEN)
        who = say("the host took") if stolen > others / 2 else say("other programs used")
        return say("{who} {others:.0f} % of the machine", who=who, others=others)
    moved = float(measured.told.get("reference_moved", 0.0))
    if moved > MOVED_PERCENT and not measured.counted:
        return say("the clock moved by {moved:.0f} % in the pass", moved=moved)
    return ""


def _mean(declaration: RigDeclaration, measured: Measured, role: str) -> float:
    channel = declaration.playing(role)
    return measured.mean.get(channel.id, 0.0) if channel is not None else 0.0


def _level(seen: list[tuple[float, Reading]]) -> bool:
    """Tell whether a reading falls no further, by the means of the first and the last third of the latest LEVEL_S."""
    now = seen[-1][0]
    if now - seen[0][0] < LEVEL_S:
        return False
    values = [(t, v) for t, v in seen if v is not None and now - t <= LEVEL_S]
    first = [v for t, v in values if now - t > LEVEL_S * 2.0 / 3.0]
    last = [v for t, v in values if now - t < LEVEL_S / 3.0]
    return bool(first and last) and sum(first) / len(first) - sum(last) / len(last) < LEVEL_K
