"""Readings from /proc, under a root folder that tests replace; formats as in the kernel's Documentation/filesystems/proc."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

_TICKS_PER_S = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True, slots=True)
class CpuTimes:
    """Busy and whole time of one processor (or all) in seconds since boot."""

    busy_s: float
    whole_s: float


class Proc:
    """The files of /proc that Yondle reads; whatever is missing is None or empty."""

    def __init__(self, root: Path = Path("/")) -> None:
        self._proc = root / "proc"

    def boot_id(self) -> str:
        """The random identity of the present boot, or '' where the kernel gives none."""
        return self._text("sys/kernel/random/boot_id").strip()

    def kernel(self) -> str:
        """The kernel's release."""
        return self._text("sys/kernel/osrelease").strip()

    def cpu_times(self) -> dict[str, CpuTimes]:
        """Give times by name: 'cpu' for all, 'cpu0' and so on; steal counts as busy, since others had it."""
        times = {}
        for line in self._text("stat").splitlines():
            fields = line.split()
            if not fields or not fields[0].startswith("cpu"):
                continue
            ticks = [int(f) for f in fields[1:9]]
            idle = ticks[3] + ticks[4]
            times[fields[0]] = CpuTimes((sum(ticks) - idle) / _TICKS_PER_S, sum(ticks) / _TICKS_PER_S)
        return times

    def process_s(self, pids: Iterable[int]) -> float:
        """Sum the processor time of processes in seconds; those that are gone count nothing."""
        total = 0.0
        for pid in pids:
            text = self._text(f"{pid}/stat")
            if text:
                fields = text.rpartition(")")[2].split()
                total += (int(fields[11]) + int(fields[12])) / _TICKS_PER_S
        return total

    def clock_mhz(self) -> float | None:
        """Mean clock over all processors in MHz, None where the kernel tells none."""
        clocks = [float(v) for k, v in self._cpuinfo() if k == "cpu MHz"]
        return sum(clocks) / len(clocks) if clocks else None

    def processor(self) -> str:
        """The processor's own name."""
        return next((v for k, v in self._cpuinfo() if k in ("model name", "Model", "cpu model")), "unknown")

    def memory_gib(self) -> tuple[float, float] | None:
        """Give used and whole memory in GiB."""
        lines = (line.split() for line in self._text("meminfo").splitlines() if ":" in line)
        fields = {words[0].rstrip(":"): float(words[1]) for words in lines if len(words) > 1}
        if "MemTotal" not in fields or "MemAvailable" not in fields:
            return None
        kib_per_gib = 1024.0 * 1024.0
        return (fields["MemTotal"] - fields["MemAvailable"]) / kib_per_gib, fields["MemTotal"] / kib_per_gib

    def pressure_percent(self, resource: str) -> float | None:
        """Share of the last 10 s in which some task waited for 'cpu' or 'memory', in %."""
        for line in self._text(f"pressure/{resource}").splitlines():
            if line.startswith("some"):
                return float(line.split("avg10=")[1].split()[0])
        return None

    def _cpuinfo(self) -> list[tuple[str, str]]:
        pairs = (line.partition(":") for line in self._text("cpuinfo").splitlines())
        return [(key.strip(), value.strip()) for key, colon, value in pairs if colon]

    def _text(self, name: str) -> str:
        try:
            return (self._proc / name).read_text("utf-8", "replace")
        except OSError:
            return ""
