"""Readings from /proc, under a root folder that tests replace; formats as in the kernel's Documentation/filesystems/proc."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from yondle.rigs.linux.files import Source, Tree

_LONGEST_STAT = 1024
_MEMORY = re.compile(r"^(MemTotal|MemAvailable):\s*(\d+)", re.MULTILINE)
_TICKS_PER_S = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True, slots=True)
class CpuTimes:
    """Busy and whole time of one processor (or all) in seconds since boot; stolen is what the host of a virtual one took."""

    busy_s: float
    whole_s: float
    stolen_s: float = 0.0


class Proc:
    """The files of /proc that Yondle reads; whatever is missing is None or empty."""

    def __init__(self, root: Path = Path("/")) -> None:
        self._tree = Tree(root)
        self._stat = self._tree.source("proc/stat", long=True)
        self._meminfo = self._tree.source("proc/meminfo", long=True)
        self._processes: dict[int, Source] = {}

    def close(self) -> None:
        """Let go of every file."""
        self._tree.close()
        self._forget(set())

    def boot_id(self) -> str:
        """The random identity of the present boot, or '' where the kernel gives none."""
        return self._text("sys/kernel/random/boot_id").strip()

    def kernel(self) -> str:
        """The kernel's release."""
        return self._text("sys/kernel/osrelease").strip()

    def cpu_times(self) -> dict[str, CpuTimes]:
        """Give times by name: 'cpu' for all, 'cpu0' and so on; steal counts as busy, since others had it."""
        times = {}
        for line in (self._stat.text() or "").splitlines():
            if not line.startswith("cpu"):
                break
            name, *fields = line.split()[:9]
            ticks = [int(f) for f in fields]
            whole = sum(ticks)
            stolen = ticks[7] if len(ticks) > 7 else 0
            busy = whole - ticks[3] - ticks[4]
            times[name] = CpuTimes(busy / _TICKS_PER_S, whole / _TICKS_PER_S, stolen / _TICKS_PER_S)
        return times

    def process_s(self, pids: Iterable[int]) -> float:
        """Sum the processor time of processes in seconds; those that are gone count nothing."""
        return sum(self.process_times(pids).values())

    def process_times(self, pids: Iterable[int]) -> dict[int, float]:
        """Give the processor time of each process in seconds; those that are gone are left out."""
        wanted = set(pids)
        self._forget(wanted)
        times = {}
        for pid in wanted:
            if pid not in self._processes:
                self._processes[pid] = Source(self._tree.root / f"proc/{pid}/stat", _LONGEST_STAT)
            text = self._processes[pid].text()
            if text:
                fields = text.rpartition(")")[2].split(None, 14)
                times[pid] = (int(fields[11]) + int(fields[12])) / _TICKS_PER_S
        return times

    def _forget(self, but: set[int]) -> None:
        for pid in self._processes.keys() - but:
            self._processes.pop(pid).close()

    def clock_mhz(self) -> float | None:
        """Mean clock over all processors in MHz, None where the kernel tells none."""
        clocks = [float(v) for k, v in self._cpuinfo() if k == "cpu MHz"]
        return sum(clocks) / len(clocks) if clocks else None

    def processor(self) -> str:
        """The processor's own name."""
        return next((v for k, v in self._cpuinfo() if k in ("model name", "Model", "cpu model")), "unknown")

    def memory_gib(self) -> tuple[float, float] | None:
        """Give used and whole memory in GiB."""
        found = _MEMORY.findall(self._meminfo.text() or "")
        fields = {name: float(kib) for name, kib in found}
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
        return self._tree.text(f"proc/{name}")
