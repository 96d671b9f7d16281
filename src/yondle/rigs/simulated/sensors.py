"""What the simulated machine's sensors say: the true value seen through interval, noise, bias, steps and dropouts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from random import Random

from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.rigs.simulated.rigfile import SensorPart
from yondle.rigs.simulated.world import World

_P, _C, _W = Subsystem.PROCESSOR, Subsystem.COOLING, Subsystem.WHOLE


@dataclass(frozen=True, slots=True)
class _Kind:
    channel: Channel
    truth: Callable[[World], float]


def _kind(
    id_: str, name: str, unit: str, quantity: Quantity, subsystem: Subsystem, truth: Callable[[World], float],
    digits: int = 1, follows: str = "",
) -> _Kind:  # fmt: skip
    return _Kind(Channel(id_, name, unit, quantity, subsystem, digits, follows), truth)


def _rpm(world: World) -> float:
    return world.rig.heat.fan_full_rpm * world.state.values["fan_level"] / 100.0


def _in_use(world: World) -> float:
    return 100.0 * (world.running is not None) or 100.0 * world.rig.chip.idle_activity


KINDS: dict[str, _Kind] = {
    kind.channel.id: kind
    for kind in (
        _kind("processor_temperature", "Processor", "°C", Quantity.TEMPERATURE, _P, lambda w: w.state.die_c),
        _kind("hottest_core", "Hottest core", "°C", Quantity.TEMPERATURE, _P, lambda w: w.state.die_c),
        _kind("core_clock_effective", "Core clock", "MHz", Quantity.CLOCK, _P, lambda w: w.draw.clock_ghz * 1000.0,
              0, "core_clock"),
        _kind("package_power", "Package power", "W", Quantity.POWER, _P, lambda w: w.draw.power_w, 1),
        _kind("core_voltage_measured", "Core voltage", "V", Quantity.VOLTAGE, _P, lambda w: w.draw.voltage_v, 3),
        _kind("fan_speed", "Fan", "1/min", Quantity.FAN, _C, _rpm, 0),
        _kind("cooler_temperature", "Cooler", "°C", Quantity.TEMPERATURE, _C, lambda w: w.state.cooler_c),
        _kind("room_temperature", "Room", "°C", Quantity.TEMPERATURE, _W, lambda w: w.heat.room_c(w.state.t_s)),
        _kind("in_use", "In use", "%", Quantity.USE, _P, _in_use, 0),
        _kind("power_limited", "Power limit reached", "", Quantity.FLAG, _P, lambda w: float(w.draw.power_limited), 0),
        _kind("heat_limited", "Heat limit reached", "", Quantity.FLAG, _P, lambda w: float(w.draw.heat_limited), 0),
    )
}  # fmt: skip


class Sensors:
    """The rig's sensors in the order of its file; a look at them costs the world nothing."""

    def __init__(self, world: World, parts: dict[str, SensorPart]) -> None:
        self._world = world
        world.state.looks += 1
        self._chance = Random(f"{world.rig.rig.seed}/sensors/{world.state.looks}")
        self._parts = [(KINDS[name].truth, part) for name, part in parts.items()]
        self._held: list[Reading] = [None] * len(self._parts)
        self._seen_s = [-1e18] * len(self._parts)

    def sample(self) -> tuple[Reading, ...]:
        """Read every sensor once."""
        now = self._world.state.t_s
        gauss, chance = self._chance.gauss, self._chance.random
        held, seen = self._held, self._seen_s
        for i, (truth, part) in enumerate(self._parts):
            if now - seen[i] < part.interval_s:
                continue
            seen[i] = now
            if part.dropout_chance and chance() < part.dropout_chance:
                held[i] = None
                continue
            value = truth(self._world) + part.bias
            if part.noise:
                value += gauss(0.0, part.noise)
            if part.quantum:
                value = round(value / part.quantum) * part.quantum
            held[i] = round(value, 6)
        return tuple(held)
