"""What only root may read, and no more than that: energies, the kernel's log from now on, the table of memory modules, and the
sensors an administrator has installed.

Each is asked for by its name, takes no argument, and is given no oftener than it changes; whatever asks more often gets what was
seen last. Energy counters are root's alone since they can tell what a processor works on: read no finer than this they can't.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from .interfaces import number
from .own import OwnSensor, own_sensors

ENERGIES_EVERY_S = 0.05
"""A twentieth of a second: what a chart shows, and a thousandth of what it takes to tell one instruction from another."""
OWN_EVERY_S, MEMORY_EVERY_S = 0.05, 60.0
LARGEST_TABLE = 64 * 1024
MOST_LINES, LONGEST_TEXT = 64, 512


class Looks:
    """Reads for one client."""

    def __init__(self, root: Path, owner: int) -> None:
        self._root = root
        self._sensors = [each for each in own_sensors(root, owner) if isinstance(each, OwnSensor)]
        self._own: tuple[float, dict[str, float]] = (float("-inf"), {})
        self._energies: tuple[float, dict[str, float]] = (float("-inf"), {})
        self._memory: tuple[float, str] = (float("-inf"), "")
        self._log: int | None = None

    def energies(self) -> dict[str, float]:
        """Give the energy counters of packages and their parts in µJ, by the names of their zones."""
        now = time.monotonic()
        if now - self._energies[0] >= ENERGIES_EVERY_S:
            zones = sorted((self._root / "sys/class/powercap").glob("*:*"))
            found = {zone.name: value for zone in zones if (value := number(zone / "energy_uj")) is not None}
            self._energies = now, found
        return self._energies[1]

    def own(self) -> dict[str, float]:
        """Give what the administrator's sensors read, by their names; those that can't be read are left out."""
        now = time.monotonic()
        if now - self._own[0] >= OWN_EVERY_S:
            self._own = now, {each.name: value for each in self._sensors if (value := each.value()) is not None}
        return self._own[1]

    def log(self) -> list[str]:
        """Give what the kernel has logged since this was asked before; nothing the first time."""
        if self._log is None:
            self._log = follow_log(self._root)
            return []
        return [line[:LONGEST_TEXT] for line in islice(lines_of(self._log), MOST_LINES)]

    def memory(self) -> str:
        """Give what the firmware tells of memory modules, as hexadecimal digits, without numbers that name a machine."""
        now = time.monotonic()
        if now - self._memory[0] >= MEMORY_EVERY_S:
            self._memory = now, modules(firmware_table(self._root)).hex()
        return self._memory[1]

    def close(self) -> None:
        """Let go of the log."""
        if self._log is not None:
            os.close(self._log)
            self._log = None


def follow_log(root: Path) -> int:
    """Open the kernel's log at its end; raises OSError."""
    handle = os.open(root / "dev/kmsg", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    with contextlib.suppress(OSError):
        os.lseek(handle, 0, os.SEEK_END)
    return handle


def lines_of(handle: int) -> Iterator[str]:
    """Give the lines logged since this was asked before; those that were overwritten meanwhile are left out."""
    while True:
        try:
            record = os.read(handle, 8192)
        except BrokenPipeError:
            continue
        except BlockingIOError:
            return
        if not record:
            return
        yield from record.decode("utf-8", "replace").splitlines()


def firmware_table(root: Path) -> bytes:
    """Read the firmware's table of what the machine is made of; nothing where it can't be."""
    try:
        with open(root / "sys/firmware/dmi/tables/DMI", "rb") as table:
            return table.read(LARGEST_TABLE)
    except OSError:
        return b""


def modules(table: bytes) -> bytes:
    """Leave of the firmware's table the structures of type 17, and of their texts the part number alone (DMTF DSP0134, 7.18)."""
    kept, at = b"", 0
    while at + 4 <= len(table):
        kind, length = table[at], table[at + 1]
        end = table.find(b"\0\0", at + length)
        if length < 4 or end < 0:
            break
        if kind == 17:
            fields, texts = table[at : at + length], table[at + length : end].split(b"\0")
            part = fields[0x1A] if length > 0x1A else 0
            kept += fields + b"\0".join(text if i == part else b"-" for i, text in enumerate(texts, 1)) + b"\0\0"
        at = end + 2
    return kept
