"""Virtual time: waiting moves the simulated world; free-running at once, or paced against a real clock."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Protocol

from yondle.rigs.simulated.world import World

BLOCK_S = 2.0
FREE_RUNNING_BLOCK_S = 60.0


class Sleeper(Protocol):
    """A real clock to pace against: seconds now, and a wait."""

    def now(self) -> float:
        """Seconds on a clock that never goes back."""

    def wait(self, seconds: float) -> None:
        """Wait."""


class VirtualClock:
    """The rig's own clock. `pace` is virtual seconds per real second, or None for as fast as it goes."""

    def __init__(self, world: World, starts_at: datetime, real: Sleeper, pace: float | None = None) -> None:
        self._world = world
        self._starts_at = starts_at
        self._real = real
        self._pace = pace
        self._due: float | None = None
        self._slept_s = 0.0

    @property
    def pace(self) -> float | None:
        """Virtual seconds per real second, or None when free-running."""
        return self._pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace from the next wait on."""
        self._pace = pace
        self._due = None

    @property
    def block_s(self) -> float:
        """How many virtual seconds of samples make a block: two real seconds' worth when paced."""
        return FREE_RUNNING_BLOCK_S if self._pace is None else BLOCK_S * self._pace

    def now(self) -> float:
        """Seconds since the rig's history began."""
        return self._world.state.t_s

    def wall(self) -> datetime:
        """The date and time in the rig's world."""
        return self._starts_at + timedelta(seconds=self._world.state.t_s)

    def slept_s(self) -> float:
        """Seconds the virtual machine has been suspended."""
        return self._slept_s

    def suspend(self, seconds: float) -> None:
        """Suspend the virtual machine: nothing runs, everything cools, and time goes on outside."""
        self._world.sleep(seconds)
        self._slept_s += seconds

    def wait(self, seconds: float) -> None:
        """Let virtual time pass."""
        if self._pace is not None:
            now = self._real.now()
            due = (self._due if self._due is not None and now - self._due < 1.0 else now) + seconds / self._pace
            if due > now:
                self._real.wait(due - now)
            self._due = due
        self._world.advance(seconds)
