"""Reads tables from other programs: scores, frame times and sensor logs as CSV, with the columns the user names.

Written by many programs in many ways, so nothing is guessed that changes a figure: units are told, columns are named.
What can be seen in the text itself is found out: the separator, and whether there is a heading.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from zoneinfo import ZoneInfo

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.sensors import Reading, SampleBlock
from yondle.workloads.commands import number

LARGEST_BYTES = 64 << 20
SEPARATORS = (",", ";", "\t", "|")
MS_PER = {"ms": 1.0, "s": 1000.0, "us": 0.001}
LONGEST_FRAME_MS = 60_000.0


@dataclass(frozen=True, slots=True)
class ReadTable:
    """A table as read: its columns by name, and its rows as text."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    source: str

    def column(self, name: str) -> tuple[str, ...]:
        """Give a column by name, or by number from 1; raises KnownError naming the columns there are."""
        i = self._place(name)
        return tuple(row[i] if i < len(row) else "" for row in self.rows)

    def others(self, names: Iterable[str]) -> tuple[str, ...]:
        """Name the columns with anything in them besides these; raises KnownError for a name that isn't there."""
        told = {self._place(name) for name in names}
        filled = {i for row in self.rows for i, cell in enumerate(row) if cell.strip()}
        return tuple(column for i, column in enumerate(self.columns) if i in filled - told)

    def _place(self, name: str) -> int:
        wanted = name.strip().casefold()
        for i, column in enumerate(self.columns):
            if wanted in (column.strip().casefold(), str(i + 1)):
                return i
        raise KnownError(
            say("{source} has no column '{name}'.", source=self.source, name=name),
            say("It has: {columns}.", columns=", ".join(self.columns)),
        )


@dataclass(frozen=True, slots=True)
class Score:
    """One figure of a table of scores."""

    benchmark: str
    value: float


def read_table(path: Path) -> ReadTable:
    """Read a CSV file; raises KnownError for one that is missing, too large, empty or no text."""
    try:
        if path.stat().st_size > LARGEST_BYTES:
            raise KnownError(
                say("{path} is too large.", path=path),
                say("At most {largest_bytes} MiB are read; split it.", largest_bytes=LARGEST_BYTES >> 20),
            )
        text = path.read_text("utf-8-sig")
    except OSError as error:
        raise KnownError(
            say("{path} can't be read ({strerror}).", path=path, strerror=error.strerror),
            say("Check the name and its permissions."),
        ) from error
    except UnicodeDecodeError as error:
        raise KnownError(say("{path} is no text in UTF-8.", path=path), say("Save it as CSV in UTF-8.")) from error
    return parse_table(text, str(path))


def parse_table(text: str, source: str) -> ReadTable:
    """Parse CSV text (RFC 4180, with any of the usual separators)."""
    lines = [line for line in text.splitlines() if line.strip()]
    if not lines:
        raise KnownError(
            say("{source} is empty.", source=source), say("Give a file with a row of names and rows of figures.")
        )
    separator = max(SEPARATORS, key=lines[0].count)
    if lines[0].count(separator) == 0:
        separator = ","
    rows = [
        tuple(cell.strip() for cell in row) for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=separator)
    ]
    heading = rows[0]
    if all(_is_number(cell, separator) for cell in heading if cell):
        return ReadTable(tuple(say("column {i}", i=i + 1) for i in range(len(heading))), tuple(rows), source)
    if len(rows) < 2:
        raise KnownError(
            say("{source} has a heading and no rows.", source=source), say("Give the file with its figures.")
        )
    return ReadTable(heading, tuple(rows[1:]), source)


def scores(table: ReadTable, benchmark: str, score: str, decimal_comma: bool) -> list[Score]:
    """Read a table of scores: one row a figure, with the benchmark's name in one column."""
    names, values = table.column(benchmark), _numbers(table, score, decimal_comma)
    return [Score(name, value) for name, value in zip(names, values, strict=True) if name]


def frame_times_ms(table: ReadTable, column: str, unit: str, stamps: bool, decimal_comma: bool) -> tuple[float, ...]:
    """Read frame times in ms from a column in `unit` (ms, s or us); with `stamps` they are moments, not durations.

    Raises KnownError where a frame would last nothing, less, or longer than a minute: then it is another column or unit.
    """
    if unit not in MS_PER:
        raise KnownError(
            say("'{unit}' is no unit of frame times.", unit=unit), say("Use one of {ms_per}.", ms_per=", ".join(MS_PER))
        )
    values = [v * MS_PER[unit] for v in _numbers(table, column, decimal_comma)]
    times = [b - a for a, b in pairwise(values)] if stamps else values
    bad = next((t for t in times if not 0.0 < t <= LONGEST_FRAME_MS), None)
    if bad is not None or not times:
        what = say("a frame of {bad:g} ms", bad=bad) if bad is not None else say("no frames")
        raise KnownError(
            say("{source}: column '{column}' would give {what}.", source=table.source, column=column, what=what),
            say("Check the column and its unit."),
        )
    return tuple(times)


def sensor_log(
    table: ReadTable, time: str, channels: dict[str, str], zone: str, decimal_comma: bool
) -> tuple[str, SampleBlock]:
    """Read a log of sensors: `channels` maps columns to the names they are kept under, with their units.

    Times are seconds, or dates and times of the time zone given; gives when it began (ISO 8601, '' where only seconds are
    told) and the samples. Cells without a number are missing readings.
    """
    began, seconds = _times(table, table.column(time), zone, decimal_comma)
    columns = [table.column(column) for column in channels]
    rows = [tuple(_reading(cell, decimal_comma) for cell in cells) for cells in zip(*columns, strict=True)]
    order = sorted(range(len(seconds)), key=seconds.__getitem__)
    block = SampleBlock(tuple(channels.values()), tuple(seconds[i] for i in order), tuple(rows[i] for i in order))
    return began, block


def _times(table: ReadTable, cells: tuple[str, ...], zone: str, decimal_comma: bool) -> tuple[str, list[float]]:
    try:
        values = [number(cell, decimal_comma) for cell in cells]
        first = min(values)
        return "", [value - first for value in values]
    except ValueError:
        pass
    try:
        where = ZoneInfo(zone) if zone else None
        moments = [datetime.fromisoformat(cell.replace("/", "-")) for cell in cells]
        moments = [m if m.tzinfo is not None else m.replace(tzinfo=where) for m in moments]
    except (ValueError, KeyError, OSError) as error:
        raise KnownError(
            say("{source}: the times can't be read ({error}).", source=table.source, error=error),
            say("They are seconds, or dates like 2026-01-31 20:15:00."),
        ) from error
    if moments[0].tzinfo is None:
        raise KnownError(
            say("{source}: its times name no time zone.", source=table.source),
            say("Give it, for example --zone Europe/Berlin."),
        )
    began = min(moments)
    return began.isoformat(), [(moment - began).total_seconds() for moment in moments]


def _numbers(table: ReadTable, column: str, decimal_comma: bool) -> list[float]:
    values = []
    for i, cell in enumerate(table.column(column)):
        try:
            values.append(number(cell, decimal_comma))
        except ValueError:
            comma = "" if decimal_comma else say(" Is its decimal sign a comma? Then say so.")
            raise KnownError(
                say(
                    "{source}: '{cell}' in row {i} of column '{column}' is no number.",
                    source=table.source,
                    cell=cell,
                    i=i + 1,
                    column=column,
                ),
                say("Correct it.{comma}", comma=comma),
            ) from None
    return values


def _reading(cell: str, decimal_comma: bool) -> Reading:
    try:
        value = number(cell, decimal_comma)
    except ValueError:
        return None
    return value if math.isfinite(value) else None


def _is_number(cell: str, separator: str) -> bool:
    try:
        number(cell, decimal_comma=separator == ";")
    except ValueError:
        return False
    return True
