"""The TOML file that describes a simulated rig, validated on the way in; the format is documented in docs/rig-file.md."""

from __future__ import annotations

import tomllib
from importlib import resources
from pathlib import Path
from typing import Any, Literal

from pydantic import model_validator

from yondle.formats.knob_table import Identifier, StrictTable
from yondle.formats.toml_files import read_text, tables, validated
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.rigs.simulated.parts import (
    CheckPart,
    ChipPart,
    CodesPart,
    EdgePart,
    GraphicsPart,
    HeatPart,
    KnobPart,
    LoadPart,
    MemoryEdgePart,
    MemoryPart,
    ModePart,
    RigPart,
    RoomPart,
    SensorPart,
    WorkloadPart,
)

SHIPPED = ("heron", "heron-ii", "bittern")
DOCUMENT = "docs/rig-file.md"


class RigFile(StrictTable):
    """A whole rig file. Without `memory_edge` memory never fails, without `graphics` there is none to tune."""

    format: Literal["yondle-rig 1"]
    rig: RigPart
    knobs: dict[Identifier, KnobPart]
    room: RoomPart
    chip: ChipPart
    heat: HeatPart
    edge: EdgePart
    memory: MemoryPart
    memory_edge: MemoryEdgePart | None = None
    graphics: GraphicsPart | None = None
    modes: tuple[ModePart, ...] = ()
    codes: CodesPart = CodesPart()
    check: CheckPart
    loads: dict[Identifier, LoadPart]
    workloads: dict[Identifier, WorkloadPart]
    sensors: dict[Identifier, SensorPart]

    @model_validator(mode="after")
    def _hangs_together(self) -> RigFile:
        for name, workload in self.workloads.items():
            if workload.load not in self.loads:
                raise ValueError(
                    say("workloads.{name}.load names no load of this file: {load}", name=name, load=workload.load)
                )
            if workload.graphics_gcycles + workload.graphics_traffic_gb + workload.link_gb > 0 and not self.graphics:
                raise ValueError(say("workloads.{name} needs graphics, and there is no [graphics]", name=name))
        if all(workload.figure == "none" for workload in self.workloads.values()):
            raise ValueError(say("at least one workload needs a figure: without a score no gain can be told"))
        for key in ("hard_load", "memory_load", "graphics_load"):
            named = getattr(self.check, key)
            if named is not None and named not in self.workloads:
                raise ValueError(say("check.{key} names no workload of this file: {named}", key=key, named=named))
        if self.rig.starts_at.tzinfo is None:
            raise ValueError(say("rig.starts_at needs a UTC offset, such as 2026-10-17T20:30:00+01:00"))
        self._choices_have_meanings()
        return self

    def _choices_have_meanings(self) -> None:
        lanes = self.graphics.lanes if self.graphics else ()
        for knob, meanings, where in (
            ("power_mode", self.modes, "[[modes]]"),
            ("load_line", self.chip.load_line_levels, "chip.load_line_levels"),
            ("memory_channels", self.memory.channel_choices, "memory.channel_choices"),
            ("link_width", lanes, "graphics.lanes"),
        ):
            part = self.knobs.get(knob)
            if part is not None and len(part.choices) != len(meanings):
                raise ValueError(say("knobs.{knob}.choices and {where} must be equally many", knob=knob, where=where))


def parse_rig_file(text: str, source: str) -> RigFile:
    """Read a rig from TOML text; raises KnownError naming the first things wrong and where they stand."""
    return validated(RigFile, text, source, say("doesn't describe a rig"), DOCUMENT)


def rig_text(which: str) -> tuple[str, str]:
    """Find a rig by shipped name or by path; returns its whole TOML text and where it came from.

    A file with `like = "heron"` holds only what differs from that shipped rig, and may name tables of it that it does
    `without`, as "knobs" or "sensors.link_lanes"; the text given is complete.
    """
    text, source = _text_of(which)
    own = tables(text, source)
    like = own.pop("like", None)
    if like is None:
        return text, source
    if like not in SHIPPED or like == which:
        raise KnownError(
            say("{source} is like '{like}', which is no shipped rig.", source=source, like=like),
            say("Give one of {shipped}.", shipped=", ".join(SHIPPED)),
        )
    import tomlkit

    base = tomllib.loads(rig_text(like)[0])
    for place in own.pop("without", []):
        _drop(base, str(place), source)
    return tomlkit.dumps(_merged(base, own)), source


def _text_of(which: str) -> tuple[str, str]:
    if which in SHIPPED:
        text = resources.files("yondle.rigs.simulated").joinpath("shipped", f"{which}.toml").read_text("utf-8")
        return text, say("the shipped rig '{which}'", which=which)
    path = Path(which)
    if not path.is_file():
        raise KnownError(
            say("There is no rig '{which}'.", which=which),
            say("Give one of {shipped}, this, or the path of a rig file.", shipped=", ".join(SHIPPED)),
        )
    return read_text(path, DOCUMENT), str(path)


def _merged(base: dict[str, Any], own: dict[str, Any]) -> dict[str, Any]:
    """Lay a file's own tables over those of the rig it is like."""
    whole = dict(base)
    for key, value in own.items():
        before = whole.get(key)
        whole[key] = _merged(before, value) if isinstance(before, dict) and isinstance(value, dict) else value
    return whole


def _drop(tables: dict[str, Any], place: str, source: str) -> None:
    *path, last = place.split(".")
    for key in path:
        tables = tables.get(key, {})
    if last not in tables:
        raise KnownError(
            say("{source} does without '{place}', which isn't there.", source=source, place=place),
            say("Take it out of the list."),
        )
    del tables[last]
