"""What all parts of the engine work with: the rig, its clock, the record, the state, and the watch over the sensors."""

from __future__ import annotations

from collections.abc import Callable

from yondle.analysis.judging import failed
from yondle.engine.ports import Clock, Recorder, Rig, RunningWorkload
from yondle.engine.requests import Request, Requests
from yondle.engine.states import TRANSITIONS, State, Trigger
from yondle.engine.watcher import BlockGatherer, Breach, Guard
from yondle.language.saying import named, say
from yondle.model.events import BlockRecorded, Durable, Record, Sampled, StateChanged
from yondle.model.quantities import quantity
from yondle.model.sensors import Reading
from yondle.model.verdicts import Failure, Outcome


class TestEnded(Exception):
    """The test is over before its ladder is: carries the outcome."""

    def __init__(self, outcome: Outcome, halted: bool = False) -> None:
        super().__init__(outcome.reason)
        self.outcome = outcome
        self.halted = halted


class Bench:
    """The engine's common ground. Every wait goes through `watch`, so that ceilings and requests are never missed."""

    def __init__(
        self, rig: Rig, clock: Clock, recorder: Recorder, listener: Callable[[Record], None], requests: Requests
    ) -> None:
        self.rig = rig
        self.clock = clock
        self.declaration = rig.declaration
        self.requests = requests
        self.state = State.RESTING
        self.attempt = 0
        self.ordinal: int | None = None
        self.guard = Guard(rig.declaration)
        self.last_row: tuple[Reading, ...] = ()
        self._recorder = recorder
        self._listener = listener
        self._blocks = BlockGatherer(rig.declaration)

    def emit(self, record: Durable) -> None:
        """Write a record down, then let others hear it."""
        self._recorder.take(record)
        self._listener(record)

    def fire(self, trigger: Trigger) -> None:
        """Go to the next state."""
        before, self.state = self.state, TRANSITIONS.follow(self.state, trigger)
        if self.state is not before:
            self._listener(StateChanged(self.state.name, named(self.state)))

    def rest(self) -> None:
        """Come to rest whatever the state was: for trouble only, when the record can't be kept."""
        self._blocks.flush()
        self.state = State.RESTING
        self._listener(StateChanged(State.RESTING.name, named(State.RESTING)))

    def sample(self) -> tuple[Reading, ...]:
        """Read the sensors without waiting."""
        self.last_row = self.rig.sample()
        return self.last_row

    def watch(self, run: RunningWorkload | None) -> tuple[Reading, ...]:
        """Let one sample interval pass; raises Ended for a breached ceiling or a request."""
        self.clock.wait(self.declaration.sample_interval_s)
        row = self.sample()
        now = self.clock.now()
        self._listener(Sampled(self.attempt, now, row))
        block = self._blocks.add(now, row, self.clock.block_s)
        if block is not None:
            self.emit(BlockRecorded(self.attempt, self.ordinal, block))
        breach = self.guard.look(now, row)
        if breach is not None:
            raise TestEnded(self._breached(breach))
        request = self.requests.pending()
        if request is Request.STOP:
            self.requests.clear()
            raise TestEnded(failed(Failure.STOPPED, say("Stopped by the tuner before the check was through.")))
        if request is Request.HALT:
            self.requests.clear()
            if run is not None:
                run.stop()
            raise TestEnded(
                failed(Failure.STOPPED, say("Emergency stop by the tuner; the rig went to stock.")), halted=True
            )
        return row

    def idle(self, seconds: float) -> None:
        """Let time pass while the machine doesn't answer."""
        remaining = seconds
        while remaining > 0:
            tick = min(remaining, self.declaration.sample_interval_s)
            self.clock.wait(tick)
            remaining -= tick

    def flush(self) -> None:
        """Write down the samples gathered so far."""
        block = self._blocks.flush()
        if block is not None:
            self.emit(BlockRecorded(self.attempt, self.ordinal, block))

    def wall(self) -> str:
        """The date and time as text."""
        return self.clock.wall().isoformat(timespec="seconds")

    def _breached(self, breach: Breach) -> Outcome:
        channel = self.declaration.channel(breach.channel)
        limit = quantity(breach.most, channel.unit, channel.digits)
        if breach.value is None:
            reason = say(
                "{channel} gave no reading any more; the test was stopped because its ceiling is {limit}.",
                channel=channel.name,
                limit=limit,
            )
            return failed(Failure.SENSOR_LOST, reason)
        reached = quantity(breach.value, channel.unit, channel.digits)
        return failed(
            Failure.CEILING,
            say(
                "{channel} reached {reached}; its ceiling is {limit}.",
                channel=channel.name,
                reached=reached,
                limit=limit,
            ),
            seen={"channel": breach.channel, "reading": breach.value, "most": breach.most},
        )
