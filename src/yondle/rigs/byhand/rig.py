"""A real machine with knobs besides that are set by hand, described by the tuner in a TOML file (docs/by-hand-file.md).

The machine doesn't tell these values, so they are taken to be what was entered with success; see the engine's setter.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal, Protocol

from pydantic import Field

from yondle.formats.knob_table import Identifier, KnobTable, Name, StrictTable
from yondle.formats.toml_files import validated
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Risk, Setup, Subsystem, When
from yondle.model.rigs import KnobReply, RigDeclaration

DOCUMENT = "docs/by-hand-file.md"


class _KnobTable(KnobTable):
    name: Name
    unit: Annotated[str, Field(max_length=12)] = ""
    subsystem: Subsystem = Subsystem.WHOLE
    risk: Risk = Risk.NONE
    takes_effect: Literal["after restart", "at once"] = "after restart"
    limits: bool | None = None


class _File(StrictTable):
    format: Literal["yondle-by-hand 1"]
    constants: dict[str, float] = Field(default_factory=dict)
    knobs: Annotated[dict[Identifier, _KnobTable], Field(min_length=1, max_length=60)]


class MachineBelow(Protocol):
    """The rig underneath, with the knobs that the system itself can set."""

    declaration: RigDeclaration

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask for knob values."""


def parse_by_hand(text: str, source: str) -> tuple[tuple[Knob, ...], dict[str, float], dict[str, float]]:
    """Read knobs set by hand; gives them with their ceilings and the constants that derived quantities need."""
    file = validated(_File, text, source, say("describes no knobs"), DOCUMENT)
    knobs = tuple(_knob(name, table) for name, table in file.knobs.items())
    ceilings = {name: table.ceiling for name, table in file.knobs.items() if table.ceiling is not None}
    return knobs, ceilings, file.constants


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


def _knob(name: str, table: _KnobTable) -> Knob:
    return Knob(
        id=name,
        name=table.name,
        unit=table.unit,
        subsystem=table.subsystem,
        low=table.low,
        high=table.high,
        step=table.step,
        stock=table.stock,
        digits=table.digits,
        when=When.AT_HAND if table.takes_effect == "at once" else When.BY_HAND,
        risk=table.risk,
        choices=table.choices,
        role=table.role or "",
        readable=False,
        governs=table.limits if table.limits is not None else table.subsystem is Subsystem.COOLING,
    )
