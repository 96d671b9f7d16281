"""What the JSON cells of a logbook look like: anything else is damage, told when it is read."""

from __future__ import annotations

import json
import math
from functools import cache
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from yondle.formats.documents import LARGEST, Figure
from yondle.language.saying import say


class _Found(BaseModel):
    model_config = ConfigDict(extra="ignore", strict=True)

    knob: str
    loads: list[str]
    standard: str
    value: Figure
    probability: Figure
    left_at: Figure
    sure_there: Figure
    edge: Annotated[list[Figure], Field(min_length=2, max_length=2)]
    runs: int
    recalled: int
    failures: int
    held_back: int
    loaded_s: Figure
    step: int | None
    along: str
    at: Figure
    room_c: Figure | None = None
    warmer_k: Figure = 0.0


def plain(text: str) -> Any:
    """Read JSON that holds finite numbers only; raises ValueError for anything else."""
    try:
        return _FINITE.decode(text)
    except (TypeError, RecursionError) as error:
        raise ValueError(str(error)) from error


def numbers(text: str) -> dict[str, float]:
    """Read numbers by their names; raises ValueError for anything else."""
    found = plain(text)
    if not isinstance(found, dict) or not all(_is_figure(value) for value in found.values()):
        raise ValueError(say("numbers by their names should stand there"))
    return found


def told(text: str) -> dict[str, str | float]:
    """Read words and numbers by their names; raises ValueError for anything else."""
    found = plain(text)
    if not isinstance(found, dict) or not all(isinstance(v, str) or _is_figure(v) for v in found.values()):
        raise ValueError(say("words and numbers by their names should stand there"))
    return found


def changes(text: str) -> list[tuple[str, float, float]]:
    """Read changes: a knob, its old value and its new one; raises ValueError for anything else."""
    found = plain(text)
    if not isinstance(found, list) or not all(
        isinstance(c, list) and len(c) == 3 and isinstance(c[0], str) and _is_figure(c[1]) and _is_figure(c[2])
        for c in found
    ):
        raise ValueError(say("changes should stand there"))
    return [(knob, float(old), float(new)) for knob, old, new in found]


def findings(text: str) -> list[dict[str, Any]]:
    """Read what a plan found, by the names of a Finding; raises ValueError for anything else."""
    try:
        found = _findings().validate_python(plain(text))
    except ValidationError as error:
        raise ValueError(error.errors()[0]["msg"]) from error
    return [{**each.model_dump(), "loads": tuple(each.loads), "edge": (each.edge[0], each.edge[1])} for each in found]


@cache
def _findings() -> TypeAdapter[list[_Found]]:
    return TypeAdapter(list[_Found])


def words(text: str) -> tuple[str, ...]:
    """Read a list of words; raises ValueError for anything else."""
    found = plain(text)
    if not isinstance(found, list) or not all(isinstance(word, str) for word in found):
        raise ValueError(say("a list of words should stand there"))
    return tuple(found)


def _is_figure(value: object) -> bool:
    return (
        isinstance(value, int | float)
        and not isinstance(value, bool)
        and math.isfinite(value)
        and abs(value) <= LARGEST
    )


def _no_number(name: str) -> float:
    raise ValueError(say("{name} is no number", name=name))


_FINITE = json.JSONDecoder(parse_constant=_no_number)
