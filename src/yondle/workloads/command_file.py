"""Reads files that describe a workload of the user's own (docs/workload-file.md)."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from yondle.formats.knob_table import Identifier, Name, Positive, StrictTable
from yondle.formats.toml_files import one_group, validated
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Subsystem
from yondle.model.workloads import Direction, Metric, Workload
from yondle.workloads.commands import OwnCommand

DOCUMENT = "docs/workload-file.md"
_DIRECTIONS = {"higher": Direction.HIGHER, "lower": Direction.LOWER}


class _Figure(StrictTable):
    pattern: Annotated[str, Field(min_length=1, max_length=400)]
    unit: Annotated[str, Field(max_length=20)] = ""
    better: Literal["higher", "lower"] = "higher"
    digits: Annotated[int, Field(ge=0, le=4)] = 1


class _File(StrictTable):
    format: Literal["yondle-workload 1"]
    id: Identifier
    name: Name
    about: Annotated[str, Field(max_length=200)] = ""
    command: Annotated[tuple[Annotated[str, Field(max_length=2000)], ...], Field(min_length=1, max_length=100)]
    folder: Annotated[str, Field(max_length=1000)] = ""
    at_most_s: Positive = 600.0
    takes_about_s: Positive = 30.0
    works: Subsystem = Subsystem.PROCESSOR
    decimal_comma: bool = False
    score: _Figure
    parts: Annotated[dict[Name, _Figure], Field(max_length=30)] = Field(default_factory=dict)


def parse_command(text: str, source: str) -> OwnCommand:
    """Read the description of a command; raises KnownError that says what is wrong."""
    file = validated(_File, text, source, say("describes no workload"), DOCUMENT)
    if file.folder and not Path(file.folder).is_absolute():
        raise KnownError(
            say("{source}: folder '{folder}' isn't absolute.", source=source, folder=file.folder),
            say("Write it from / on, or leave it out."),
        )
    figures = {"": file.score, **file.parts}
    patterns = {name: one_group(figure.pattern, source, DOCUMENT) for name, figure in figures.items()}
    parts = tuple(_metric(name, figure) for name, figure in file.parts.items())
    workload = Workload(
        file.id, file.name, file.about or " ".join(file.command), _metric(file.name, file.score), file.takes_about_s,
        subsystem=file.works, parts=parts,
    )  # fmt: skip
    return OwnCommand(workload, file.command, patterns, file.folder, file.at_most_s, file.decimal_comma)


def fingerprint(command: OwnCommand) -> str:
    """Tell one command from another: what is run, and where."""
    return hashlib.sha256("\0".join((command.folder, *command.command)).encode()).hexdigest()


def _metric(name: str, figure: _Figure) -> Metric:
    return Metric(name, figure.unit, _DIRECTIONS[figure.better], figure.digits)
