"""A real machine with knobs besides that are set by hand, described by the tuner in a TOML file (docs/by-hand-file.md).

The machine doesn't tell these values, so they are taken to be what was entered with success; see the engine's setter.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal, Protocol

from pydantic import Field

from yondle.formats.knob_table import DescribedKnob, Identifier, StrictTable
from yondle.formats.toml_files import validated
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup
from yondle.model.rigs import KnobReply, RigDeclaration

DOCUMENT = "docs/by-hand-file.md"


class _File(StrictTable):
    format: Literal["yondle-by-hand 1"]
    constants: dict[str, float] = Field(default_factory=dict)
    knobs: Annotated[dict[Identifier, DescribedKnob], Field(min_length=1, max_length=60)]


class MachineBelow(Protocol):
    """The rig underneath, with the knobs that the system itself can set."""

    declaration: RigDeclaration

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask for knob values."""


def parse_by_hand(text: str, source: str) -> tuple[tuple[Knob, ...], dict[str, float], dict[str, float]]:
    """Read knobs set by hand; gives them with their ceilings and the constants that derived quantities need."""
    file = validated(_File, text, source, say("describes no knobs"), DOCUMENT)
    knobs = tuple(table.knob(name) for name, table in file.knobs.items())
    ceilings = {name: table.ceiling for name, table in file.knobs.items() if table.ceiling is not None}
    return knobs, ceilings, file.constants


def knobs_by_hand(text: str, source: str) -> dict[str, DescribedKnob]:
    """Read knobs as they were described."""
    return dict(validated(_File, text, source, say("describes no knobs"), DOCUMENT).knobs)


class ByHandRig:
    """Everything the machine underneath does, and more knobs that `apply` leaves to the tuner."""

    def __init__(self, machine: MachineBelow, text: str) -> None:
        knobs, ceilings, constants = parse_by_hand(text, say("the knobs set by hand"))
        below = machine.declaration
        twice = {k.id for k in below.knobs} & {k.id for k in knobs}
        if twice:
            raise KnownError(
                say("{knob} is set by the system on this machine.", knob=twice.pop()), say("Give yours another name.")
            )
        self._machine = machine
        self._own = {knob.id for knob in knobs}
        self.declaration = replace(
            below,
            knobs=(*below.knobs, *knobs),
            ceilings={**below.ceilings, **ceilings},
            constants={**below.constants, **constants},
        )

    def __getattr__(self, name: str) -> Any:
        return getattr(self._machine, name)

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask the machine for the values it can set itself."""
        return self._machine.apply({k: v for k, v in values.items() if k not in self._own})

    def start(self, workload: str, seconds: float, setup: Setup) -> Any:
        """Start a workload; the machine underneath is told of its own knobs only."""
        own = Setup.of({k: v for k, v in setup.items() if k not in self._own})
        return self._machine.start(workload, seconds, own)  # type: ignore[attr-defined]
