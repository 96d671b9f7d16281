"""The one stream of records the engine emits; logbook, window and command line are subscribers to it.

Every record but `Sampled` and `StateChanged` is durable: when `emit` returns, it is on the disk. The ones named
'… Opened' announce an act and come before it, so an act without its answer tells how far a dead program had come.
"""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.knobs import Setup
from yondle.model.rigs import KnobReply
from yondle.model.sensors import Reading, SampleBlock
from yondle.model.steps import Check, PassRecord, StartAnswer, Step
from yondle.model.verdicts import Outcome


@dataclass(frozen=True, slots=True)
class StepOpened:
    """Act to come: a step goes on trial; `home` is the setup the rig returns to should it fail."""

    attempt: int
    step: Step
    home: Setup
    home_step: int | None
    boot_id: str
    at: str
    t: float
    conditions: dict[str, str | float]
    check: Check
    derived: dict[str, float]


@dataclass(frozen=True, slots=True)
class ApplyOpened:
    """Act to come: these values are about to be asked of the machine."""

    attempt: int
    setup: Setup


@dataclass(frozen=True, slots=True)
class Applied:
    """The machine answered every value, and this is what it reads back."""

    attempt: int
    replies: tuple[KnobReply, ...]
    read_back: Setup


@dataclass(frozen=True, slots=True)
class EntryOpened:
    """Act to come: somebody enters these values in firmware setup, or swaps the part, and the machine restarts.

    `setup` is the whole setup the rig is to come to; `putting_back` tells that it isn't on trial but where the rig belongs.
    """

    attempt: int
    values: dict[str, float]
    setup: Setup
    putting_back: bool
    boot_id: str


@dataclass(frozen=True, slots=True)
class Entered:
    """The tuner has answered: whether it started, and else where it stopped and the code the board showed."""

    attempt: int
    answer: StartAnswer


@dataclass(frozen=True, slots=True)
class RestartOpened:
    """Act to come: the machine restarts so that values come into force."""

    attempt: int
    values: dict[str, float]
    boot_id: str


@dataclass(frozen=True, slots=True)
class Restarted:
    """The machine answers again."""

    attempt: int
    boot_id: str


@dataclass(frozen=True, slots=True)
class SettleOpened:
    """Act to come: the machine idles until a sensor has come below a value, or falls no further where that is None."""

    attempt: int
    channel: str
    below: float | None


@dataclass(frozen=True, slots=True)
class Settled:
    """The machine has idled long enough, or as long as allowed."""

    attempt: int
    waited_s: float
    reached: bool


@dataclass(frozen=True, slots=True)
class PassOpened:
    """Act to come: a pass starts. `number` of `of` counts through the whole check."""

    attempt: int
    ordinal: int
    stage: str
    workload: str
    round: int
    warm_up: bool
    number: int
    of: int
    expected_s: float
    t: float


@dataclass(frozen=True, slots=True)
class BlockRecorded:
    """A second or two of samples; `ordinal` is the pass they belong to, or None between passes."""

    attempt: int
    ordinal: int | None
    block: SampleBlock


@dataclass(frozen=True, slots=True)
class PassEnded:
    """A pass is over, however it went."""

    attempt: int
    record: PassRecord


@dataclass(frozen=True, slots=True)
class VerdictGiven:
    """The attempt has its verdict; the rig has still to be brought to a known setup."""

    attempt: int
    step: int
    outcome: Outcome


@dataclass(frozen=True, slots=True)
class PutBackOpened:
    """Act to come: the rig is brought to the setup it shall rest at; `attempt` is 0 outside any test."""

    attempt: int
    setup: Setup
    position: int | None = None


@dataclass(frozen=True, slots=True)
class AttemptClosed:
    """The rig rests at a setup that was read back; `position` is the step it stands for."""

    attempt: int
    step: int
    rests_at: Setup
    verified: bool
    position: int | None
    at: str


@dataclass(frozen=True, slots=True)
class PositionMoved:
    """The tuner went back to an earlier step, whose setup is in force again."""

    position: int | None
    rests_at: Setup
    verified: bool
    at: str


@dataclass(frozen=True, slots=True)
class Sampled:
    """One reading of every channel, for live display only; the durable copy comes as `BlockRecorded`."""

    attempt: int
    t: float
    row: tuple[Reading, ...]


@dataclass(frozen=True, slots=True)
class StateChanged:
    """The engine went from one state to another."""

    state: str
    words: str


Durable = (
    StepOpened
    | ApplyOpened
    | Applied
    | EntryOpened
    | Entered
    | RestartOpened
    | Restarted
    | SettleOpened
    | Settled
    | PassOpened
    | BlockRecorded
    | PassEnded
    | VerdictGiven
    | PutBackOpened
    | AttemptClosed
    | PositionMoved
)
Record = Durable | Sampled | StateChanged
