"""What can be read on a Linux machine: each sensor as a channel and the way to read it.

Files as in the kernel's Documentation: hwmon/sysfs-interface, power/powercap, admin-guide/pm/cpufreq,
ABI/testing/sysfs-devices-system-cpu (thermal_throttle), driver-api/edac, driver-api/thermal.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

from yondle.language.saying import say
from yondle.model.knobs import Subsystem
from yondle.model.quantities import quantity
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.rigs.linux.chips import DRIVES, Chip, chips_of
from yondle.rigs.linux.files import Source, Tree
from yondle.rigs.linux.graphics import graphics_probes, link_probes
from yondle.rigs.linux.library import library_probes
from yondle.rigs.linux.probe import BELOW_CRITICAL, CREDIBLE_C, EnergyMeter, Numbers, Probe, plain, slug

_P, _G, _M, _C, _W = (
    Subsystem.PROCESSOR, Subsystem.GRAPHICS, Subsystem.MEMORY, Subsystem.COOLING, Subsystem.WHOLE,
)  # fmt: skip


THROTTLES = "throttles"
_CORE = re.compile(r"Core (\d+)")
"""How the driver of a processor's sensors labels that of one core."""
LEAST_ROOM_K = 10.0
"""A part at rest is further than this from where it shuts itself down."""


@dataclass(frozen=True, slots=True)
class _Kind:
    """One kind of hwmon file: what it measures, in which unit, and how many of its own make one."""

    pattern: str
    quantity: Quantity
    unit: str
    scale: float
    digits: int


_HWMON = (
    _Kind("temp*_input", Quantity.TEMPERATURE, "°C", 1e3, 1),
    _Kind("fan*_input", Quantity.FAN, "rpm", 1.0, 0),
    _Kind("in*_input", Quantity.VOLTAGE, "V", 1e3, 3),
    _Kind("curr*_input", Quantity.OTHER, "A", 1e3, 2),
    _Kind("power*_average", Quantity.POWER, "W", 1e6, 1),
    _Kind("power*_input", Quantity.POWER, "W", 1e6, 1),
    _Kind("freq*_input", Quantity.CLOCK, "MHz", 1e6, 0),
)
_SUBSYSTEM_OF_CHIP = (
    (("coretemp", "k10temp", "cpu_thermal"), _P),
    (("amdgpu", "radeon", "nouveau", "xe", "i915"), _G),
    (("jc42", "spd5118"), _M),
    (DRIVES, Subsystem.STORAGE),
)


def find_probes(tree: Tree, now: Callable[[], float], energies: Numbers | None = None) -> list[Probe]:
    """Find everything that can be read besides use and load; `now` dates energies, in seconds of a monotonic clock.

    Counters that may not be read here are read through `energies`.
    """
    found = [
        *_clocks(tree),
        *_hwmon(tree),
        *_energies(tree, now),
        *_thermal_zones(tree),
        *_packages(tree, now, energies),
    ]
    found += [*graphics_probes(tree), *library_probes(tree.root)]
    return _named_apart([*found, *link_probes(tree), *_counters(tree)])


def _hwmon(tree: Tree) -> Iterator[Probe]:
    for each in chips_of(tree):
        chip, subsystem = each.folder, _subsystem_of(each)
        for kind in _HWMON:
            for file in tree.found(str((chip / kind.pattern).relative_to(tree.root))):
                stem = file.name.rsplit("_", 1)[0]
                if kind.pattern == "power*_input" and (chip / f"{stem}_average").exists():
                    continue
                label = tree.text(chip / f"{stem}_label") or stem
                where = _C if kind.quantity is Quantity.FAN else subsystem
                core = _CORE.fullmatch(label) if where is _P else None
                id_, name = each.of(label)
                channel = Channel(
                    slug(id_),
                    name,
                    kind.unit,
                    kind.quantity,
                    where,
                    kind.digits,
                    core=int(core[1]) if core is not None else None,
                )
                probe = plain(channel, tree.source(file), kind.scale, str(file))
                critical = tree.number(chip / f"{stem}_crit") if kind.quantity is Quantity.TEMPERATURE else None
                if critical is None:
                    yield probe
                    continue
                junk = _junk(subsystem, critical / kind.scale, probe.read())
                yield replace(probe, most=None if junk else critical / kind.scale - BELOW_CRITICAL, junk=junk)


def _subsystem_of(chip: Chip) -> Subsystem:
    return next((subsystem for names, subsystem in _SUBSYSTEM_OF_CHIP if chip.name in names), _W)


def _junk(part: Subsystem, critical_c: float, now_c: Reading) -> str:
    """Say why a critical temperature is none to go by: boards tell all kinds of numbers; nothing where it is one."""
    if part is _W:
        return say("what it calls critical isn't of a processor, graphics, memory or storage")
    if not CREDIBLE_C[0] <= critical_c <= CREDIBLE_C[1]:
        return say("no part shuts itself down at {critical}", critical=_degrees(critical_c))
    if now_c is not None and now_c > critical_c - LEAST_ROOM_K:
        now, critical = _degrees(now_c), _degrees(critical_c)
        return say("it is at {now} at rest, next to its critical {critical}", now=now, critical=critical)
    return ""


def _degrees(told_c: float) -> str:
    return quantity(told_c, "°C", 0 if told_c.is_integer() else 1)


def _thermal_zones(tree: Tree) -> Iterator[Probe]:
    """Zones that no hwmon chip shows; kernels show most zones there too, under the same type."""
    shown = {tree.text(chip / "name") for chip in tree.found("sys/class/hwmon/hwmon*")}
    for zone in tree.found("sys/class/thermal/thermal_zone*"):
        kind = tree.text(zone / "type")
        if kind and kind.replace("-", "_") not in shown and tree.number(zone / "temp") is not None:
            channel = Channel(slug(f"zone_{kind}"), f"{kind} (zone)", "°C", Quantity.TEMPERATURE, _W, 1)
            yield plain(channel, tree.source(zone / "temp"), 1e3, str(zone / "temp"))


def _clocks(tree: Tree) -> Iterator[Probe]:
    """The lowest and the mean clock of all processors, and that of each processor or group of them that share one."""
    files = [policy / "scaling_cur_freq" for policy in tree.found("sys/devices/system/cpu/cpufreq/policy*")]
    sources = {file: tree.source(file) for file in files if tree.number(file) is not None}
    if not sources:
        return

    def of_all(choose: Callable[[list[float]], float]) -> Callable[[], Reading]:
        def read() -> Reading:
            values = [v for source in sources.values() if (v := source.number()) is not None]
            return round(choose(values) / 1e3, 1) if values else None

        return read

    where = f"{files[0].parent.parent}/policy*/scaling_cur_freq"
    mean = Channel("core_clock_mean", say("Core clock, mean"), "MHz", Quantity.CLOCK, _P, 0)
    lowest = Channel("core_clock_lowest", say("Core clock, lowest"), "MHz", Quantity.CLOCK, _P, 0)
    yield Probe(mean, of_all(lambda values: sum(values) / len(values)), where)
    yield Probe(lowest, of_all(min), where)
    for file, source in sources.items() if len(sources) > 1 else ():
        cpu = int(file.parent.name.removeprefix("policy"))
        name = say("Clock of processor {cpu}", cpu=cpu)
        channel = Channel(f"cpu{cpu}_clock", name, "MHz", Quantity.CLOCK, _P, 0, core=cpu)
        yield plain(channel, source, 1e3, str(file))


def _packages(tree: Tree, now: Callable[[], float], energies: Numbers | None) -> Iterator[Probe]:
    for zone in tree.found("sys/class/powercap/*:*"):
        readable = tree.number(zone / "energy_uj") is not None
        if not readable and (energies is None or not (zone / "energy_uj").exists()):
            continue
        energy = tree.source(zone / "energy_uj").number if readable else partial(_told_of, energies, zone.name)
        name = tree.text(zone / "name") or zone.name
        meter = EnergyMeter(energy, tree.number(zone / "max_energy_range_uj"), now)
        parent = tree.text(zone / "../name") if zone.name.count(":") > 1 else ""
        words = say("{name} of {parent}", name=name, parent=parent) if parent else name
        id_ = slug(f"power_{name} of {parent}" if parent else f"power_{name}")
        subsystem = _M if name == "dram" else _P
        channel = Channel(id_, say("Power, {words}", words=words), "W", Quantity.POWER, subsystem, 1)
        yield Probe(channel, meter.watts, str(zone / "energy_uj"), through_helper=not readable)


def _told_of(energies: Numbers | None, zone: str) -> Reading:
    told = energies() if energies is not None else None
    return (told or {}).get(zone)


def _energies(tree: Tree, now: Callable[[], float]) -> Iterator[Probe]:
    """Power from the counters of energy that some drivers show instead: graphics, accelerators, whole boards."""
    for each in chips_of(tree):
        chip = each.folder
        if list(chip.glob("power*_average")) or list(chip.glob("power*_input")):
            continue
        for file in tree.found(str((chip / "energy*_input").relative_to(tree.root))):
            if tree.number(file) is None:
                continue
            stem = file.name.rsplit("_", 1)[0]
            label = tree.text(chip / f"{stem}_label") or stem
            id_, name = each.of(label)
            words = say("Power, {words}", words=name)
            channel = Channel(slug(f"{id_}_power"), words, "W", Quantity.POWER, _subsystem_of(each), 1)
            yield Probe(channel, EnergyMeter(tree.source(file).number, None, now).watts, str(file))


def _counters(tree: Tree) -> Iterator[Probe]:
    """Counters that only grow: throttling by core and package, memory errors corrected and not."""
    throttles = [
        *tree.found("sys/devices/system/cpu/cpu[0-9]*/thermal_throttle/core_throttle_count"),
        *tree.found("sys/devices/system/cpu/cpu[0-9]*/thermal_throttle/package_throttle_count"),
    ]
    if throttles:
        sources = [tree.source(file) for file in throttles]
        channel = Channel(
            THROTTLES,
            say("Throttled for heat"),
            "",
            Quantity.COUNT,
            _P,
            0,
            about=say("by any core or package since the start"),
        )
        yield Probe(channel, _sum(sources), "sys/devices/system/cpu/cpu*/thermal_throttle/*_throttle_count")
    for controller in tree.found("sys/devices/system/edac/mc/mc[0-9]*"):
        for file, words in (("ce_count", say("corrected")), ("ue_count", say("not corrected"))):
            if tree.number(controller / file) is not None:
                name = say("Memory errors {words} ({controller})", words=words, controller=controller.name)
                channel = Channel(slug(f"{controller.name}_{file}"), name, "", Quantity.ERRORS, _M, 0)
                yield plain(channel, tree.source(controller / file), 1.0, str(controller / file))


def _sum(sources: list[Source]) -> Callable[[], Reading]:
    def read() -> Reading:
        values = [v for source in sources if (v := source.number()) is not None]
        return sum(values) if values else None

    return read


def _named_apart(probes: list[Probe]) -> list[Probe]:
    """Number channels that would bear the same id, as two chips of one kind give them."""
    seen: dict[str, int] = {}
    apart = []
    for probe in probes:
        count = seen[probe.channel.id] = seen.get(probe.channel.id, 0) + 1
        if count > 1:
            channel = replace(probe.channel, id=f"{probe.channel.id}_{count}", name=f"{probe.channel.name} {count}")
            probe = replace(probe, channel=channel)
        apart.append(probe)
    return apart


def hottest(probes: Sequence[Probe]) -> str:
    """Name the channel that tells how warm the processor is as a whole: of those that aren't a core's, the hottest now."""
    warmth = [
        (reading, probe.channel.id)
        for probe in probes
        if probe.channel.quantity is Quantity.TEMPERATURE
        and probe.channel.subsystem is _P
        and probe.channel.core is None
        and (reading := probe.read()) is not None
    ]
    return max(warmth)[1] if warmth else ""


def limiter_window_s(tree: Tree) -> float | None:
    """Give the longest window over which a package's power is limited; None where the kernel tells of none."""
    windows = [
        micro
        for zone in tree.found("sys/class/powercap/*:*")
        if zone.name.count(":") == 1
        for file in zone.glob("constraint_*_time_window_us")
        if (micro := tree.number(file)) is not None and micro > 0.0
    ]
    return max(windows) / 1e6 if windows else None
