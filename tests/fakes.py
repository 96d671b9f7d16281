"""Stand-ins that satisfy the engine's ports: a rig that answers otherwise than it should."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from yondle.app.machines import RigChoice, make_machine
from yondle.app.session import Session, machine_file
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.rigs import KnobReply

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


def stubborn_session(path: Path, rig_text: str, answer: Answer) -> Session:
    """Open a session whose rig answers as `answer` says."""
    choice = RigChoice("simulated", "Heron", rig_text)
    logbook = Logbook(path) if path.exists() else Logbook.create(path, choice.kind, choice.name, choice.definition)
    machine = make_machine(choice, machine_file(path), None)
    return Session(logbook, replace(machine, rig=StubbornRig(machine.rig, answer)))
