"""What a running test is at, gathered from the engine's records: stage, pass k of n, time left, the last readings."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from yondle.engine.states import State
from yondle.language.saying import say
from yondle.model.events import (
    AttemptClosed,
    PassEnded,
    PassOpened,
    Record,
    Sampled,
    SettleOpened,
    StateChanged,
    StepOpened,
)
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Reading

KEPT_SAMPLES = 600


@dataclass(slots=True)
class Progress:
    """The state of the test under way; `take` is called with every record, in order.

    `waiting` is the step that waits for values entered by hand.
    """

    declaration: RigDeclaration
    step: int | None = None
    waiting: int | None = None
    state: str = ""
    paused: bool = False
    """The load is off until the tuner goes on."""
    doing: str = ""
    number: int = 0
    of: int = 0
    began_s: float | None = 0.0
    now_s: float = 0.0
    samples: deque[tuple[float, tuple[Reading, ...]]] = field(default_factory=lambda: deque(maxlen=KEPT_SAMPLES))
    pass_starts: deque[float] = field(default_factory=lambda: deque(maxlen=KEPT_SAMPLES))

    @property
    def running(self) -> bool:
        """Tell whether a test is under way."""
        return self.step is not None

    @property
    def lasted_s(self) -> float:
        """How long the test has been under way."""
        return 0.0 if self.began_s is None else self.now_s - self.began_s

    def take(self, record: Record) -> None:
        """Take a record in."""
        match record:
            case StepOpened():
                self.step, self.waiting = record.step.number, None
                self.began_s = self.now_s = record.t
                self.number = self.of = 0
                self.doing = say("opening the step")
                self.samples.clear()
                self.pass_starts.clear()
            case StateChanged():
                self.state, self.paused = record.words, record.state == State.PAUSED.name
                self._wait_or_go_on(record.state)
                if record.state in ("APPLYING", "PAUSED", "BRINGING_BACK", "PUTTING_BACK"):
                    self.doing = record.words
            case SettleOpened():
                channel = self.declaration.channel(record.channel)
                to = record.below
                self.doing = (
                    say("cooling down")
                    if to is None
                    else say("cooling down to {below:g} {unit}", below=to, unit=channel.unit)
                )
            case PassOpened():
                self.number, self.of = record.number, record.of
                name = self.declaration.workload(record.workload).name
                self.doing = f"{name}{say(', warm-up') if record.warm_up else ''}"
                self.pass_starts.append(record.t)
            case Sampled():
                self.now_s = record.t
                self.began_s = record.t if self.began_s is None else self.began_s
                self.samples.append((record.t, record.row))
            case PassEnded():
                self.doing = say("between passes")
            case AttemptClosed():
                self.step = self.waiting = None
                self.doing = ""
            case _:
                pass

    def _wait_or_go_on(self, state: str) -> None:
        """A step that waits for the tuner isn't under way; it is again once its values are being set."""
        if state == "WAITING":
            self.waiting, self.step = self.step or self.waiting, None
        elif state == "APPLYING" and self.waiting is not None:
            self.step, self.waiting = self.waiting, None
            self.began_s = None

    def left(self, expected_s: float) -> str:
        """Write the time left of an expected whole."""
        left = max(0.0, expected_s - self.lasted_s)
        return say("about {left} left", left=duration(round(left, -1))) if left >= 10 else say("nearly done")
