"""Who enters values in firmware setup: the owner of a simulated rig, or nobody but the tuner, who is waited for."""

from __future__ import annotations

from collections.abc import Mapping

from yondle.engine.ports import Clock
from yondle.model.rigs import KnobReply
from yondle.rigs.simulated.rig import SimulatedRig


class VirtualHands:
    """Enters values on a simulated rig, which takes its owner a while."""

    def __init__(self, rig: SimulatedRig, clock: Clock) -> None:
        self._rig = rig
        self._clock = clock

    def enter(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Go to the machine and enter the values."""
        self._clock.wait(self._rig.declaration.entry_s)
        return self._rig.enter(values)


class NobodyThere:
    """No hands but the tuner's."""

    def enter(self, values: Mapping[str, float]) -> None:
        """Nothing can be entered without the tuner."""
