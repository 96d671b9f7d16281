"""A child process of Yondle: a group of its own, what it says, how it ended, and how it is made to end.

A stop asks first (a line on its input), then terminates, then kills the whole group.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.verdicts import Failure

ASK_S, TERMINATE_S = 0.4, 0.4
LAST_WORDS_S = 1.0
"""So long its last words are waited for, once it has ended; what it has left behind may hold them open."""
LONGEST_LINE = 1 << 20
_ERROR_TAIL = 400

OF_THE_SETTING = frozenset({"SIGSEGV", "SIGILL", "SIGBUS", "SIGFPE", "SIGABRT", "SIGTRAP", "SIGSYS"})
"""Signals that a fault of the processor or the memory can raise in a program; every other one is sent by somebody."""
_CANNOT_RUN = (126, 127)
"""What a shell ends with where a command isn't there or may not be run."""

_OF_SIGNAL = {
    "SIGSEGV": later("segmentation fault"),
    "SIGILL": later("illegal instruction"),
    "SIGBUS": later("bus error"),
    "SIGFPE": later("arithmetic fault"),
    "SIGABRT": later("it gave up by itself"),
}


class Child:
    """A process under way. `heard` gets each line it says, `over` is called once it has ended; both in a thread of their own.

    Nothing is heard before `listen`: a quick child speaks before whoever has begun it knows of it.
    """

    def __init__(
        self,
        command: list[str],
        heard: Callable[[bytes], None],
        over: Callable[[], None],
        folder: Path | None = None,
    ) -> None:
        self._heard, self._over = heard, over
        self._errors = ""
        self._killed_for_memory_before = killed_for_memory()
        try:
            self._process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True,
                cwd=folder,
            )  # fmt: skip
        except (OSError, ValueError) as error:
            raise KnownError(
                say("'{command}' can't be started ({error}).", command=command[0], error=error),
                say("Check that it is there and may be run."),
            ) from error
        self._reader = threading.Thread(target=self._read, name=f"workload {self._process.pid}", daemon=True)
        self._error_reader = threading.Thread(target=self._read_errors, name="workload errors", daemon=True)

    def listen(self) -> None:
        """Begin to hear it; to be called once whoever listens is ready for its first word."""
        self._error_reader.start()
        self._reader.start()

    @property
    def pid(self) -> int:
        """The process number."""
        return self._process.pid

    @property
    def alive(self) -> bool:
        """Tell whether it still runs."""
        return self._process.poll() is None

    def say(self, message: dict[str, Any]) -> None:
        """Write a line to its input; one that has ended hears nothing."""
        try:
            assert self._process.stdin is not None
            self._process.stdin.write((json.dumps(message) + "\n").encode())
            self._process.stdin.flush()
        except (BrokenPipeError, ValueError):
            return

    def close_input(self) -> None:
        """Let it read the end of its input."""
        try:
            assert self._process.stdin is not None
            self._process.stdin.close()
        except BrokenPipeError:
            return

    def end(self, asks: bool) -> None:
        """End it now, with all it has started; `asks` says stop first. Harmless when it is over."""
        if asks and self.alive:
            self.say({"do": "stop"})
            self._wait(ASK_S)
        for kind, patience in ((signal.SIGTERM, TERMINATE_S), (signal.SIGKILL, None)):
            if not self.alive:
                break
            self._signal(kind)
            self._wait(patience)
        self._signal(signal.SIGKILL)
        self._reader.join()
        self._error_reader.join()
        for pipe in (self._process.stdin, self._process.stdout, self._process.stderr):
            if pipe is not None:
                try:
                    pipe.close()
                except BrokenPipeError:
                    continue

    def ended_how(self) -> str:
        """Say how it ended: by which signal, or with which code and last words."""
        code = self._process.returncode
        if code is None or code == 0:
            return say("it ended without a result")
        if code > 0:
            self._error_reader.join(LAST_WORDS_S)
            tail = self._errors.strip().splitlines()
            return say("it ended with exit code {code}", code=code) + (f": {tail[-1]}" if tail else "")
        name = _signal_name(-code)
        if name == "SIGKILL":
            words = (
                say("killed by the kernel for want of memory")
                if killed_for_memory() > self._killed_for_memory_before
                else say("killed from outside")
            )
        else:
            sent = say("ended by a signal") if name in OF_THE_SETTING else say("ended from outside")
            words = named(_OF_SIGNAL[name]) if name in _OF_SIGNAL else sent
        return f"{words} ({name})"

    @property
    def failed_as(self) -> Failure:
        """Tell what its end is a failure of: only what a setting can have caused is one of the setting."""
        code = self._process.returncode or 0
        if code in _CANNOT_RUN:
            return Failure.NOT_RUN
        if code >= 0 or _signal_name(-code) in OF_THE_SETTING:
            return Failure.PROGRAM_CRASHED
        for_memory = -code == signal.SIGKILL and killed_for_memory() > self._killed_for_memory_before
        return Failure.NOT_RUN if for_memory else Failure.INTERRUPTED

    @property
    def exit_code(self) -> int | None:
        """Its exit code, negative for a signal; None while it runs."""
        return self._process.poll()

    def _read(self) -> None:
        assert self._process.stdout is not None
        while line := self._process.stdout.readline(LONGEST_LINE):
            self._heard(line)
        self._process.wait()
        self._over()

    def _read_errors(self) -> None:
        assert self._process.stderr is not None
        while chunk := os.read(self._process.stderr.fileno(), 4096):
            self._errors = (self._errors + chunk.decode("utf-8", "replace"))[-_ERROR_TAIL:]

    def _wait(self, seconds: float | None) -> None:
        try:
            self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            return

    def _signal(self, kind: signal.Signals) -> None:
        try:
            os.killpg(self._process.pid, kind)
        except (ProcessLookupError, PermissionError):
            return


def living_in_group(group: int, root: Path = Path("/")) -> list[int]:
    """List the processes of a group that aren't dead (proc(5): state and group follow the name in brackets)."""
    found = []
    for stat in (root / "proc").glob("[0-9]*/stat"):
        try:
            state, _, its_group = stat.read_text("utf-8", "replace").rpartition(")")[2].split()[:3]
        except (OSError, ValueError):
            continue
        if int(its_group) == group and state != "Z":
            found.append(int(stat.parent.name))
    return found


def killed_for_memory(root: Path = Path("/")) -> int:
    """How many processes the kernel has killed for want of memory since boot (oom_kill in /proc/vmstat)."""
    try:
        text = (root / "proc/vmstat").read_text("ascii")
    except OSError:
        return 0
    return next((int(line.split()[1]) for line in text.splitlines() if line.startswith("oom_kill ")), 0)


def _signal_name(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return say("signal {number}", number=number)


def is_stopped(pid: int) -> bool:
    """Tell whether somebody has stopped a process (SIGSTOP, or a debugger)."""
    try:
        state = Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()[0]
    except (OSError, IndexError):
        return False
    return state in ("T", "t")


def waited_s(pid: int) -> float:
    """Give the seconds that the threads of a process have been ready and had no processor, all together.

    Second field of /proc/PID/task/*/schedstat, in nanoseconds (Documentation/scheduler/sched-stats.rst).
    """
    waited = 0
    for file in Path(f"/proc/{pid}/task").glob("*/schedstat"):
        try:
            waited += int(file.read_text("ascii").split()[1])
        except (OSError, ValueError, IndexError):
            continue
    return waited / 1e9
