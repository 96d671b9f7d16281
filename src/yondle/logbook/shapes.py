"""What the small values and the JSON cells of a logbook look like: anything else is damage, told when it is read."""

from __future__ import annotations

import json
import math
from functools import cache
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from yondle.language.saying import say
from yondle.model.workloads import Direction

LARGEST = 1e100


def _sized(value: float) -> float:
    if not abs(value) <= LARGEST:
        raise ValueError(say("must be a finite number"))
    return value


Figure = Annotated[float, Field(strict=True), AfterValidator(_sized)]


class _Loose(BaseModel):
    model_config = ConfigDict(extra="allow", strict=True)


class _Typed(_Loose):
    id: str
    name: str
    unit: str
    direction: Annotated[Direction, Field(strict=False)]
    digits: Annotated[int, Field(ge=0, le=9)]


class _Reference(_Loose):
    scores: dict[str, list[Figure]]
    note: str


class _Settings(_Loose):
    nice: int
    memory_mib: int
    folder: str
    processors: list[int]


class _Meter(_Loose):
    name: str
    address: str
    unit: str


class _Found(_Loose):
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


class _Clock(_Loose):
    boot: str
    ahead_s: Figure


class _Heading(_Loose):
    setup: dict[str, Figure]
    position: int | None


_NUMBERS = dict[str, Figure]
_SHAPES: dict[str, Any] = {
    "ranges": dict[str, Annotated[list[Figure], Field(min_length=2, max_length=2)]],
    "limits": dict[str, Figure | None],
    "conditions": dict[str, str],
    "chosen benchmarks": list[str],
    "typed workloads": list[_Typed],
    "compared": list[str],
    "references": dict[str, _Reference],
    "prices": _NUMBERS,
    "question": str,
    "report sections": list[str],
    "own workloads": list[str],
    "meters": list[_Meter],
    "workload settings": _Settings,
    "stock": _NUMBERS,
    "others at most": Figure,
    "heading": _Heading,
    "clock": _Clock,
    "unfolded groups": list[str],
    "mappings": dict[str, dict[str, Any]],
    "declaration": dict[str, Any],
}
"""By the names the values are kept under."""


@cache
def _shape(name: str) -> TypeAdapter[Any]:
    """Make what checks a value when the first of its name is read: making all of them would take a while at every start."""
    return TypeAdapter(_SHAPES[name])


def small_value(name: str, text: str) -> Any:
    """Read a small value kept under a name; raises ValueError for what it can't be."""
    value = plain(text)
    if name in _SHAPES and value is not None:
        try:
            _shape(name).validate_python(value)
        except ValidationError as error:
            raise ValueError(error.errors()[0]["msg"]) from error
    return value


def plain(text: str) -> Any:
    """Read JSON that holds finite numbers only; raises ValueError for anything else."""
    try:
        return json.loads(text, parse_constant=_no_number)
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
