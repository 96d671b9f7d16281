"""Sensor chips by what they sit on: the kernel numbers them as drivers load, so that a number says nothing over a restart."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from yondle.rigs.linux.files import Tree

DRIVES = frozenset({"nvme", "drivetemp"})
_BUS = re.compile(r"[0-9a-f]{4,}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]")


@dataclass(frozen=True, slots=True)
class Chip:
    """A chip, its driver's name, and its place where that tells it from others: a bus address, a port; else ''."""

    folder: Path
    name: str
    place: str

    def of(self, label: str) -> tuple[str, str]:
        """Give what a channel's id is made of, and its name, for one of its inputs."""
        if not self.place:
            return f"{self.name}_{label}", f"{label} ({self.name})"
        return f"{self.name}_{label} {self.place}", f"{label} ({self.name} {self.place.removeprefix('0000:')})"


def chips_of(tree: Tree) -> list[Chip]:
    """Give every chip in order of its place. Drives have theirs always, since they come and go; others where one isn't alone."""
    found = [
        (tree.text(chip / "name") or chip.name, _place(chip), chip) for chip in tree.found("sys/class/hwmon/hwmon*")
    ]
    names = [name for name, _, _ in found]
    return [
        Chip(chip, name, place if name in DRIVES or names.count(name) > 1 else "")
        for name, place, chip in sorted(found, key=lambda each: each[:2])
    ]


def _place(chip: Path) -> str:
    """Name what a chip sits on: the bus address, with the port of a drive behind a controller; else the device's own name."""
    device = chip / "device"
    if not device.exists():
        return ""
    whole = Path(os.path.realpath(device))
    bus = next((part for part in reversed(whole.parts) if _BUS.fullmatch(part)), "")
    port = next((folder for folder in (whole, *whole.parents) if re.fullmatch(r"ata\d+", folder.name)), None)
    if port is None:
        return bus or whole.name
    try:
        number = (port / "ata_port" / port.name / "port_no").read_text("ascii").strip()
    except (OSError, UnicodeDecodeError):
        number = port.name.removeprefix("ata")
    return f"{bus} port {number}".strip()
