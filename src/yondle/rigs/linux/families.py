"""The families of kernel interfaces Yondle knows: which are here, what each is good for, and what to do about a missing one."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yondle.language.saying import later
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
        later("core clocks"),
        (f"{_CPU}/cpufreq/policy*/scaling_max_freq",),
        later("clocks under load, their ceiling, governor and energy preference"),
        later("a virtual machine hides them; on a real one the kernel's frequency driver isn't loaded"),
    ),
    Family(
        later("boost"),
        (f"{_CPU}/cpufreq/boost", f"{_CPU}/intel_pstate/no_turbo"),
        later("clocks above the nominal one, on or off"),
        later("the frequency driver doesn't offer it"),
    ),
    Family(
        later("processors online"),
        (f"{_CPU}/cpu*/online",),
        later("using fewer processors; else the number of workers does"),
        later("the kernel was built without taking processors off line"),
    ),
    Family(
        later("threads per core"),
        (f"{_CPU}/smt/control",),
        later("a second thread per core, on or off"),
        later("this processor has none"),
    ),
    Family(
        later("power limits and energy"),
        ("sys/class/powercap/*:*/energy_uj",),
        later("power drawn by the processor, its limits, score per watt"),
        later(
            "the driver isn't loaded (try: modprobe intel_rapl_msr), or a virtual machine hides it; a meter at "
            "the wall does too"
        ),
    ),
    Family(
        later("power modes"),
        ("sys/firmware/acpi/platform_profile",),
        later("the maker's named modes"),
        later("mostly laptops have them"),
    ),
    Family(
        later("temperatures, fans, voltages"),
        ("sys/class/hwmon/hwmon*/name",),
        later("heat, fan levels, voltages under load; without temperatures no ceiling guards a test"),
        later("no sensor driver is loaded, or a virtual machine hides them"),
    ),
    Family(
        later("graphics cards"),
        ("sys/class/drm/card[0-9]",),
        later("graphics clocks, power, use, link width"),
        later("there is none, or its driver isn't loaded"),
    ),
    Family(
        later("clock and voltage table of a graphics card"),
        ("sys/class/drm/card[0-9]/device/pp_od_clk_voltage",),
        later("graphics clock, memory clock and voltage"),
        later("the driver offers it for some cards only, and only with overdriving allowed at the start of the kernel"),
    ),
    Family(
        later("large pages"),
        ("sys/kernel/mm/transparent_hugepage/enabled",),
        later("memory in pages of 2 MiB: what latency and bandwidth answer to"),
        later("the kernel was built without them"),
    ),
    Family(
        later("throttle counters"),
        (f"{_CPU}/cpu*/thermal_throttle",),
        later("knowing that heat took clock away, even between two readings"),
        later("this processor or virtual machine doesn't count it"),
    ),
    Family(
        later("memory error counters"),
        ("sys/devices/system/edac/mc/mc*",),
        later("errors that memory corrected: the first sign of a setting that is too tight"),
        later("memory without error correction can't count; only the memory check sees its errors"),
    ),
    Family(
        later("kernel log"),
        ("dev/kmsg",),
        later("hardware errors as evidence for a verdict"),
        later("only root, or who is allowed, may read it: sysctl kernel.dmesg_restrict=0"),
    ),
    Family(
        later("crash records"),
        ("sys/fs/pstore",),
        later("what the kernel died of, over a restart"),
        later("the firmware keeps none; the boot's identity still tells that it went down"),
    ),
    Family(
        later("board and firmware"),
        ("sys/class/dmi/id/board_name",),
        later("naming the conditions a result holds for"),
        later("tell them yourself: yondle condition"),
    ),
    Family(
        later("power source"),
        ("sys/class/power_supply/*/type",),
        later("on battery or on mains"),
        later("a desktop has none"),
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
