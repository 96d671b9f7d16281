"""What the real machine was like when its logbook was last opened, and what is gone of that."""

from __future__ import annotations

from pathlib import Path
from typing import TypeVar

from pydantic import TypeAdapter, ValidationError

from yondle.formats.documents import KeptDeclaration
from yondle.language.saying import say
from yondle.logbook.keeping import Keeping, KeptReader
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.rigs import Absent, RigDeclaration
from yondle.model.sensors import Channel
from yondle.model.workloads import Workload

_Named = TypeVar("_Named", Knob, Channel, Workload)


def absent_from(kept: KeptReader, path: Path, declaration: RigDeclaration) -> Absent:
    """Give what the machine had when its logbook was last opened, or before, and doesn't have now."""
    if kept.find(KeptDeclaration) is None:
        return Absent()
    before = kept_declaration(kept, path)
    return Absent(
        _gone((*before.knobs, *before.absent.knobs), declaration.knobs),
        _gone((*before.channels, *before.absent.channels), declaration.channels),
        _gone((*before.workloads, *before.absent.workloads), declaration.workloads),
    )


def _gone(before: tuple[_Named, ...], now: tuple[_Named, ...]) -> tuple[_Named, ...]:
    here = {thing.id for thing in now}
    return tuple(thing for thing in before if thing.id not in here)


def keep_declaration(keeping: Keeping, declaration: RigDeclaration) -> None:
    """Keep what the real machine is like, so that its logbook can be read on another."""
    told = TypeAdapter(RigDeclaration).dump_python(declaration, mode="json")
    if keeping.document(KeptDeclaration).root != told:
        keeping.keep(KeptDeclaration(told))


def kept_declaration(kept: KeptReader, path: Path) -> RigDeclaration:
    """Give what the machine was like; raises KnownError where that isn't kept, or can't be read."""
    told = kept.find(KeptDeclaration)
    if told is None:
        raise KnownError(
            say("{path} doesn't say what its machine is like.", path=path), say("Open it once on that machine.")
        )
    try:
        return TypeAdapter(RigDeclaration).validate_python(told.root)
    except ValidationError as error:
        raise KnownError(
            say(
                "{path} says of its machine what can't be read ({error_count} faults).",
                path=path,
                error_count=error.error_count(),
            ),
            say("Open it once on that machine."),
        ) from error
