"""Logs of other programs, told by their heads: a row a frame with its time, or a row a moment with a column a sensor.

What the head doesn't say is asked for: no unit is guessed but that of a column that says it.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.workloads.commands import number
from yondle.workloads.imported import MS_PER, ReadTable

_UNIT = re.compile(r"[\[(]\s*([^\[\]()]+?)\s*[\])]\s*$|[_ ,]\s*(ms|us|µs|s|sec|seconds)\s*$", re.I)
_FRAME = re.compile(
    r"frame.?(?:time|duration|length|ms)|time.?per.?frame|ms.?per.?frame|^frame$|bilddauer|bildzeit", re.I
)
_MOMENT = re.compile(r"^(?:time|elapsed|timestamp|seconds|t|date|datetime|zeit|zeitpunkt|sekunden|datum)\b", re.I)
_DROPPED = re.compile(r"drop(?:ped)?|verworfen|ausgelassen", re.I)
_AS_UNIT = {"ms": "ms", "us": "us", "µs": "us", "s": "s", "sec": "s", "seconds": "s"}
_USUAL_MS = (0.5, 500.0)
"""What frames usually last; a column in another unit lies elsewhere."""


@dataclass(frozen=True, slots=True)
class FramesLog:
    """A row a frame: the column with its time, its unit, and that of the frames dropped, if any."""

    column: str
    unit: str
    dropped: str = ""


@dataclass(frozen=True, slots=True)
class SensorsLog:
    """A row a moment: the column with the time, and the others by what they are kept under."""

    time: str
    channels: dict[str, str]


def log_of(table: ReadTable, decimal_comma: bool) -> FramesLog | SensorsLog:
    """Tell what a log holds from its head; raises KnownError where that doesn't say it."""
    frames = [c for c in table.columns if _FRAME.search(c) and _share(table, c, decimal_comma) > 0.9]
    if frames:
        unit = _unit(frames[0]) or _told_by(table, frames[0], decimal_comma)
        dropped = next((c for c in table.columns if _DROPPED.search(c) and c != frames[0]), "")
        return FramesLog(frames[0], unit, dropped)
    moments = [c for c in table.columns if _MOMENT.search(c.strip())]
    others = [c for c in table.columns if c not in moments and _share(table, c, decimal_comma) > 0.5]
    if moments and others:
        return SensorsLog(moments[0], {c: _kept_as(c) for c in others})
    raise KnownError(
        say(
            "{source}: its head doesn't tell what it holds ({columns}).",
            source=table.source,
            columns=", ".join(table.columns[:6]),
        ),
        say("Say it: yondle import frames --column, yondle import sensors --time --column, or yondle import table."),
    )


def dropped_share(table: ReadTable, log: FramesLog) -> float | None:
    """Give the share of frames that were dropped; None where no column tells."""
    if not log.dropped:
        return None
    told = [cell.strip().casefold() for cell in table.column(log.dropped)]
    return sum(cell not in ("", "0", "0.0", "false", "no", "nein") for cell in told) / max(len(told), 1)


def _unit(head: str) -> str:
    found = _UNIT.search(head)
    said = (found[1] or found[2] or "").strip().casefold() if found is not None else ""
    return _AS_UNIT.get(said, "")


def _told_by(table: ReadTable, column: str, decimal_comma: bool) -> str:
    """Tell the unit of frame times from their size, where only one of the units makes frames of them."""
    values = sorted(v for cell in table.column(column) if (v := _value(cell, decimal_comma)) is not None)
    middle = values[len(values) // 2] if values else 0.0
    fits = [unit for unit, per in MS_PER.items() if _USUAL_MS[0] <= middle * per <= _USUAL_MS[1]]
    if len(fits) == 1:
        return fits[0]
    raise KnownError(
        say("{source}: the unit of '{column}' isn't told.", source=table.source, column=column),
        say("Say it: yondle import frames --unit ms"),
    )


def _kept_as(head: str) -> str:
    """Give the name a sensor is kept under: what its head says, with its unit as 'name in unit'."""
    found = re.search(r"^(.*?)\s*[\[(]\s*([^\[\]()]+(?:\([^()]*\))?)\s*[\])]\s*$", head)
    return f"{found[1].strip()} in {found[2].strip()}" if found is not None and found[1].strip() else head.strip()


def _share(table: ReadTable, column: str, decimal_comma: bool) -> float:
    cells = [cell for cell in table.column(column)[:200] if cell.strip()]
    return sum(_value(cell, decimal_comma) is not None for cell in cells) / len(cells) if cells else 0.0


def _value(cell: str, decimal_comma: bool) -> float | None:
    try:
        value = number(cell, decimal_comma)
    except ValueError:
        return None
    return value if math.isfinite(value) else None
