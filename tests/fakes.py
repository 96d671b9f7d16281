"""Stand-ins that satisfy the engine's ports: a rig that answers otherwise than it should."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from yondle.app.machine.machines import RigChoice, make_machine
from yondle.app.session.opening import machine_file
from yondle.app.session.session import Session
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.kept import KeptNow
from yondle.model.knobs import Setup
from yondle.model.rigs import Absent, KnobReply

Answer = Callable[[Mapping[str, float]], tuple[KnobReply, ...] | None]


class StubbornRig:
    """A rig that answers some requests itself; `answer` gives None for those the true rig shall take."""

    def __init__(self, rig: Any, answer: Answer) -> None:
        self._rig = rig
        self.answer = answer
        self.refuses_to_start = False

    def __getattr__(self, name: str) -> Any:
        return getattr(self._rig, name)

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        given = self.answer(values)
        return given if given is not None else self._rig.apply(values)

    def start(self, workload: str, seconds: float, setup: Setup) -> Any:
        if self.refuses_to_start:
            raise KnownError("There is no room for another process.", "Close some programs.")
        return self._rig.start(workload, seconds, setup)


class ChangedRig:
    """A rig that lacks some of its knobs, sensors and workloads; its record knows them from before."""

    def __init__(self, rig: Any, without: frozenset[str] = frozenset(), knows: bool = True) -> None:
        self._rig = rig
        self.asked: list[dict[str, float]] = []
        given = rig.declaration

        def here(things: Any) -> Any:
            return tuple(thing for thing in things if thing.id not in without)

        def gone(things: Any) -> Any:
            return tuple(thing for thing in things if thing.id in without) if knows else ()

        self.declaration = replace(
            given,
            knobs=here(given.knobs),
            channels=here(given.channels),
            workloads=here(given.workloads),
            limits=tuple(limit for limit in given.limits if limit.channel not in without),
            ceilings={k: v for k, v in given.ceilings.items() if k not in without},
            absent=Absent(gone(given.knobs), gone(given.channels), gone(given.workloads)),
        )
        self._heard = [i for i, channel in enumerate(given.channels) if channel.id not in without]
        self._knobs = {knob.id for knob in self.declaration.knobs}

    def __getattr__(self, name: str) -> Any:
        return getattr(self._rig, name)

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        self.asked.append(dict(values))
        return self._rig.apply(values)

    def read_back(self) -> Setup:
        return Setup.of({k: v for k, v in self._rig.read_back().items() if k in self._knobs})

    def sample(self) -> Any:
        row = self._rig.sample()
        return tuple(row[i] for i in self._heard)


def changed_session(path: Path, rig_text: str, kind: Callable[..., Any] = ChangedRig, **how: Any) -> Session:
    """Open a session on a rig that is another one than it was."""
    return _session(path, rig_text, lambda rig: kind(rig, **how))


def stubborn_session(path: Path, rig_text: str, answer: Answer) -> Session:
    """Open a session whose rig answers as `answer` says."""
    return _session(path, rig_text, lambda rig: StubbornRig(rig, answer))


def _session(path: Path, rig_text: str, wrapped: Callable[[Any], Any]) -> Session:
    choice = RigChoice("simulated", "Heron", rig_text)
    logbook = Logbook(path) if path.exists() else Logbook.create(path, choice.kind, choice.name, choice.definition)
    machine = make_machine(choice, machine_file(path), None)
    return Session(logbook, replace(machine, rig=wrapped(machine.rig)))


class WatchdogInMind:
    """Restarts nothing, and remembers what it was told."""

    def __init__(self, told: list[str]) -> None:
        self.guard, self.feed, self.unguard, self.end_night = (
            partial(told.append, word) for word in ("guard", "feed", "unguard", "end night")
        )


class KeeperInMind:
    """Keeps profiles over restarts in mind alone, and remembers what it was told."""

    def __init__(self, *settable: str) -> None:
        self.told: list[tuple[str, Mapping[str, Any] | None]] = []
        self.kept = KeptNow({})
        self._settable = frozenset(settable)

    def settable(self) -> frozenset[str]:
        return self._settable

    def tell(self, word: str, request: Mapping[str, Any] | None = None) -> None:
        self.told.append((word, request))
        if word == "off":
            self.kept = KeptNow({})
        if word == "set" and request is not None:
            profile = request["profile"]
            kept = (profile["name"], profile["logbook"], profile["step"])
            self.kept = KeptNow({request["for"]: kept}, "", profile["name"])

    def now(self) -> KeptNow:
        return self.kept
