"""Conditions that Linux tells by itself: board and firmware with version and date, memory, power source, governor.

Files as in the kernel's Documentation/ABI (sysfs-class-dmi, sysfs-class-power) and admin-guide/pm/cpufreq.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yondle.language.saying import later
from yondle.rigs.linux.root.helper.cards import address_of, named_cards
from yondle.rigs.linux.root.helper.interfaces import read
from yondle.rigs.linux.smbios import in_words, modules, modules_in
from yondle.rigs.linux.spd import promised, promised_in_words

_DMI = {
    "board": ("board_vendor", "board_name"),
    "firmware": ("bios_vendor", "bios_version", "bios_date"),
}


class Conditions:
    """Reads the conditions under a root folder that tests replace; what is missing is left out."""

    def __init__(self, root: Path = Path("/"), table: Callable[[], bytes] | None = None) -> None:
        """`table` gives the firmware's table of memory modules where it can't be read here."""
        self._root, self._sys, self._table = root, root / "sys", table
        self._modules = in_words(modules(root))
        self._promised = promised_in_words(promised(self._sys))

    def facts(self) -> dict[str, str | float]:
        """Give the conditions as they are now."""
        if not self._modules and self._table is not None:
            self._modules = in_words(modules_in(self._table()))
        found: dict[str, str | float] = {}
        for name, files in _DMI.items():
            words = " ".join(text for file in files if (text := self._text(f"class/dmi/id/{file}")))
            if words:
                found[name] = words
        if self._modules:
            found[later("memory modules")] = self._modules
        if self._promised:
            found[later("memory modules are made for")] = self._promised
        found |= quotas(self._root)
        found |= apertures(self._root)
        source = self._power_source()
        if source:
            found[later("power source")] = source
        governors = {self._text(f"devices/system/cpu/cpufreq/{p.name}/scaling_governor") for p in self._policies()}
        governors.discard("")
        if governors:
            found[later("governor")] = " and ".join(sorted(governors))
        return found

    def _power_source(self) -> str:
        """'battery' where a battery is discharged, 'mains' where a supply is on line; '' where the kernel tells neither."""
        supplies = sorted((self._sys / "class/power_supply").glob("*"))
        kinds = [(self._of(p, "type"), self._of(p, "status"), self._of(p, "online")) for p in supplies]
        if any(kind == "Battery" and status == "Discharging" for kind, status, _ in kinds):
            return later("battery")
        return later("mains") if any(kind == "Mains" and online == "1" for kind, _, online in kinds) else ""

    def _policies(self) -> list[Path]:
        return sorted((self._sys / "devices/system/cpu/cpufreq").glob("policy*"))

    def _of(self, folder: Path, name: str) -> str:
        return _read(folder / name)

    def _text(self, path: str) -> str:
        file = self._sys / path
        return self._of(file.parent, file.name)


def quotas(root: Path) -> dict[str, str | float]:
    """Tell what a control group leaves Yondle of the machine: processor time and memory (admin-guide/cgroup-v2)."""
    found: dict[str, str | float] = {}
    for folder in _groups(root):
        quota, _, period = _read(folder / "cpu.max").partition(" ")
        if quota.isdigit() and period.isdigit() and int(period) > 0:
            share = int(quota) / int(period)
            found[later("processors left by a quota")] = min(
                share, float(found.get("processors left by a quota", share))
            )
        memory = _read(folder / "memory.max")
        if memory.isdigit():
            gib = round(int(memory) / (1 << 30), 2)
            found[later("memory left by a quota, GiB")] = min(gib, float(found.get("memory left by a quota, GiB", gib)))
    return found


def _groups(root: Path) -> list[Path]:
    """List the group Yondle runs in and those above it."""
    place = next((line[3:] for line in _read(root / "proc/self/cgroup").splitlines() if line.startswith("0::/")), None)
    if place is None:
        return []
    top = root / "sys/fs/cgroup"
    here = top / place.strip("/")
    return [folder for folder in (here, *here.parents) if folder == top or top in folder.parents]


def apertures(root: Path) -> dict[str, str | float]:
    """Tell how much of its memory each graphics card shows the processor at once (a PCI BAR; ABI/testing/sysfs-bus-pci)."""
    found: dict[str, str | float] = {}
    for card, tail in named_cards(root / "sys"):
        sizes = [_size(line) for line in _read(card / "device/resource").splitlines()]
        whole = _read(card / "device/mem_info_vram_total")
        most = max(sizes, default=0)
        if most <= 0 or not whole.isdigit():
            continue
        words = later("the whole of it") if most >= int(whole) else f"{most >> 20} of {int(whole) >> 20} MiB"
        found[f"{later('graphics memory in sight')}{f' ({address_of(card)})' if tail else ''}"] = words
    return found


def _size(line: str) -> int:
    try:
        first, last, _ = (int(word, 16) for word in line.split())
    except ValueError:
        return 0
    return last - first + 1 if last > first else 0


def _read(file: Path) -> str:
    return read(file) or ""
