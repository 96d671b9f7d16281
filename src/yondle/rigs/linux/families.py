"""The families of kernel interfaces Yondle knows: which are here, what each is good for, and what to do about a missing one."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yondle.language.saying import say
from yondle.rigs.linux.files import Tree


@dataclass(frozen=True, slots=True)
class Family:
    """One family: the files that show it is there, what it is for, and how it may come to be there."""

    name: str
    patterns: tuple[str, ...]
    good_for: str
    if_missing: str


@dataclass(frozen=True, slots=True)
class FoundFamily:
    """A family as found here: where, and whether it can be read by who runs Yondle."""

    family: Family
    where: tuple[str, ...]
    readable: bool

    @property
    def there(self) -> bool:
        """Tell whether there is anything of it."""
        return bool(self.where)


_CPU = "sys/devices/system/cpu"
FAMILIES = (
    Family(
        say("core clocks"),
        (f"{_CPU}/cpufreq/policy*/scaling_max_freq",),
        say("clocks under load, their ceiling, governor and energy preference"),
        say("a virtual machine hides them; on a real one the kernel's frequency driver isn't loaded"),
    ),
    Family(
        say("boost"),
        (f"{_CPU}/cpufreq/boost", f"{_CPU}/intel_pstate/no_turbo"),
        say("clocks above the nominal one, on or off"),
        say("the frequency driver doesn't offer it"),
    ),
    Family(
        say("processors online"),
        (f"{_CPU}/cpu*/online",),
        say("using fewer processors; else the number of workers does"),
        say("the kernel was built without taking processors off line"),
    ),
    Family(
        say("threads per core"),
        (f"{_CPU}/smt/control",),
        say("a second thread per core, on or off"),
        say("this processor has none"),
    ),
    Family(
        say("power limits and energy"),
        ("sys/class/powercap/*:*/energy_uj",),
        say("power drawn by the processor, its limits, score per watt"),
        say(
            "the driver isn't loaded (try: modprobe intel_rapl_msr), or a virtual machine hides it; a meter at "
            "the wall does too"
        ),
    ),
    Family(
        say("power modes"),
        ("sys/firmware/acpi/platform_profile",),
        say("the maker's named modes"),
        say("mostly laptops have them"),
    ),
    Family(
        say("temperatures, fans, voltages"),
        ("sys/class/hwmon/hwmon*/name",),
        say("heat, fan levels, voltages under load; without temperatures no ceiling guards a test"),
        say("no sensor driver is loaded, or a virtual machine hides them"),
    ),
    Family(
        say("graphics cards"),
        ("sys/class/drm/card[0-9]",),
        say("graphics clocks, power, use, link width"),
        say("there is none, or its driver isn't loaded"),
    ),
    Family(
        say("clock and voltage table of a graphics card"),
        ("sys/class/drm/card[0-9]/device/pp_od_clk_voltage",),
        say("graphics clock, memory clock and voltage"),
        say("the driver offers it for some cards only, and only with overdriving allowed at the start of the kernel"),
    ),
    Family(
        say("large pages"),
        ("sys/kernel/mm/transparent_hugepage/enabled",),
        say("memory in pages of 2 MiB: what latency and bandwidth answer to"),
        say("the kernel was built without them"),
    ),
    Family(
        say("throttle counters"),
        (f"{_CPU}/cpu*/thermal_throttle",),
        say("knowing that heat took clock away, even between two readings"),
        say("this processor or virtual machine doesn't count it"),
    ),
    Family(
        say("memory error counters"),
        ("sys/devices/system/edac/mc/mc*",),
        say("errors that memory corrected: the first sign of a setting too sharp"),
        say("memory without error correction can't count; only the memory check sees its errors"),
    ),
    Family(
        say("kernel log"),
        ("dev/kmsg",),
        say("hardware errors as evidence for a verdict"),
        say("only root, or who is let, may read it: sysctl kernel.dmesg_restrict=0"),
    ),
    Family(
        say("crash records"),
        ("sys/fs/pstore",),
        say("what the kernel died of, over a restart"),
        say("the firmware keeps none; the boot's identity still tells that it went down"),
    ),
    Family(
        say("board and firmware"),
        ("sys/class/dmi/id/board_name",),
        say("naming the conditions a result holds for"),
        say("tell them yourself: yondle condition"),
    ),
    Family(
        say("power source"),
        ("sys/class/power_supply/*/type",),
        say("on battery or on mains"),
        say("a desktop has none"),
    ),
)


def look(tree: Tree) -> Iterator[FoundFamily]:
    """Look for every family."""
    for family in FAMILIES:
        where = [path for pattern in family.patterns for path in tree.found(pattern)]
        yield FoundFamily(
            family, tuple(_shown(path, tree.root) for path in where), any(_readable(path) for path in where)
        )


def _readable(path: Path) -> bool:
    if not os.access(path, os.R_OK):
        return False
    if path.is_dir():
        return True
    try:
        os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK))
    except OSError:
        return False
    return True


def _shown(path: Path, root: Path) -> str:
    return "/" + str(path.relative_to(root))
