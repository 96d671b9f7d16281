"""Signs of trouble that the kernel keeps: its log while Yondle runs, and the records of a crash left over a restart.

The log as in the kernel's Documentation/ABI/testing/dev-kmsg, crash records as in admin-guide/pstore.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

_TELLING = re.compile(
    r"hardware error|machine check|\bmce\b|edac .*(error|\bce\b|\bue\b)|gpu hang|ring \w+ timeout|gpu reset"
    r"|soft lockup|hard lockup|rcu.*stall|aer: .*error|nmi watchdog|clock throttled|i/o error",
    re.IGNORECASE,
)
_HARDWARE = re.compile(r"hardware error|machine check|\bmce\b|edac .*(error|\bce\b|\bue\b)", re.IGNORECASE)
LINES_KEPT = 8
_LONGEST_RECORD = 8192
_LONGEST_WORDS = 160
_TAIL_BYTES = 65536


class KernelLog:
    """The kernel's log from now on; who may not read it hears nothing, and is told so by `readable`."""

    def __init__(self, root: Path = Path("/")) -> None:
        self.hardware_errors = 0
        self._sampled = 0
        self._lines: list[str] = []
        try:
            self._handle: int | None = os.open(root / "dev/kmsg", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
            os.lseek(self._handle, 0, os.SEEK_END)
        except OSError:
            self._handle = None

    @property
    def readable(self) -> bool:
        """Tell whether the log can be read."""
        return self._handle is not None

    def sample(self) -> float:
        """Give the hardware errors so far, as a sensor's reading."""
        self._sampled = self.hardware_errors
        return float(self._sampled)

    def begin(self) -> None:
        """Leave aside what was logged since the last sample: it belongs to no pass."""
        self.look()
        self.hardware_errors = self._sampled
        self._lines = []

    def look(self) -> None:
        """Take in what was logged since the last look."""
        while self._handle is not None:
            try:
                record = os.read(self._handle, _LONGEST_RECORD)
            except BlockingIOError:
                return
            except BrokenPipeError:
                continue
            except OSError:
                self.close()
                return
            if not record:
                return
            for line in record.decode("utf-8", "replace").splitlines():
                self._take(line)

    def said(self) -> str:
        """Give the telling lines since this was asked last, the latest few."""
        lines, self._lines = self._lines, []
        return "; ".join(lines[-LINES_KEPT:])

    def close(self) -> None:
        """Let go of the log."""
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None

    def _take(self, line: str) -> None:
        words = line.partition(";")[2] or line
        if line.startswith(" ") or not _TELLING.search(words):
            return
        self._lines.append(words[:_LONGEST_WORDS])
        self.hardware_errors += bool(_HARDWARE.search(words))


def crash_records(root: Path = Path("/"), since: float = 0.0) -> list[str]:
    """Describe the crash records the kernel kept over a restart that are younger than `since` (seconds of the epoch).

    Each is its name and the line that says what the kernel died of, where there is one.
    """
    found = []
    for file in sorted((root / "sys/fs/pstore").glob("*")):
        try:
            if file.stat().st_mtime < since or not file.is_file():
                continue
            text = file.read_bytes()[-_TAIL_BYTES:].decode("utf-8", "replace")
        except OSError:
            continue
        cause = next((line for line in text.splitlines() if _DIED.search(line)), "")
        words = re.sub(r"^<\d>?\[\s*[\d.]+\]\s*|^<\d>|^\[\s*[\d.]+\]\s*", "", cause).strip()
        found.append(f"{file.name}: {words[:_LONGEST_WORDS]}" if words else file.name)
    return found


_DIED = re.compile(r"kernel panic|machine check|hardware error|oops|bug:|watchdog|lockup", re.IGNORECASE)
