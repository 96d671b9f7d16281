"""`yondle agent`: this machine as the bench of a notebook elsewhere, over standard input and output (docs/bench.md)."""

from __future__ import annotations

import os
import signal
import stat
import sys
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from platformdirs import user_config_path, user_state_path

from yondle import __version__
from yondle.app.machine.clocks import RealClock
from yondle.app.machine.this_machine import MOST_MEMORY_MIB, ThisSetup, make_this
from yondle.formats.toml_files import read_text
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Change
from yondle.rigs.bench.agent import Agent
from yondle.rigs.bench.protocol import NotUnderstoodError
from yondle.rigs.bench.word import Word
from yondle.rigs.linux.privilege import find_way
from yondle.rigs.linux.proc import Proc
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import WorkloadSettings

MOST_PROCESSORS = 4096


def serve_notebook() -> None:
    """Serve the notebook at the other end of standard input and output until it leaves, or is heard no more."""
    reads, writes = os.dup(0), os.dup(1)
    nothing = os.open(os.devnull, os.O_RDWR)
    os.dup2(nothing, 0)
    os.dup2(2, 1)
    sys.stdout = sys.stderr
    boot = Proc(Path("/")).boot_id()
    word = Word(user_state_path("yondle", appauthor=False) / "agent.json", boot)
    served: list[Agent] = []
    clock = _NewsClock(lambda: served[0].wake())

    def taken(session: str) -> dict[str, Any]:
        word.take(session)
        return {"version": __version__, "before": word.before}

    agent = Agent(lambda asked: _machine(asked, clock), reads, writes, taken)
    served.append(agent)
    for each in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        signal.signal(each, lambda *_: agent.leave("it was told to end"))
    why = "a fault"
    try:
        why = agent.serve()
    finally:
        word.end(why)


class _NewsClock(RealClock):
    """The machine's clocks; news of a pass go to the agent, which waits for more than that."""

    def __init__(self, news: Callable[[], None]) -> None:
        super().__init__()
        self._tells = news

    def wake(self) -> None:
        """Tell the agent that there is news."""
        self._tells()


def _machine(asked: Mapping[str, Any], clock: RealClock) -> BenchHere:
    """Make this machine ready with what a notebook may choose of how workloads are run: numbers only, and no path."""
    nice, memory_mib, processors = (asked.get(name) for name in ("nice", "memory_mib", "processors"))
    if type(nice) is not int or not -20 <= nice <= 19:
        raise NotUnderstoodError("a niceness is -20 to 19")
    if type(memory_mib) is not int or not 0 <= memory_mib <= MOST_MEMORY_MIB:
        raise NotUnderstoodError("memory is a number of MiB")
    if (
        not isinstance(processors, list)
        or len(processors) > MOST_PROCESSORS
        or any(type(p) is not int for p in processors)
    ):
        raise NotUnderstoodError("processors are a list of numbers")
    workloads, own = own_files(user_config_path("yondle", appauthor=False) / "bench")
    setup = ThisSetup(WorkloadSettings(nice, memory_mib, "", tuple(processors)), workloads, (), own)
    way = find_way(asks=False)
    return BenchHere(make_this(setup, clock, way, allowed=True), way.missing)


def own_files(folder: Path) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Give the texts of the bench's own workloads, and of its own knobs and sensors.

    What its user has put into this folder is allowed by that; a folder or file that others could have written is left out.
    """
    texts = [
        read_text(file, "docs/bench.md") for file in sorted(folder.glob("*.toml")) if _ours(folder) and _ours(file)
    ]
    workloads = tuple(text for text in texts if "yondle-workload" in text.partition("\n")[0])
    return workloads, tuple(text for text in texts if text not in workloads)


def _ours(path: Path) -> bool:
    about = path.stat()
    return about.st_uid in (os.getuid(), 0) and not about.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


class BenchHere:
    """This machine as the agent takes it: as a rig, and with a watchdog over it where one is wanted."""

    def __init__(self, rig: ThisRig, missing: str = "") -> None:
        """`missing` says why what only root may set isn't offered."""
        self._rig, self.missing, self._guards = rig, missing, ExitStack()
        self._guarded = False

    def __getattr__(self, name: str) -> Any:
        return getattr(self._rig, name)

    def guarded(self, guarded: bool) -> None:
        """Have a watchdog restart this machine where it freezes, or not; raises KnownError where none may."""
        if guarded == self._guarded:
            return
        self._guards.close()
        self._guarded = False
        if guarded:
            guard = self._rig.guard
            if guard is None:
                raise KnownError(
                    say("Nothing can restart the bench: no helper can be started there."), say("See docs/bench.md.")
                )
            self._guards.enter_context(guard.watching())
            self._guarded = True

    def close(self) -> tuple[Change, ...]:
        """Put everything back."""
        self._guards.close()
        return self._rig.close()
