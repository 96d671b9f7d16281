"""What the engine needs from outside; rigs, clocks and logbooks satisfy these by shape."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Protocol

from yondle.model.events import Durable
from yondle.model.knobs import Change, Setup
from yondle.model.rigs import KnobReply, RigDeclaration
from yondle.model.sensors import Reading
from yondle.model.workloads import PassResult


class Clock(Protocol):
    """Time as the rig has it: seconds for durations, a date for the record."""

    @property
    def block_s(self) -> float:
        """How many seconds of samples are gathered before they are written."""

    def now(self) -> float:
        """Seconds on a clock that never goes back."""

    def wall(self) -> datetime:
        """The date and time, with its offset."""

    def wait(self, seconds: float) -> None:
        """Let time pass."""

    def slept_s(self) -> float:
        """Seconds that the machine has been suspended in all; what grows in a pass makes it a disturbed one."""


class RunningWorkload(Protocol):
    """A workload under way."""

    def poll(self) -> PassResult | None:
        """Give the result once it is over, None while it runs; raises MachineDownError."""

    def stop(self) -> None:
        """End it now, whatever it takes; harmless when it is over."""


class Rig(Protocol):
    """A machine that can be set, read and loaded. Every method but `bring_back` may raise MachineDownError."""

    @property
    def declaration(self) -> RigDeclaration:
        """Knobs, sensors, workloads and ceilings of the rig."""

    def boot_id(self) -> str:
        """Name the present boot; it changes when the machine restarts."""

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """Describe what the machine kept of a crash since a time in seconds of the epoch; empty where it kept nothing."""

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask for knob values; a value refused is a reply, never an exception. Some are in force only after a restart."""

    def restart(self) -> float:
        """Restart in good order so that values come into force; returns the seconds until the machine answers.

        On the machine Yondle runs on this never returns. Raises KnownError where Yondle may not restart it.
        """

    def read_back(self) -> Setup:
        """Read the values in force of all knobs that can be read."""

    def gone_back(self) -> str:
        """Say why values may have gone back by themselves since they were set; nothing where none can have."""

    def pending(self) -> Mapping[str, float]:
        """Give the values that would come into force with the next restart, as far as the machine tells."""

    def sample(self) -> tuple[Reading, ...]:
        """Read all channels once, in the order of the declaration."""

    def start(self, workload: str, seconds: float, setup: Setup) -> RunningWorkload:
        """Start a pass of a workload."""

    def bring_back(self) -> float:
        """Start a machine that went down again; returns the seconds until it answers."""

    def facts(self) -> dict[str, str | float]:
        """Give the conditions as they are now."""

    def close(self) -> tuple[Change, ...]:
        """Let go of everything held; gives what was put back thereby, as read before and after."""


class Hands(Protocol):
    """Whoever enters values in firmware setup: the tuner, or a simulated rig's owner."""

    def enter(self, values: Mapping[str, float]) -> tuple[KnobReply, ...] | None:
        """Enter values for the next restart; None when that takes the tuner, who is then to be waited for."""


class Recorder(Protocol):
    """Where durable records go; when `take` returns, the record outlives the program."""

    def take(self, record: Durable) -> None:
        """Keep a record; raises KnownError when it can't be kept."""
