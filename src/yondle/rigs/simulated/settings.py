"""What knob values mean physically: one set of clocks, voltages, limits and timings, whichever knobs a machine has."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yondle.rigs.simulated.rigfile import RigFile

_STOCK_FAN_PERCENT = 40.0


@dataclass(frozen=True, slots=True)
class ResolvedSettings:
    """The physical settings in force; units stand in the names, timings are in memory clocks."""

    core_clock_ghz: float
    vector_offset_ghz: float
    core_voltage_v: float
    load_line_share: float
    power_limit_w: float
    heat_limit_c: float
    fan_percent: float
    cores: int
    threads: int
    bus_mhz: float
    memory_rate_mt_s: float
    half_ratio: bool
    cas: float
    trcd: float
    trp: float
    tras: float
    trfc: float
    refresh_interval: float
    two_cycle: bool
    memory_voltage_v: float
    controller_voltage_v: float
    channels: int
    graphics_clock_mhz: float
    graphics_memory_mhz: float
    graphics_power_w: float
    graphics_fan_percent: float
    lanes: int


def resolve(rig: RigFile, values: Mapping[str, float]) -> ResolvedSettings:
    """Work out the physical settings from knob values; what no knob sets comes from the rig file's tables."""
    chip, memory, graphics = rig.chip, rig.memory, rig.graphics
    bus = values.get("bus_clock", chip.bus_clock_mhz)
    if "core_ratio" in values:
        clock = bus * values["core_ratio"]
    else:
        clock = values.get("core_clock", chip.clock_mhz or chip.lowest_clock_mhz) * bus / chip.bus_clock_mhz
    power = values.get("power_limit", chip.power_limit_w)
    mode = rig.modes[round(values["power_mode"])] if "power_mode" in values else None
    if mode is not None:
        power *= mode.power_share
        clock = min(clock, mode.clock_up_to_mhz or clock)
    if "memory_ratio" in values:
        rate = 2.0 * bus * values["memory_ratio"]
    else:
        rate = values.get("memory_rate", memory.rate_mt_s) * bus / chip.bus_clock_mhz
    lanes = 16
    if graphics is not None:
        asked = graphics.lanes[round(values["link_width"])] if "link_width" in values else graphics.lanes[-1]
        lanes = min(asked, graphics.lanes_in_force_at_most)
    return ResolvedSettings(
        core_clock_ghz=clock / 1000.0,
        vector_offset_ghz=values.get("vector_offset", 0.0) / 1000.0,
        core_voltage_v=values.get("core_voltage", chip.voltage_v or rig.edge.at_v),
        load_line_share=chip.load_line_levels[round(values["load_line"])] if "load_line" in values else 1.0,
        power_limit_w=power,
        heat_limit_c=min(values.get("heat_limit", chip.heat_limit_c), chip.heat_limit_c),
        fan_percent=values.get("fan_level", _STOCK_FAN_PERCENT),
        cores=round(values.get("cores_in_use", chip.cores)),
        threads=round(values.get("threads_per_core", 1)),
        bus_mhz=bus,
        memory_rate_mt_s=rate,
        half_ratio=values.get("controller_ratio", 0.0) >= 1,
        cas=values.get("cas", memory.cas),
        trcd=values.get("trcd", memory.trcd),
        trp=values.get("trp", memory.trp),
        tras=values.get("tras", memory.tras),
        trfc=values.get("trfc", memory.trfc),
        refresh_interval=values.get("refresh_interval", memory.refresh_interval),
        two_cycle=values.get("command_rate", 0.0) >= 1,
        memory_voltage_v=values.get("memory_voltage", memory.voltage_v),
        controller_voltage_v=values.get("controller_voltage", memory.controller_voltage_v),
        channels=memory.channel_choices[round(values["memory_channels"])]
        if "memory_channels" in values
        else memory.channels,
        graphics_clock_mhz=values.get("graphics_clock", graphics.clock_mhz if graphics else 0.0),
        graphics_memory_mhz=values.get("graphics_memory_clock", graphics.memory_clock_mhz if graphics else 0.0),
        graphics_power_w=values.get("graphics_power_limit", graphics.power_limit_w if graphics else 0.0),
        graphics_fan_percent=values.get("graphics_fan", graphics.fan_percent if graphics else 0.0),
        lanes=lanes,
    )
