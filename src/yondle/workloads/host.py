"""Runs workloads as child processes and tells a result from a crash, a hang, a wrong result and what can't run here."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from yondle.language.saying import say
from yondle.model.knobs import Subsystem
from yondle.model.measured import NOTHING_MEASURED, Measured
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult, Workload
from yondle.workloads.catalogue import BUILT_IN, FRAMES, MEMORY_CHECK, MIXED, USUAL, WIDE, said
from yondle.workloads.children import Child, is_stopped, living_in_group, waited_s
from yondle.workloads.commands import CommandRun, OwnCommand

START_AT_MOST_S = 120.0
"""From start to ready; the first start ever compiles the kernel."""

SILENT_AT_MOST_S = 3.0
"""A child that reports five times a second and then not at all for this long has hung."""

MIXED_S, SPECIAL_S = 60.0, 30.0
"""The load every step ends with, and the one that works the subsystem a step has changed."""

GROUP_LOOKED_AT_S = 0.5
_STARTS = (
    "import os, runpy, sys; sys.path[:] = sys.argv.pop(1).split(os.pathsep);"
    "runpy.run_module(sys.argv.pop(1), run_name='__main__', alter_sys=True)"
)
"""A child finds everything where this program does: a package of the system has it where no Python looks by itself."""
LATE_AT_MOST_S = 5.0
"""How much longer than ordered a pass may take to end by itself."""


class WorkloadRun(Protocol):
    """A workload under way."""

    @property
    def pid(self) -> int:
        """Its process number."""

    @property
    def alive(self) -> bool:
        """Tell whether its process still runs."""

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""

    def stop(self) -> None:
        """End it now."""


class ChildRun:
    """One built-in workload on its way through a pass; `over` is called from another thread when there is news to poll."""

    def __init__(
        self, command: list[str], seconds: float, now: Callable[[], float], over: Callable[[], None] = lambda: None
    ) -> None:
        self._now = now
        self._seconds = seconds
        self._over = over
        self._born = self._heard = self._looked = now()
        self._waited_before: tuple[float, float] | None = None
        self._went: float | None = None
        self._ended: float | None = None
        self._measured = NOTHING_MEASURED
        self._final: dict[str, Any] | None = None
        self._child = Child(command, self._hear, self._end)
        self._child.listen()

    @property
    def pid(self) -> int:
        """The child's process number."""
        return self._child.pid

    @property
    def alive(self) -> bool:
        """Tell whether the child still runs."""
        return self._child.alive

    def poll(self) -> PassResult | None:
        """Give the result once there is one; a crash, a hang and a wrong result are results too."""
        if self._final is not None:
            return self._finished(self._final)
        now = self._now()
        if self._ended is not None:
            verified = self._went is not None
            return self._failed(self._child.failed_as if verified else Failure.NOT_RUN, self._child.ended_how())
        if self._went is None:
            if now - self._born > START_AT_MOST_S:
                return self._failed(
                    Failure.NOT_RUN,
                    say("it was not ready after {start_at_most_s:.0f} s", start_at_most_s=START_AT_MOST_S),
                )
            return None
        if now - self._looked > SILENT_AT_MOST_S / 2:
            self._heard = max(self._heard, now)
        self._looked = now
        silent = now - self._heard
        if silent <= SILENT_AT_MOST_S / 2:
            self._waited_before = None
        elif self._waited_before is None:
            self._waited_before = now, waited_s(self.pid)
        if silent > SILENT_AT_MOST_S:
            return self._silent(now)
        if now - self._went > self._seconds + LATE_AT_MOST_S:
            return self._failed(Failure.PROGRAM_HUNG, say("it did not end when its time was up"))
        return None

    def stop(self) -> None:
        """End the child now; harmless when it is over."""
        self._child.end(asks=self._final is None)

    def _hear(self, line: bytes) -> None:
        self._heard = self._now()
        try:
            message = json.loads(line)
            event = message["event"]
        except (ValueError, TypeError, KeyError):
            return
        if event == "ready":
            told = {k: v for k, v in message.items() if isinstance(v, str | int | float) and k != "event"}
            self._measured = Measured(told=told)
            self._went = self._heard
            self._child.say({"do": "go", "seconds": self._seconds})
        elif event in ("result", "wrong", "cannot"):
            self._final = message
            self._over()

    def _end(self) -> None:
        self._ended = self._now()
        self._over()

    def _finished(self, final: dict[str, Any]) -> PassResult:
        try:
            if final["event"] == "cannot":
                return self._failed(Failure.NOT_RUN, f"{final['problem']} {final['remedy']}")
            seconds = float(final["seconds"])
            if final["event"] == "wrong":
                return PassResult(
                    False, None, seconds, Failure.WRONG_RESULTS.value, str(final["detail"]), self._measured
                )
            frames = tuple(float(t) for t in final.get("frame_times_ms", ()))
            measured = self._measured.joined(_measured(final))
            return PassResult(True, float(final["score"]), seconds, measured=measured, frame_times_ms=frames)
        except (KeyError, TypeError, ValueError) as error:
            return self._failed(Failure.PROGRAM_CRASHED, say("its result can't be read ({error})", error=error))

    def _silent(self, now: float) -> PassResult:
        """Judge a child that reports no more: held up by others, or hung."""
        if is_stopped(self.pid):
            return self._failed(Failure.INTERRUPTED, say("it was stopped from outside"))
        since, waited = self._waited_before or (now, 0.0)
        if waited_s(self.pid) - waited > (now - since) / 2:
            return self._failed(Failure.NOT_RUN, say("other programs left it no processor"))
        words = say("it was silent for {silent_at_most_s:.0f} s", silent_at_most_s=SILENT_AT_MOST_S)
        return self._failed(Failure.PROGRAM_HUNG, words)

    def _failed(self, failure: Failure, detail: str) -> PassResult:
        end = self._ended if self._ended is not None else self._now()
        loaded_s = end - self._went if self._went is not None else 0.0
        return PassResult(False, None, loaded_s, failure.value, detail, self._measured)


@dataclass(frozen=True, slots=True)
class WorkloadSettings:
    """How workloads are run: by how much to lower their priority, the memory they may take, where storage is tested.

    `memory_mib` 0 leaves it to each workload, an empty `folder` means the system's for passing files, and no
    `processors` means all that Yondle may use.
    """

    nice: int = 0
    memory_mib: int = 0
    folder: str = ""
    processors: tuple[int, ...] = ()


class ChildHost:
    """Starts workloads on chosen processors; `now` is the clock of deadlines, `over` is called when a pass has news."""

    def __init__(
        self,
        now: Callable[[], float],
        over: Callable[[], None] = lambda: None,
        own: tuple[OwnCommand, ...] = (),
        settings: WorkloadSettings | None = None,
    ) -> None:
        self._now, self._over = now, over
        self._modules = {built_in.workload.id: built_in.module for built_in in BUILT_IN}
        self._own = {command.workload.id: command for command in own}
        self.settings = settings or WorkloadSettings()
        self.workloads: tuple[Workload, ...] = (
            *(said(built_in.workload) for built_in in BUILT_IN),
            *(command.workload for command in own),
        )
        self.usual = (*USUAL, *self._own)
        self.hard_load = (MIXED, MIXED_S)
        self.loads_for = {
            Subsystem.PROCESSOR: (WIDE, SPECIAL_S),
            Subsystem.MEMORY: (MEMORY_CHECK, SPECIAL_S),
            Subsystem.GRAPHICS: (FRAMES, SPECIAL_S),
        }
        self.processors = self.settings.processors
        self._current: WorkloadRun | None = None
        self._group: tuple[float, list[int]] = (0.0, [])

    def start(self, workload: str, seconds: float, cpus: list[int]) -> WorkloadRun:
        """Start a pass with one worker pinned to each of `cpus`; raises KnownError where it can't even be started."""
        own = self._own.get(workload)
        if own is not None:
            self._current = CommandRun(own, self._now, self._over)
        else:
            self._current = ChildRun(self._command(self._modules[workload], cpus), seconds, self._now, self._over)
        return self._current

    def pids(self) -> list[int]:
        """List the processes of the workload under way; a command of the user's own may have started more."""
        current = self._current
        if current is None or not current.alive:
            return []
        if isinstance(current, ChildRun):
            return [current.pid]
        now = self._now()
        if now - self._group[0] > GROUP_LOOKED_AT_S or current.pid not in self._group[1]:
            self._group = (now, living_in_group(current.pid))
        return self._group[1]

    def _command(self, module: str, cpus: list[int]) -> list[str]:
        settings = self.settings
        command = [
            sys.executable,
            "-P",
            "-c",
            _STARTS,
            os.pathsep.join(sys.path),
            module,
            "--cpus",
            ",".join(map(str, cpus)),
        ]
        if settings.nice:
            command.append(f"--nice={settings.nice}")
        if settings.memory_mib:
            command.append(f"--memory-mib={settings.memory_mib}")
        if settings.folder:
            command.append(f"--folder={settings.folder}")
        return command


def _measured(final: dict[str, Any]) -> Measured:
    """Read what a child tells with its figure: sub-scores, settings as it found them, tallies, rows of numbers as text."""
    parts: dict[str, float] = {}
    settings: dict[str, float] = {}
    told: dict[str, str | float] = {}
    for name, value in final.items():
        if name in ("event", "score", "seconds", "frame_times_ms"):
            continue
        if isinstance(value, int | float | str):
            told[name] = value
        elif isinstance(value, dict):
            figures = {str(k): v for k, v in value.items() if isinstance(v, int | float)}
            if name in ("parts", "measured"):
                (parts if name == "parts" else settings).update(figures)
            else:
                told.update({k if name == "per_node" else f"{name} {k}": v for k, v in figures.items()})
        elif isinstance(value, list):
            told[name] = ", ".join(f"{v:.3f}" for v in value if isinstance(v, int | float))
    return Measured(settings=settings, parts=parts, told=told)
