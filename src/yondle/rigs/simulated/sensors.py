"""What the simulated machine's sensors say: the true value seen through interval, noise, bias, drift, steps and dropouts.

Some mislead by nature: a reading that only repeats what was asked is no measurement, and says so in its `about`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from random import Random
from typing import NamedTuple

from yondle.language.saying import later, named, say
from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.rigs.simulated.parts import SensorPart
from yondle.rigs.simulated.world import PARKED_SHARE, World

_P, _M, _C, _W = Subsystem.PROCESSOR, Subsystem.MEMORY, Subsystem.COOLING, Subsystem.WHOLE
_G = Subsystem.GRAPHICS
_SUPPLY_LOSS, _BOARD_W = 1.12, 14.0
_BOARD_WARMER_K = 6.0


@dataclass(frozen=True, slots=True)
class _Kind:
    channel: Channel
    truth: Callable[[World], float]


def _kind(
    id_: str, name: str, unit: str, quantity: Quantity, subsystem: Subsystem, truth: Callable[[World], float],
    digits: int = 1, follows: str = "", about: str = "", of: str = "", limit: str = "",
) -> _Kind:  # fmt: skip
    return _Kind(Channel(id_, name, unit, quantity, subsystem, digits, follows, about, of, limit=limit), truth)


def _rpm(world: World) -> float:
    return world.rig.heat.fan_full_rpm * world.settings.fan_percent / 100.0


def _in_use(world: World) -> float:
    return 100.0 * (world.running is not None) or 100.0 * world.rig.chip.idle_activity


def _wall_w(world: World) -> float:
    return _SUPPLY_LOSS * (world.draw.power_w + world.graphics_draw.power_w + _BOARD_W)


def _board_c(world: World) -> float:
    return world.state.cooler_c + _BOARD_WARMER_K


def _pixels_in_use(world: World) -> float:
    run = world.running
    return 100.0 * run.load.graphics_use if run is not None else 0.0


def _lanes_reported(world: World) -> float:
    graphics, state = world.rig.graphics, world.state
    if graphics is None:
        return 0.0
    return float(graphics.lanes[round(state.values["link_width"])] if "link_width" in state.values else 16)


def _core_c(core: int) -> Callable[[World], float]:
    """The temperature of one core: the hottest is the die's; others lie between it and the cooler, each chip in its own way."""

    def truth(world: World) -> float:
        above_cooler = world.state.die_c - world.state.cooler_c
        share = world.core_shares[core] if core < world.settings.cores else PARKED_SHARE
        return world.state.cooler_c + share * above_cooler

    return truth


KINDS: dict[str, _Kind] = {
    kind.channel.id: kind
    for kind in (
        _kind("processor_temperature", later("Processor"), "°C", Quantity.TEMPERATURE, _P, lambda w: w.state.die_c),
        _kind("hottest_core", later("Hottest core"), "°C", Quantity.TEMPERATURE, _P, lambda w: w.state.die_c),
        _kind("core_clock_effective", later("Core clock"), "MHz", Quantity.CLOCK, _P, lambda w: w.draw.clock_ghz * 1000.0,
              0, "core_clock"),
        _kind("package_power", later("Package power"), "W", Quantity.POWER, _P, lambda w: w.draw.power_w, 1),
        _kind("core_voltage_measured", later("Core voltage"), "V", Quantity.VOLTAGE, _P, lambda w: w.draw.voltage_v, 3,
              "core_voltage"),
        _kind("core_voltage_asked", later("Core voltage as asked"), "V", Quantity.OTHER, _P,
              lambda w: w.settings.core_voltage_v, 3, "", later("repeats the setting; not a measurement")),
        _kind("fan_speed", later("Fan"), "rpm", Quantity.FAN, _C, _rpm, 0),
        _kind("cooler_temperature", later("Cooler"), "°C", Quantity.TEMPERATURE, _C, lambda w: w.state.cooler_c),
        _kind("board_temperature", later("Board"), "°C", Quantity.TEMPERATURE, _W, _board_c, 0),
        _kind("room_temperature", later("Room"), "°C", Quantity.TEMPERATURE, _W, lambda w: w.heat.room_c(w.state.t_s)),
        _kind("wall_power", later("Wall power"), "W", Quantity.POWER, _W, _wall_w, 0),
        _kind("in_use", later("In use"), "%", Quantity.USE, _P, _in_use, 0),
        _kind("power_limited", later("Power limit reached"), "", Quantity.FLAG, _P, lambda w: float(w.draw.power_limited), 0,
              "power_limit", of="package_power", limit=later("power limit")),
        _kind("heat_limited", later("Heat limit reached"), "", Quantity.FLAG, _P, lambda w: float(w.draw.heat_limited), 0,
              limit=later("heat limit")),
        _kind("core_errors", later("Core errors corrected"), "", Quantity.ERRORS, _P,
              lambda w: float(w.state.core_corrected), 0),
        _kind("memory_rate_effective", later("Memory rate"), "MT/s", Quantity.CLOCK, _M,
              lambda w: w.settings.memory_rate_mt_s, 0, "memory_rate"),
        _kind("memory_temperature", later("Memory"), "°C", Quantity.TEMPERATURE, _M, lambda w: w.state.memory_c),
        _kind("memory_errors", later("Memory errors corrected"), "", Quantity.ERRORS, _M,
              lambda w: float(w.state.memory_corrected), 0),
        _kind("graphics_clock_effective", later("Graphics clock"), "MHz", Quantity.CLOCK, _G,
              lambda w: w.graphics_draw.clock_mhz, 0, "graphics_clock"),
        _kind("graphics_temperature", later("Graphics"), "°C", Quantity.TEMPERATURE, _G, lambda w: w.state.graphics_c),
        _kind("graphics_power", later("Graphics power"), "W", Quantity.POWER, _G, lambda w: w.graphics_draw.power_w),
        _kind("graphics_in_use", later("Graphics in use"), "%", Quantity.USE, _G, _pixels_in_use, 0),
        _kind("graphics_power_limited", later("Graphics power limit reached"), "", Quantity.FLAG, _G,
              lambda w: float(w.graphics_draw.power_limited), 0, "graphics_power_limit", of="graphics_power",
              limit=later("graphics power limit")),
        _kind("link_lanes", later("Link lanes as reported"), "", Quantity.OTHER, _G, _lanes_reported, 0, "",
              later("what was agreed on; a splitter behind it may use fewer")),
    )
}  # fmt: skip


EACH_CORE = "each_core"
"""The entry of a rig file that stands for a temperature of each core."""


def seen_by(parts: Mapping[str, SensorPart], cores: int) -> list[tuple[_Kind, SensorPart]]:
    """List the sensors of a rig file in its order, those of each core at the end; raises KeyError for one there isn't."""
    found = [(_said(KINDS[name]), part) for name, part in parts.items() if name != EACH_CORE]
    for core in range(cores if EACH_CORE in parts else 0):
        name = say("Core {core}", core=core)
        channel = Channel(f"core_temperature_{core}", name, "°C", Quantity.TEMPERATURE, _P, core=core)
        found.append((_Kind(channel, _core_c(core)), parts[EACH_CORE]))
    return found


def _said(kind: _Kind) -> _Kind:
    """Put the words of a channel into the reader's language."""
    of = kind.channel
    return replace(kind, channel=replace(of, name=named(of.name), about=named(of.about), limit=named(of.limit)))


WHOLE = 100.0
"""The most of itself that anything can be in use, in %, whatever noise its sensor has."""


class _Read(NamedTuple):
    """What one sensor takes to be read, looked up once: they are read hundreds of thousands of times in an evening."""

    truth: Callable[[World], float]
    interval_s: float
    dropout_chance: float
    bias: float
    drift_per_h: float
    noise: float
    quantum: float
    is_share: bool
    random: Callable[[], float]
    gauss: Callable[[float, float], float]

    @classmethod
    def of(cls, kind: _Kind, part: SensorPart, chance: Random) -> _Read:
        """Look everything up."""
        return cls(
            kind.truth, part.interval_s, part.dropout_chance, part.bias, part.drift_per_h, part.noise, part.quantum,
            kind.channel.quantity is Quantity.USE, chance.random, chance.gauss,
        )  # fmt: skip


class Sensors:
    """The rig's sensors in the order of its file; a look at them costs the world nothing."""

    def __init__(self, world: World, parts: dict[str, SensorPart]) -> None:
        self._world = world
        world.state.looks += 1
        looks = f"{world.rig.rig.seed}/sensors/{world.state.looks}"
        chance, of_cores = Random(looks), Random(f"{looks}/cores")
        self._reads = [
            _Read.of(kind, part, chance if kind.channel.core is None else of_cores)
            for kind, part in seen_by(parts, world.rig.chip.cores)
        ]
        self._held: list[Reading] = [None] * len(self._reads)
        self._seen_s = [-1e18] * len(self._reads)

    def sample(self) -> tuple[Reading, ...]:
        """Read every sensor once."""
        world, held, seen = self._world, self._held, self._seen_s
        now = world.state.t_s
        for i, (truth, interval_s, dropout, bias, drift_per_h, noise, quantum, share, random, gauss) in enumerate(
            self._reads
        ):
            if now - seen[i] < interval_s:
                continue
            seen[i] = now
            if dropout and random() < dropout:
                held[i] = None
                continue
            value = truth(world) + bias
            if drift_per_h:
                value += drift_per_h * now / 3600.0
            if noise:
                value += gauss(0.0, noise)
            if share:
                value = 0.0 if value < 0.0 else WHOLE if value > WHOLE else value
            if quantum:
                value = round(value / quantum) * quantum
            held[i] = round(value, 6)
        return tuple(held)
