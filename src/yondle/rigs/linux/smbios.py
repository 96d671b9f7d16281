"""Memory modules as the firmware describes them: SMBIOS structures of type 17 (DMTF DSP0134, 7.18), readable by root."""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yondle.language.saying import say

TABLE = "sys/firmware/dmi/tables/DMI"
_MEMORY_DEVICE, _END = 17, 127
_LARGEST = 1 << 20
_IN_EXTENDED, _KIB = 0x7FFF, 0x8000


@dataclass(frozen=True, slots=True)
class Module:
    """One memory module: size in MiB, the rate it is made for and the one it is run at in MT/s (0 untold), its part number."""

    mib: int
    made_for: int
    runs_at: int
    part: str


def modules(root: Path = Path("/")) -> list[Module]:
    """Read the modules fitted; none where the table can't be read."""
    try:
        data = (root / TABLE).read_bytes()[:_LARGEST]
    except OSError:
        return []
    return modules_in(data)


def modules_in(data: bytes) -> list[Module]:
    """Read the modules out of the firmware's table."""
    return [found for fields, strings in _structures(data) if (found := _module(fields, strings)) is not None]


def in_words(fitted: list[Module]) -> str:
    """Say what is fitted: '2 x 16 GiB at 5600 MT/s, made for 6000 MT/s'."""
    words = []
    for (mib, made_for, runs_at), count in Counter((m.mib, m.made_for, m.runs_at) for m in fitted).items():
        size = f"{mib / 1024:g} GiB" if mib >= 1024 else f"{mib} MiB"
        rate = say(" at {runs_at} MT/s", runs_at=runs_at) if runs_at else ""
        made = say(", made for {made_for} MT/s", made_for=made_for) if made_for and made_for != runs_at else ""
        words.append(f"{count} x {size}{rate}{made}")
    return "; ".join(words)


def _structures(data: bytes) -> Iterator[tuple[bytes, list[str]]]:
    at = 0
    while at + 4 <= len(data):
        kind, length = data[at], data[at + 1]
        end = data.find(b"\0\0", at + length)
        if length < 4 or end < 0:
            return
        if kind == _MEMORY_DEVICE:
            texts = data[at + length : end].split(b"\0")
            yield data[at : at + length], [text.decode("ascii", "replace").strip() for text in texts]
        if kind == _END:
            return
        at = end + 2


def _module(fields: bytes, strings: list[str]) -> Module | None:
    size = _word(fields, 0x0C)
    mib = _long(fields, 0x1C) if size == _IN_EXTENDED else (size & ~_KIB) // 1024 if size & _KIB else size
    if size in (0, 0xFFFF) or not mib:
        return None
    number = fields[0x1A] if len(fields) > 0x1A else 0
    part = strings[number - 1] if 0 < number <= len(strings) else ""
    return Module(mib, _word(fields, 0x15), _word(fields, 0x20), part)


def _word(fields: bytes, at: int) -> int:
    return int(struct.unpack_from("<H", fields, at)[0]) if len(fields) >= at + 2 else 0


def _long(fields: bytes, at: int) -> int:
    return int(struct.unpack_from("<I", fields, at)[0]) if len(fields) >= at + 4 else 0
