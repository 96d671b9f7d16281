"""What a notebook and a bench say to each other, one JSON object a line, and what of it is believed (docs/bench.md).

Neither side trusts the other: lines have a length, lists a size, numbers are finite, words are short and can be printed.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import fields, is_dataclass, replace
from enum import Enum
from functools import cache
from typing import Any

from pydantic import TypeAdapter, ValidationError

from yondle.language.saying import kept, said_again, say
from yondle.model.knobs import Change
from yondle.model.measured import Measured
from yondle.model.rigs import Absent, KnobReply, RigDeclaration
from yondle.model.sensors import Reading
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult

FORMAT = "yondle-bench 1"
LONGEST_REQUEST, LONGEST_ANSWER = 1 << 16, 1 << 22
"""Bytes of a line, to the bench and from it."""
MOST_KNOBS, MOST_CHANNELS, MOST_WORKLOADS, MOST_FACTS, MOST_FRAMES = 500, 1000, 300, 500, 100_000
LONGEST_WORDS = 2000
MOST_NOTCHES, MOST_DIGITS = 100_000.0, 9
_ID = re.compile(r"[A-Za-z0-9_.:+-]{1,80}")
_BOOT = re.compile(r"[0-9A-Za-z-]{0,64}")


_ENCODER = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False, allow_nan=False)


class NotUnderstoodError(Exception):
    """A line that is none of the protocol; says which part."""


def line(told: Mapping[str, Any]) -> bytes:
    """Write a message as a line."""
    return _ENCODER.encode(told).encode("utf-8", "replace") + b"\n"


def row_line(t: float, slept_s: float, row: Sequence[Reading]) -> bytes:
    """Write samples as a line: as `line` does, in a third of the time, since they are most of what is ever said."""
    values = ",".join(["null" if v is None or not math.isfinite(v) else f"{v:.9g}" for v in row])
    return f'{{"is":"row","t":{t:.4f},"slept":{slept_s:.3f},"row":[{values}]}}\n'.encode()


def message(told: bytes) -> dict[str, Any]:
    """Read a line; raises NotUnderstoodError for what is no object."""
    try:
        read = json.loads(told, parse_constant=_no_number)
    except (ValueError, RecursionError) as error:
        raise NotUnderstoodError("it is no JSON") from error
    if not isinstance(read, dict):
        raise NotUnderstoodError("it is no object")
    return read


class Lines:
    """Takes bytes as they come and gives whole lines; raises NotUnderstoodError for one without an end."""

    def __init__(self, longest: int) -> None:
        self._longest, self._rest = longest, b""

    def take(self, piece: bytes) -> Iterator[bytes]:
        """Give the lines that are whole now."""
        *whole, self._rest = (self._rest + piece).split(b"\n")
        for each in whole:
            if len(each) > self._longest:
                raise NotUnderstoodError("a line is too long")
            if each.strip():
                yield each
        if len(self._rest) > self._longest:
            raise NotUnderstoodError("a line is too long")


# -- what a bench tells --------------------------------------------------------------------------------------------------


def plain(value: Any) -> Any:
    """Give dataclasses, enumerations and tuples as plain JSON values; words that know how they were made are kept so."""
    if is_dataclass(value) and not isinstance(value, type):
        return {each.name: plain(getattr(value, each.name)) for each in fields(value) if each.init}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, Mapping):
        return {str(plain(key)): plain(each) for key, each in value.items()}
    if isinstance(value, str):
        return str(value)
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, list | tuple):
        return [plain(each) for each in value]
    return value


def words(told: object) -> str:
    """Give words that a bench said, in the language of this run, short and printable."""
    text = said_again(told) if isinstance(told, str) and len(told) <= 10 * LONGEST_WORDS else ""
    return "".join(c if c.isprintable() or c in "\n\u00a0\u202f" else "·" for c in text[:LONGEST_WORDS])


def declaration_of(told: object) -> RigDeclaration:
    """Read what a bench has; raises NotUnderstoodError where that can't be a machine."""
    if not isinstance(told, dict):
        raise NotUnderstoodError("its declaration is none")
    for name, most in (("knobs", MOST_KNOBS), ("channels", MOST_CHANNELS), ("workloads", MOST_WORKLOADS)):
        things = told.get(name)
        if not isinstance(things, list) or len(things) > most:
            raise NotUnderstoodError(f"its {name} are no list, or too many")
        ids = [_id_of(each, name) for each in things]
        if len(set(ids)) != len(ids):
            raise NotUnderstoodError(f"two of its {name} have one id")
    for each in told["knobs"]:
        _must_be_a_range(each)
    _must_be_bounded(told)
    try:
        read = _declarations().validate_python({**told, "absent": {}})
    except (ValidationError, ValueError, TypeError, OverflowError, RecursionError) as error:
        raise NotUnderstoodError("its declaration is none") from error
    _must_be_finite(read)
    if not 0.05 <= read.sample_interval_s <= 5.0 or len(read.asks) > MOST_FACTS:
        raise NotUnderstoodError("its declaration is none")
    return replace(read, absent=Absent(), lends=True)


@cache
def _declarations() -> TypeAdapter[RigDeclaration]:
    return TypeAdapter(RigDeclaration)


def _id_of(told: object, kind: str) -> str:
    name = told.get("id") if isinstance(told, dict) else None
    if not isinstance(name, str) or not _ID.fullmatch(name):
        raise NotUnderstoodError(f"one of its {kind} has no id")
    return name


def _must_be_a_range(told: dict[str, Any]) -> None:
    """See that a knob has no more values than can be counted: they are, as it is made."""
    low, high, step = (_number(told.get(name)) for name in ("low", "high", "step"))
    stops = told.get("stops", [])
    countable = step > 0 and 0 <= (high - low) / step <= MOST_NOTCHES
    if not countable or not isinstance(stops, list) or len(stops) > MOST_KNOBS:
        raise NotUnderstoodError("a knob has no range")


def _must_be_finite(value: object) -> None:
    """See that what was read has numbers alone where it has figures: a word such as 'nan' is read as one, too."""
    if isinstance(value, float) and not math.isfinite(value):
        raise NotUnderstoodError("a number is none")
    if is_dataclass(value):
        value = [getattr(value, each.name) for each in fields(value)]
    for each in value.values() if isinstance(value, dict) else value if isinstance(value, list | tuple) else ():
        _must_be_finite(each)


def _must_be_bounded(value: object, depth: int = 0) -> None:
    """See that words are short and can be printed, figures are numbers of so many digits, and nothing is deep or endless."""
    if depth > 8:
        raise NotUnderstoodError("it is too deep")
    if isinstance(value, str) and (
        len(value) > LONGEST_WORDS or not (value.isprintable() or value.replace("\n", "").isprintable())
    ):
        raise NotUnderstoodError("words are too long, or can't be printed")
    if isinstance(value, dict):
        if len(value) > MOST_CHANNELS:
            raise NotUnderstoodError("a table is too long")
        digits = value.get("digits", 0)
        if type(digits) is not int or not 0 <= digits <= MOST_DIGITS:
            raise NotUnderstoodError("a figure has too many digits")
        for key, each in value.items():
            _must_be_bounded(key, depth + 1)
            _must_be_bounded(each, depth + 1)
    elif isinstance(value, list):
        if len(value) > MOST_CHANNELS:
            raise NotUnderstoodError("a list is too long")
        for each in value:
            _must_be_bounded(each, depth + 1)


def numbers_of(told: object, most: int = MOST_FACTS) -> dict[str, float]:
    """Read a table of numbers by name."""
    if not isinstance(told, dict) or len(told) > most:
        raise NotUnderstoodError("it is no table of numbers")
    return {_name(name): _number(value) for name, value in told.items()}


def facts_of(told: object) -> dict[str, str | float]:
    """Read a table of words and numbers by name."""
    if not isinstance(told, dict) or len(told) > MOST_FACTS:
        raise NotUnderstoodError("it is no table of facts")
    return {_name(name): words(value) if isinstance(value, str) else _number(value) for name, value in told.items()}


def row_of(told: object, channels: int) -> tuple[Reading, ...]:
    """Read a row of samples."""
    if not isinstance(told, list) or len(told) != channels:
        raise NotUnderstoodError("a row has another length than there are sensors")
    return tuple(None if each is None else _number(each) for each in told)


def replies_of(told: object) -> tuple[KnobReply, ...]:
    """Read how values were answered."""
    if not isinstance(told, list) or len(told) > MOST_KNOBS:
        raise NotUnderstoodError("replies are a list")
    made = []
    for each in told:
        if not isinstance(each, dict) or type(each.get("taken")) is not bool:
            raise NotUnderstoodError("a reply is none")
        late = each.get("after_restart") is True
        made.append(
            KnobReply(
                _name(each.get("knob")), _number(each.get("asked")), each["taken"], words(each.get("message", "")), late
            )
        )
    return tuple(made)


def changes_of(told: list[Any], declaration: RigDeclaration) -> tuple[Change, ...]:
    """Read what was put back; what is none of the bench's knobs, or no number, is left out."""
    known, made = {knob.id for knob in declaration.knobs}, []
    for each in told:
        if isinstance(each, dict) and isinstance(each.get("knob"), str) and each["knob"] in known:
            with suppress(NotUnderstoodError):
                made.append(Change(each["knob"], _number(each.get("before")), _number(each.get("after"))))
    return tuple(made)


def result_of(told: object) -> PassResult:
    """Read what a pass brought."""
    if not isinstance(told, dict) or type(told.get("ok")) is not bool:
        raise NotUnderstoodError("a result is none")
    failure, frames = told.get("failure", ""), told.get("frame_times_ms", [])
    if failure not in ("", *Failure) or not isinstance(frames, list) or len(frames) > MOST_FRAMES:
        raise NotUnderstoodError("a result is none")
    score = None if told.get("score") is None else _number(told["score"])
    seconds = _number(told.get("duration_s"))
    if told["ok"] == bool(failure) or (told["ok"] and score is None) or not 0.0 <= seconds < 1e7:
        raise NotUnderstoodError("a result is none")
    return PassResult(
        told["ok"], score, seconds, str(failure), words(told.get("detail", "")), _measured_of(told.get("measured", {})),
        tuple(_number(each) for each in frames),
    )  # fmt: skip


def _measured_of(told: object) -> Measured:
    if not isinstance(told, dict):
        raise NotUnderstoodError("what was measured is no table")
    parts = ("mean", "most", "least", "start", "errors", "counted", "settings", "parts")
    return Measured(**{name: numbers_of(told.get(name, {})) for name in parts}, told=facts_of(told.get("told", {})))


def result_told(result: PassResult) -> dict[str, Any]:
    """Tell what a pass brought."""
    told: dict[str, Any] = plain(result)
    return {**told, "detail": kept(result.detail), "frame_times_ms": told["frame_times_ms"][:MOST_FRAMES]}


def boot_of(told: object) -> str:
    """Read a boot identity."""
    if not isinstance(told, str) or not _BOOT.fullmatch(told):
        raise NotUnderstoodError("a boot has no such name")
    return told


def time_of(told: object) -> float:
    """Read seconds of a clock that counts from a start."""
    seconds = _number(told)
    if not 0.0 <= seconds < 1e10:
        raise NotUnderstoodError("a time is none")
    return seconds


def _name(told: object) -> str:
    if not isinstance(told, str) or not 0 < len(told) <= LONGEST_WORDS:
        raise NotUnderstoodError("a name is none")
    return words(told)


def _number(told: object) -> float:
    try:
        number = float(told) if type(told) in (int, float) else math.nan  # type: ignore[arg-type]
    except OverflowError:
        number = math.nan
    if not math.isfinite(number):
        raise NotUnderstoodError("a number is none")
    return number


def _no_number(words_: str) -> float:
    raise ValueError(say("{words} is no number", words=words_))
