"""Runs a workload as a child process and tells a result from a crash, a hang, a wrong result and a program that can't start.

The child is its own process group. A stop asks first (a line on its input), then terminates, then kills the whole group.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Any

from yondle.model.errors import KnownError
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.workloads.catalogue import BUILT_IN

START_AT_MOST_S = 120.0
"""From start to ready; the first start ever compiles the kernel."""

SILENT_AT_MOST_S = 3.0
"""A child that reports five times a second and then not at all for this long has hung."""

LATE_AT_MOST_S = 5.0
"""How much longer than ordered a pass may take to end by itself."""

ASK_S, TERMINATE_S = 0.4, 0.4
_LONGEST_LINE = 1 << 20
_ERROR_TAIL = 400


class ChildRun:
    """One child process on its way through a pass."""

    def __init__(self, command: list[str], seconds: float, now: Callable[[], float]) -> None:
        self._now = now
        self._seconds = seconds
        self._born = self._heard = now()
        self._went: float | None = None
        self._ended: float | None = None
        self._facts: dict[str, str | float] = {}
        self._final: dict[str, Any] | None = None
        self._stopped = False
        self._errors = ""
        try:
            self._child = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True
            )
        except OSError as error:
            raise KnownError(
                f"The workload can't be started ({error}).", "Check the installation of Yondle."
            ) from error
        self._reader = threading.Thread(target=self._read, name=f"workload {self._child.pid}", daemon=True)
        self._reader.start()
        self._error_reader = threading.Thread(target=self._read_errors, name="workload errors", daemon=True)
        self._error_reader.start()

    @property
    def pid(self) -> int:
        """The child's process number."""
        return self._child.pid

    @property
    def alive(self) -> bool:
        """Tell whether the child still runs."""
        return self._child.poll() is None

    def poll(self) -> PassResult | None:
        """Give the result once there is one; a crash, a hang and a wrong result are results too."""
        if self._final is not None:
            return self._finished(self._final)
        now = self._now()
        if self._ended is not None:
            return self._crashed()
        if self._went is None:
            if now - self._born > START_AT_MOST_S:
                return self._hung(f"it was not ready after {START_AT_MOST_S:.0f} s")
            return None
        if now - self._heard > SILENT_AT_MOST_S:
            return self._hung(f"it was silent for {SILENT_AT_MOST_S:.0f} s")
        if now - self._went > self._seconds + LATE_AT_MOST_S:
            return self._hung("it did not end when its time was up")
        return None

    def stop(self) -> None:
        """End the child now: ask, then terminate, then kill its whole group; harmless when it is over."""
        self._stopped = True
        if self._child.poll() is None and self._final is None:
            self._say({"do": "stop"})
        self._wait(ASK_S)
        for kind, patience in ((signal.SIGTERM, TERMINATE_S), (signal.SIGKILL, None)):
            if self._child.poll() is not None:
                break
            self._signal(kind)
            self._wait(patience)
        self._signal(signal.SIGKILL)
        self._reader.join()
        self._error_reader.join()
        for pipe in (self._child.stdin, self._child.stdout, self._child.stderr):
            if pipe is not None:
                try:
                    pipe.close()
                except BrokenPipeError:
                    continue

    def _read(self) -> None:
        assert self._child.stdout is not None
        while line := self._child.stdout.readline(_LONGEST_LINE):
            self._heard = self._now()
            try:
                message = json.loads(line)
                event = message["event"]
            except (ValueError, TypeError, KeyError):
                continue
            if event == "ready":
                self._facts = {k: v for k, v in message.items() if isinstance(v, str | int | float) and k != "event"}
                self._went = self._heard
                self._say({"do": "go", "seconds": self._seconds})
            elif event in ("result", "wrong"):
                self._final = message
        self._child.wait()
        self._ended = self._now()

    def _read_errors(self) -> None:
        assert self._child.stderr is not None
        while chunk := self._child.stderr.read(4096):
            self._errors = (self._errors + chunk.decode("utf-8", "replace"))[-_ERROR_TAIL:]

    def _say(self, message: dict[str, Any]) -> None:
        try:
            assert self._child.stdin is not None
            self._child.stdin.write((json.dumps(message) + "\n").encode())
            self._child.stdin.flush()
        except (BrokenPipeError, ValueError):
            return

    def _finished(self, final: dict[str, Any]) -> PassResult:
        try:
            seconds = float(final["seconds"])
            if final["event"] == "wrong":
                return PassResult(False, None, seconds, Failure.WRONG_RESULTS.value, str(final["detail"]), self._facts)
            facts = {**self._facts, **_plain_facts(final)}
            return PassResult(True, float(final["score"]), seconds, facts=facts)
        except (KeyError, TypeError, ValueError) as error:
            detail = f"its result can't be read ({error})"
            return PassResult(False, None, self._loaded_s(), Failure.PROGRAM_CRASHED.value, detail, self._facts)

    def _crashed(self) -> PassResult:
        code = self._child.returncode
        detail = _exit_words(code)
        tail = self._errors.strip().splitlines()
        if code and code > 0 and tail:
            detail = f"{detail}: {tail[-1]}"
        return PassResult(False, None, self._loaded_s(), Failure.PROGRAM_CRASHED.value, detail, self._facts)

    def _hung(self, detail: str) -> PassResult:
        return PassResult(False, None, self._loaded_s(), Failure.PROGRAM_HUNG.value, detail, self._facts)

    def _loaded_s(self) -> float:
        end = self._ended if self._ended is not None else self._now()
        return end - self._went if self._went is not None else 0.0

    def _wait(self, seconds: float | None) -> None:
        try:
            self._child.wait(seconds)
        except subprocess.TimeoutExpired:
            return

    def _signal(self, kind: signal.Signals) -> None:
        try:
            os.killpg(self._child.pid, kind)
        except (ProcessLookupError, PermissionError):
            return


class ChildHost:
    """Starts built-in workloads on chosen processors; `now` is the clock that deadlines are measured on."""

    def __init__(self, now: Callable[[], float]) -> None:
        self._now = now
        self._modules = {built_in.workload.id: built_in.module for built_in in BUILT_IN}
        self.workloads = tuple(built_in.workload for built_in in BUILT_IN)
        self._current: ChildRun | None = None

    def start(self, workload: str, seconds: float, cpus: list[int]) -> ChildRun:
        """Start a pass with one worker pinned to each of `cpus`."""
        command = [sys.executable, "-m", self._modules[workload], "--cpus", ",".join(map(str, cpus))]
        self._current = ChildRun(command, seconds, self._now)
        return self._current

    def pids(self) -> list[int]:
        """List the processes of the workload under way."""
        return [self._current.pid] if self._current is not None and self._current.alive else []


def _plain_facts(final: dict[str, Any]) -> dict[str, str | float]:
    facts: dict[str, str | float] = {}
    for name, value in final.items():
        if isinstance(value, int | float) and name not in ("score", "seconds"):
            facts[name] = value
        elif isinstance(value, dict):
            facts.update({f"measured {k}": v for k, v in value.items() if isinstance(v, int | float)})
        elif isinstance(value, list):
            facts[name] = ", ".join(f"{v:.3f}" for v in value if isinstance(v, int | float))
    return facts


def _exit_words(code: int | None) -> str:
    if code is None or code == 0:
        return "it ended without a result"
    if code < 0:
        try:
            name = signal.Signals(-code).name
        except ValueError:
            name = f"signal {-code}"
        words = {"SIGSEGV": "segmentation fault", "SIGILL": "illegal instruction", "SIGBUS": "bus error",
                 "SIGFPE": "arithmetic fault", "SIGKILL": "killed from outside, perhaps for want of memory"}  # fmt: skip
        return f"{words.get(name, 'ended by a signal')} ({name})"
    return f"it ended with exit code {code}"
