"""What a running test is at, gathered from the engine's records: stage, pass k of n, time left, the last readings."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field, replace

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
from yondle.model.quantities import duration, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Reading
from yondle.model.steps import COMPARED_STAGE, SCORE_STAGE, Check, PassRecord, Stage, StageKind
from yondle.planning.ladder import passes_of

KEPT_SAMPLES = 600
_MUCH_LONGER = 1.25


@dataclass(slots=True)
class Part:
    """A part of a test: its stage, how many passes it has, and how many of them are over."""

    stage: str
    name: str
    of: int
    over: int = 0


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
    parts: list[Part] = field(default_factory=list)
    """What the test consists of, in order: its scores, then every load."""
    scores: dict[str, list[float]] = field(default_factory=dict)
    """Counted scores of the step's own settings so far, by workload."""
    told_left_s: float | None = None

    @property
    def running(self) -> bool:
        """Tell whether a test is under way."""
        return self.step is not None

    @property
    def share(self) -> float | None:
        """How much of the passes is over; None where no test is under way."""
        return sum(p.over for p in self.parts) / max(sum(p.of for p in self.parts), 1) if self.running else None

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
                self.scores.clear()
                self.told_left_s = None
                self.parts = [self._part(record.check, stage) for stage in record.check.stages]
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
                    else say("cooling down to {below}", below=quantity(to, channel.unit))
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
                self._count(record.record)
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

    def _part(self, check: Check, stage: Stage) -> Part:
        scores = stage.kind is StageKind.SCORE
        name = say("scores") if scores else self.declaration.workload(stage.workloads[0]).name
        return Part(stage.name, name, passes_of(replace(check, stages=(stage,))))

    def _count(self, record: PassRecord) -> None:
        compared = record.stage == COMPARED_STAGE
        part = next((p for p in self.parts if p.stage == record.stage or (compared and p.stage == SCORE_STAGE)), None)
        if part is not None and not record.disturbed:
            part.over = min(part.over + 1, part.of)
        if (
            record.stage == SCORE_STAGE
            and record.counts
            and record.result is not None
            and record.result.score is not None
        ):
            self.scores.setdefault(record.workload, []).append(record.result.score)

    def left(self, expected_s: float) -> str:
        """Write the time left of an expected whole, corrected by how long the passes took so far.

        It only falls, unless the test takes much longer than was thought: a figure that goes up and down says nothing.
        """
        share = self.share or 0.0
        left = max(0.0, expected_s - self.lasted_s)
        if share > 0.0:
            left = (1.0 - share) * left + share * self.lasted_s * (1.0 - share) / share
        before = self.told_left_s
        self.told_left_s = left if before is None or left < before or left > _MUCH_LONGER * before + 60.0 else before
        return say("about {left} left", left=duration(_rounded(self.told_left_s))) if left >= 10 else say("nearly done")


def _rounded(seconds: float) -> float:
    """Round to what can be meant: whole minutes from ten on, half ones from two on, else ten seconds."""
    step = 60.0 if seconds >= 600.0 else 30.0 if seconds >= 120.0 else 10.0
    return max(round(seconds / step) * step, 10.0)
