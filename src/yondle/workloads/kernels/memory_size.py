"""How much memory a load may take, and how large the last-level cache is; from the kernel's own files."""

from __future__ import annotations

from pathlib import Path

MIB = 1 << 20
TAKEN_AT_MOST = 0.5
"""Share of the free memory a load may take: the machine has to go on working."""

CACHE_IF_UNTOLD = 32 * MIB


def last_level_cache(root: Path = Path("/")) -> int:
    """Size of the largest cache of processor 0 in bytes; an assumed one where the kernel tells none."""
    sizes = []
    for file in (root / "sys/devices/system/cpu/cpu0/cache").glob("index*/size"):
        text = file.read_text("ascii").strip()
        factor = {"K": 1 << 10, "M": MIB}.get(text[-1:], 1)
        digits = text.rstrip("KM")
        if digits.isdigit():
            sizes.append(int(digits) * factor)
    return max(sizes, default=CACHE_IF_UNTOLD)


def may_take(wanted: int, asked_mib: int, root: Path = Path("/")) -> int:
    """Give how many bytes a load may take that would like `wanted`; `asked_mib` is the tuner's own word, 0 for none."""
    if asked_mib > 0:
        wanted = asked_mib * MIB
    text = (root / "proc/meminfo").read_text("ascii")
    free_kib = next((int(line.split()[1]) for line in text.splitlines() if line.startswith("MemAvailable:")), 0)
    return min(wanted, int(free_kib * 1024 * TAKEN_AT_MOST))
