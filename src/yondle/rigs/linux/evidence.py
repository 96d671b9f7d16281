"""Signs of trouble that the kernel keeps: its log while Yondle runs, and the records of a crash left over a restart.

The log as in the kernel's Documentation/ABI/testing/dev-kmsg; where that may not be read, as the system's journal gives it on.
Crash records as in admin-guide/pstore, or where the system moves them (systemd-pstore). What each line is, and where the
kernel prints it, stands with its example in tests/linux/test_evidence.py.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

_TELLING = re.compile(
    r"hardware error|machine check|\bmce\b|edac .*(error|\bce\b|\bue\b)|gpu hang|ring \S+ timeout|gpu reset|timedout job"
    r"|gt reset|resetting \S+ for|soft lockup|hard lockup|rcu.*stall|aer: .*error|nmi watchdog|clock (is )?throttled"
    r"|i/o error|i/o tag .* timeout|controller is down|exception emask|hard resetting link|critical medium error",
    re.IGNORECASE,
)
_EVENTS = (
    ("check", re.compile(r"CPU \d+: Machine Check|MC\d+_STATUS\[|Hardware error from APEI", re.IGNORECASE)),
    ("memory", re.compile(r"EDAC MC\d+: (\d+) [CU]E", re.IGNORECASE)),
    ("logged", re.compile(r"Machine check events logged", re.IGNORECASE)),
)
"""The lines of which one error makes one, by who prints it; all else about it is said in further lines."""
TOGETHER_S = 1.0
"""What several of them say within this of each other is one error: the check, its memory controller, and that it was logged."""
LINES_KEPT = 8
_LONGEST_RECORD = 8192
_LONGEST_WORDS = 160
_TAIL_BYTES = 65536
THE_HELPER = "the helper"
JOURNAL = ("journalctl", "-k", "-f", "-n", "0", "-q", "-o", "short-monotonic", "--no-pager")
_MAY_READ_S = 5.0


Followed = tuple[int, subprocess.Popen[bytes] | None]
"""An open log, and the program that follows it, where one does."""


class KernelLog:
    """The kernel's log from now on; who may not read it hears nothing, and is told so by `readable`.

    Where neither the log nor its journal may be read, `told` gives the lines since it was asked last, None while it can't.
    """

    def __init__(
        self,
        root: Path = Path("/"),
        journal: Callable[[], Followed | None] | None = None,
        told: Callable[[], list[str] | None] | None = None,
    ) -> None:
        self.hardware_errors = 0
        self._sampled = 0
        self._lines: list[str] = []
        self._counted: dict[str, float] = {}
        self._process: subprocess.Popen[bytes] | None = None
        self._rest = b""
        self.source = "/dev/kmsg"
        try:
            self._handle: int | None = os.open(root / "dev/kmsg", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
            os.lseek(self._handle, 0, os.SEEK_END)
        except OSError:
            follow = journal or (follow_journal if root == Path("/") else None)
            self._handle, self._process = (follow() if follow is not None else None) or (None, None)
            self.source = "journalctl -k" if self._handle is not None else THE_HELPER
        self._told = told if self._handle is None else None
        self._hears = self._handle is not None

    @property
    def readable(self) -> bool:
        """Tell whether the log can be read, now or once the helper is at work."""
        return self._handle is not None or self._told is not None

    def sample(self) -> float | None:
        """Give the hardware errors so far, as a sensor's reading; None while the log isn't heard."""
        self._sampled = self.hardware_errors
        return float(self._sampled) if self._hears else None

    def begin(self) -> None:
        """Leave aside what was logged since the last sample: it belongs to no pass."""
        self.look()
        self.hardware_errors = self._sampled
        self._lines = []

    def look(self) -> None:
        """Take in what was logged since the last look."""
        told = self._told() if self._told is not None else None
        self._hears = self._handle is not None or told is not None
        for words in told or ():
            self._take(words)
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
            *lines, self._rest = (self._rest + record).split(b"\n")
            for line in lines:
                self._take(line.decode("utf-8", "replace"))
            if len(self._rest) > _LONGEST_RECORD:
                self._rest = b""

    def said(self) -> str:
        """Give the telling lines since this was asked last, the latest few."""
        lines, self._lines = self._lines, []
        return "; ".join(lines[-LINES_KEPT:])

    def close(self) -> None:
        """Let go of the log."""
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None
        if self._process is not None:
            self._process.terminate()
            self._process.wait()
            self._process = None

    def _take(self, line: str) -> None:
        at_s, words = _parted(line)
        if line.startswith(" ") or not _TELLING.search(words):
            return
        self._lines.append(words[:_LONGEST_WORDS])
        for kind, pattern in _EVENTS:
            found = pattern.search(words)
            if found is not None:
                self._count(kind, at_s, int(found.group(1)) if found.groups() else 1)
                return

    def _count(self, kind: str, at_s: float, errors: int) -> None:
        """Count an error once, whoever else told of it just before."""
        others = [at for other, at in self._counted.items() if other != kind and abs(at_s - at) <= TOGETHER_S]
        self._counted[kind] = at_s
        if not others:
            self.hardware_errors += errors


def follow_journal() -> Followed | None:
    """Follow the kernel's lines in the system's journal; None where there is none, or it may not be read either."""
    if shutil.which(JOURNAL[0]) is None:
        return None
    try:
        told = subprocess.run([*JOURNAL[:2], "-n", "1", "-q"], capture_output=True, timeout=_MAY_READ_S, check=False)
        if told.returncode != 0 or not told.stdout.strip():
            return None
        process = subprocess.Popen(JOURNAL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL)
    except (OSError, subprocess.TimeoutExpired):
        return None
    assert process.stdout is not None
    handle = os.dup(process.stdout.fileno())
    process.stdout.close()
    os.set_blocking(handle, False)
    return handle, process


_KMSG = re.compile(r"\d+,\d+,(\d+),[^;]*;(.*)", re.DOTALL)
_JOURNAL = re.compile(r"\[\s*(\d+\.\d+)\] \S+ kernel: (.*)", re.DOTALL)


def _parted(line: str) -> tuple[float, str]:
    """Part a line into its time in seconds since the boot and what it says; endless time where it tells none."""
    record, told = _KMSG.match(line), _JOURNAL.match(line)
    if record is not None:
        return int(record.group(1)) / 1e6, record.group(2)
    return (float(told.group(1)), told.group(2)) if told is not None else (float("inf"), line)


def crash_records(root: Path = Path("/"), since: float = 0.0) -> list[str]:
    """Describe the crash records the kernel kept over a restart that are younger than `since` (seconds of the epoch).

    Each is its name and the line that says what the kernel died of, where there is one.
    """
    found = []
    kept = [*sorted((root / "sys/fs/pstore").glob("*")), *sorted((root / "var/lib/systemd/pstore").rglob("*"))]
    for file in kept:
        try:
            if file.stat().st_mtime < since or not file.is_file():
                continue
            text = file.read_bytes()[-_TAIL_BYTES:].decode("utf-8", "replace")
        except OSError:
            continue
        cause = next((line for line in text.splitlines() if _DIED.search(line)), "")
        words = re.sub(r"^<\d>?\[\s*[\d.]+\]\s*|^<\d>|^\[\s*[\d.]+\]\s*", "", cause).strip()
        found.append(f"{file.name}: {words[:_LONGEST_WORDS]}" if words else file.name)
    return list(dict.fromkeys(found))


_DIED = re.compile(r"kernel panic|machine check|hardware error|oops|bug:|watchdog|lockup", re.IGNORECASE)
