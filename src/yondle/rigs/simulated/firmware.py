"""The simulated firmware: what is reported, what is in force and what waits for a restart, and whether the machine starts.

Live values are lost at every restart; firmware values stay, and are lost when a machine that can't start needs its
firmware reset. What was swapped by hand stays fitted through that, too.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from random import Random

from yondle.model.knobs import Knob, When
from yondle.model.verdicts import Failure
from yondle.rigs.simulated import memory
from yondle.rigs.simulated.faults import HiddenEdge
from yondle.rigs.simulated.graphics import Graphics
from yondle.rigs.simulated.knobs import Taken
from yondle.rigs.simulated.parts import LoadPart
from yondle.rigs.simulated.rigfile import RigFile
from yondle.rigs.simulated.settings import resolve

MEMORY_SETTINGS = frozenset(
    {
        "memory_rate", "memory_ratio", "controller_ratio", "cas", "trcd", "trp", "tras", "trfc", "refresh_interval",
        "command_rate", "memory_voltage", "controller_voltage", "memory_channels", "bus_clock",
    }
)  # fmt: skip
"""Changing one of these makes the next start train the memory."""

_SLOW_WITHIN_SHARE = 0.6
"""So near to where it can't start at all, memory takes several goes at its training."""


@dataclass(frozen=True, slots=True)
class Start:
    """How a start went: None and a longer time, or the failure with the code the board shows."""

    failure: Failure | None
    code: str = ""
    extra_s: float = 0.0


class Firmware:
    """Takes values, keeps them over a restart, and decides whether the machine comes up with them."""

    def __init__(self, rig: RigFile, knobs: tuple[Knob, ...], edge: HiddenEdge, graphics: Graphics | None) -> None:
        self._rig = rig
        self._knobs = knobs
        self._edge = edge
        self._graphics = graphics
        self.stock = {knob.id: knob.stock for knob in knobs}

    def after_restart(
        self, values: Mapping[str, float], pending: Mapping[str, Taken], reset: bool
    ) -> tuple[dict[str, float], dict[str, float]]:
        """Give the values in force and those reported instead after a restart, or after a reset of the firmware."""
        now, reported = {}, {}
        for knob in self._knobs:
            swapped = self._rig.knobs[knob.id].swapped
            taken = pending.get(knob.id)
            if taken is not None and (not reset or swapped):
                now[knob.id] = taken.in_force
                if taken.reported != taken.in_force:
                    reported[knob.id] = taken.reported
            elif knob.when is When.LIVE or (reset and not swapped and knob.when is not When.AT_HAND):
                now[knob.id] = knob.stock
            else:
                now[knob.id] = values[knob.id]
        return now, reported

    def start(
        self, values: Mapping[str, float], trained: bool, die_c: float, memory_c: float, idle: LoadPart, chance: Random
    ) -> Start:
        """Try to start the machine with these values; `trained` tells that the memory settings are not new."""
        rig, s = self._rig, resolve(self._rig, values)
        core_edge = self._edge.clock_mhz(s.core_voltage_v, die_c, idle)
        if not self._edge.starts(s.core_clock_ghz * 1000.0, core_edge):
            return Start(Failure.NEVER_STARTED, rig.codes.core)
        if self._graphics is not None and not self._graphics.starts(s.graphics_clock_mhz, memory_c):
            return Start(Failure.STOPPED_IN_START, rig.codes.graphics)
        part = rig.memory_edge
        if part is None:
            return Start(None)
        held = memory.edge(part, s, memory_c, 0.0)
        beyond = (s.memory_rate_mt_s - held.rate_mt_s) / part.start_margin_mt_s
        if beyond > 1.0:
            return Start(Failure.STOPPED_IN_START, rig.codes.memory)
        if trained:
            return Start(None)
        goes = 1 if beyond < _SLOW_WITHIN_SHARE else 1 + chance.randrange(1, 4)
        return Start(None, extra_s=goes * rig.check.training_s)
