"""Reads files that describe knobs and sensors of the tuner's own (docs/own-file.md)."""

from __future__ import annotations

import hashlib
import re
import shlex
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yondle.formats.knob_table import MOST_NOTCHES, Identifier, Name, Positive, Real, StrictTable
from yondle.formats.toml_files import one_group, validated
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Risk, Subsystem
from yondle.model.sensors import NATURES

DOCUMENT = "docs/own-file.md"
VALUE = "{value}"
NUMBER = r"([-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)"
LARGEST_PROGRAM = 256 << 20
Words = Annotated[tuple[Annotated[str, Field(max_length=2000)], ...], Field(max_length=100)]
_FilePath = Annotated[str, Field(max_length=1000)]


class KnobEntry(StrictTable):
    """A knob: a file it is read from and written to, or two commands; a range with a step, or choices."""

    name: Name
    about: Annotated[str, Field(max_length=200)] = ""
    file: _FilePath = ""
    read: Words = ()
    write: Words = ()
    back: Words = ()
    pattern: Annotated[str, Field(min_length=1, max_length=400)] = NUMBER
    low: Real = 0.0
    high: Real = 0.0
    step: Positive = 1.0
    choices: Annotated[tuple[Name, ...], Field(max_length=20)] = ()
    words: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=60)], ...], Field(max_length=20)] = ()
    scale: Positive = 1.0
    unit: Annotated[str, Field(max_length=20)] = ""
    digits: Annotated[int, Field(ge=0, le=4)] = 0
    works: Subsystem = Subsystem.WHOLE
    risk: Risk = Risk.NONE
    proportional: bool = False
    limits: bool = False
    in_force: Literal["live", "after restart"] = "live"
    at_most_s: Annotated[float, Field(gt=0, le=60)] = 5.0

    @model_validator(mode="after")
    def _whole(self) -> KnobEntry:
        _must_be_one_way(self.file, bool(self.read))
        if self.file and (self.write or self.read or self.back):
            raise ValueError(say("a knob has a file or commands, not both"))
        if not self.file and sum(word.count(VALUE) for word in self.write) != 1:
            raise ValueError(say("write has to hold {value} once, in one of its arguments", value=VALUE))
        if self.choices:
            if len(self.choices) < 2 or (self.words and len(self.words) != len(self.choices)):
                raise ValueError(say("there have to be two choices or more, and as many words as choices"))
        elif self.high <= self.low or (self.high - self.low) / self.step > MOST_NOTCHES:
            raise ValueError(say("high must be above low, with {most} steps between them at most", most=MOST_NOTCHES))
        return self


class SensorEntry(StrictTable):
    """A sensor: a file with a number, a command that prints one each time, or one that goes on printing a line a reading."""

    name: Name
    about: Annotated[str, Field(max_length=200)] = ""
    file: _FilePath = ""
    command: Words = ()
    goes_on: bool = False
    every_s: Annotated[float, Field(ge=0.1, le=3600)] = 1.0
    pattern: Annotated[str, Field(min_length=1, max_length=400)] = NUMBER
    scale: Positive = 1.0
    unit: Annotated[str, Field(max_length=20)] = ""
    digits: Annotated[int, Field(ge=0, le=4)] = 1
    works: Subsystem = Subsystem.WHOLE
    stop_at: Real | None = None
    at_most_s: Annotated[float, Field(gt=0, le=60)] = 5.0

    @model_validator(mode="after")
    def _whole(self) -> SensorEntry:
        _must_be_one_way(self.file, bool(self.command))
        if self.goes_on and not self.command:
            raise ValueError(say("only a command goes on"))
        known = sorted({unit for nature in NATURES.values() for unit in nature.units})
        if self.stop_at is not None and self.unit not in known:
            raise ValueError(say("stop_at needs a unit that means something: {units}", units=", ".join(known)))
        return self


class _File(StrictTable):
    format: Literal["yondle-own 1"]
    knob: Annotated[dict[Identifier, KnobEntry], Field(max_length=30)] = Field(default_factory=dict)
    sensor: Annotated[dict[Identifier, SensorEntry], Field(max_length=30)] = Field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class OwnThing:
    """One knob or sensor as its file describes it, with the pattern that finds its number."""

    id: str
    entry: KnobEntry | SensorEntry
    pattern: re.Pattern[str]

    @property
    def is_knob(self) -> bool:
        """Tell a knob from a sensor."""
        return isinstance(self.entry, KnobEntry)

    @property
    def commands(self) -> tuple[tuple[str, ...], ...]:
        """What it runs."""
        entry = self.entry
        found = (entry.read, entry.write, entry.back) if isinstance(entry, KnobEntry) else (entry.command,)
        return tuple(command for command in found if command)

    def runs(self) -> str:
        """Say what it runs, reads and writes."""
        file = self.entry.file
        if file:
            return say("reads and writes {file}", file=file) if self.is_knob else say("reads {file}", file=file)
        return say("runs {command}", command="; ".join(shlex.join(command) for command in self.commands))


def parse_own(text: str, source: str) -> tuple[OwnThing, ...]:
    """Read a file of knobs and sensors; raises KnownError that says what is wrong."""
    file = validated(_File, text, source, say("describes no knobs or sensors"), DOCUMENT)
    entries: list[tuple[str, KnobEntry | SensorEntry]] = [*file.knob.items(), *file.sensor.items()]
    found = tuple(OwnThing(id_, entry, one_group(entry.pattern, source, DOCUMENT)) for id_, entry in entries)
    if not found:
        raise KnownError(
            say("{source} has no knob and no sensor.", source=source), say("See {document}.", document=DOCUMENT)
        )
    if len({thing.id for thing in found}) < len(found):
        raise KnownError(say("{source}: a knob and a sensor have one id.", source=source), say("Give each its own."))
    files = [str(Path(thing.entry.file).resolve()) for thing in found if thing.is_knob and thing.entry.file]
    if len(set(files)) < len(files):
        raise KnownError(
            say("{source}: two knobs write one file.", source=source),
            say("What one sets, the other would find not in force: leave one out."),
        )
    return found


def fingerprint(thing: OwnThing) -> str:
    """Tell what is allowed from anything else: what it does to which files, and the very programs it runs.

    Raises KnownError where a program isn't there: nobody can say what would be run.
    """
    whole = hashlib.sha256(f"{thing.id}\0{thing.entry.model_dump_json()}".encode())
    for command in thing.commands:
        whole.update(_program(command[0]))
    return whole.hexdigest()


def _program(name: str) -> bytes:
    """Give the fingerprint of a program's own file: one that was put in its place isn't the one that was allowed."""
    found = shutil.which(name)
    if found is None:
        raise KnownError(
            say("There is no program '{name}' here.", name=name), say("Install it, or write where it is, from / on.")
        )
    try:
        with open(found, "rb") as program:
            return hashlib.sha256(program.read(LARGEST_PROGRAM)).digest()
    except OSError as error:
        raise KnownError(
            say("'{name}' can't be read ({error}).", name=name, error=error), say("Check its permissions.")
        ) from error


def _must_be_one_way(file: str, command: bool) -> None:
    if bool(file) == command:
        raise ValueError(say("it takes either a file or a command"))
    if file and not Path(file).is_absolute():
        raise ValueError(say("the file has to be written from / on"))
