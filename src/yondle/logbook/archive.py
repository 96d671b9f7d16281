"""A whole logbook as plain values and back: every table by its columns, samples as times and readings, files as base64.

The same logbook gives the same values, and a logbook made from them gives them again (docs/json-format.md).
"""

from __future__ import annotations

import base64
import binascii
import json
import math
import sqlite3
from array import array
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yondle.formats.whole_files import written_whole
from yondle.language.saying import say
from yondle.logbook.samples import pack, unpack
from yondle.logbook.schema import SCHEMA_VERSION, TABLES, Column, Kind, Table
from yondle.logbook.sql import Store, inserted
from yondle.logbook.store import connect, create_store, trouble
from yondle.model.errors import KnownError
from yondle.model.sensors import SampleBlock

FORMAT = "yondle-logbook 2"
_JSON = {
    "step": {"setup", "changes", "derived"}, "attempt": {"home", "conditions", "rests_at", "check", "last", "signs", "seen"},
    "pass": {"facts"}, "sample_block": {"channels"}, "journal": {"detail"}, "result": {"facts"}, "sensor_log": {"channels"},
    "state": {"value"}, "profile": {"setup"}, "plan": {"start", "found"}, "plan_move": {"result"},
}  # fmt: skip
"""Columns that hold JSON text, which stands in the archive as what it says."""
_SAMPLED = {"sample_block", "sensor_log"}
"""Tables whose blobs are packed samples."""
_LARGEST_COUNT = 1 << 53
Values = dict[str, Any]


def values_of(store: Store, samples: bool = True) -> Values:
    """Give everything in a logbook as plain values; without `samples` traces are left out."""
    tables: dict[str, list[Values]] = {}
    with store.reading() as connection:
        for table in TABLES:
            if table.name == "sample_block" and not samples:
                tables[table.name] = []
                continue
            names, order = (", ".join(f'"{name}"' for name in some) for some in (table.names, table.keys))
            rows = connection.execute(f'SELECT {names} FROM "{table.name}" ORDER BY {order}')
            tables[table.name] = [_plain(table, dict(row)) for row in rows]
    return {"format": FORMAT, "schema": SCHEMA_VERSION, "tables": tables}


def restore(path: Path, document: object) -> None:
    """Make a new logbook from such values; raises KnownError for what isn't one, and leaves nothing behind then."""
    tables = _checked(document)
    with written_whole(path, replaces=False) as new:
        create_store(new)
        store = connect(new)
        try:
            with store.writing() as connection:
                for table in TABLES:
                    for i, row in enumerate(tables.get(table.name, []), 1):
                        inserted(connection, table.name, **_kept(table, row, f"{table.name} {i}"))
            with store.bare() as connection:
                connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        except (UnicodeEncodeError, OverflowError) as error:
            raise _wrong(say("it holds what no logbook can: {error}", error=error)) from error
        except sqlite3.IntegrityError as error:
            raise _wrong(say("its tables don't fit together ({orig})", orig=error)) from error
        except sqlite3.DatabaseError as error:
            raise trouble(path, error) from error
        finally:
            store.close()


def _checked(document: object) -> dict[str, list[Values]]:
    if not isinstance(document, dict) or not str(document.get("format", "")).startswith("yondle-logbook "):
        raise _wrong(say("it doesn't say that it is one"))
    if document["format"] != FORMAT:
        raise KnownError(
            say(
                "This archive is '{document}', and this Yondle reads '{format}'.",
                document=document["format"],
                format=FORMAT,
            ),
            say("Write it again with the same version, or read it with the one that wrote it."),
        )
    if document.get("schema") != SCHEMA_VERSION:
        raise KnownError(
            say(
                "This archive has schema {document}, and this Yondle reads {schema_version}.",
                document=document.get("schema"),
                schema_version=SCHEMA_VERSION,
            ),
            say("Open its logbook with this version once, then write the archive again."),
        )
    tables, known = document.get("tables"), {table.name for table in TABLES}
    if not isinstance(tables, dict) or set(tables) - known:
        raise _wrong(say("it has tables that no logbook has"))
    if not all(isinstance(rows, list) and all(isinstance(row, dict) for row in rows) for rows in tables.values()):
        raise _wrong(say("a table is no list of rows"))
    if len(tables.get("rig", [])) != 1:
        raise _wrong(say("it names no rig"))
    return tables


def _plain(table: Table, row: Values) -> Values:
    if table.name in _SAMPLED:
        block = unpack(tuple(json.loads(row["channels"])), row["samples"], row.pop("data"))
        row["times_s"] = list(block.times_s)
        row["readings"] = [list(each) for each in block.rows]
    for column in table.columns:
        if column.kind is Kind.YES_OR_NO and row[column.name] is not None:
            row[column.name] = bool(row[column.name])
    for name, value in row.items():
        if name in _JSON.get(table.name, ()) and value is not None:
            row[name] = json.loads(value)
        elif isinstance(value, bytes):
            row[name] = list(array("f", value)) if name == "frame_times" else base64.b64encode(value).decode("ascii")
    return row


def _kept(table: Table, row: Values, place: str) -> Values:
    try:
        made = dict(row)
        for key in table.keys:
            if made.get(key) is None:
                raise ValueError(say("{key} is missing", key=key))
        if table.name in _SAMPLED:
            made["data"] = pack(_block(made))
        for name, value in list(made.items()):
            column = table.column(name)
            if column is None:
                raise _wrong(say("{place} has a '{name}'", place=place, name=name))
            if value is None and column.empty:
                continue
            if name in _JSON.get(table.name, ()):
                made[name] = json.dumps(value, ensure_ascii=False)
            elif name == "frame_times":
                made[name] = array("f", value).tobytes()
            elif column.kind is Kind.BYTES and isinstance(value, str):
                made[name] = base64.b64decode(value, validate=True)
            else:
                made[name] = _typed(column, value)
        return made
    except (TypeError, ValueError, KeyError, OverflowError, binascii.Error) as error:
        raise _wrong(say("{place} can't be read: {error}", place=place, error=error)) from error


_FITS: dict[Kind, Callable[[Any], bool]] = {
    Kind.WHOLE: lambda v: isinstance(v, int) and not isinstance(v, bool) and abs(v) < _LARGEST_COUNT,
    Kind.REAL: lambda v: isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(float(v)),
    Kind.YES_OR_NO: lambda v: isinstance(v, bool),
    Kind.TEXT: lambda v: isinstance(v, str),
    Kind.BYTES: lambda v: isinstance(v, bytes),
}


def _typed(column: Column, value: Any) -> Any:
    """Check a value against what its column holds; raises ValueError for another."""
    if not _FITS[column.kind](value):
        raise ValueError(say("{column} is {value!r}", column=column.name, value=value))
    return value


def _block(row: Values) -> SampleBlock:
    times, readings = row.pop("times_s"), row.pop("readings")
    channels = tuple(str(name) for name in row["channels"])
    if len(times) != len(readings) or row["samples"] != len(times) or any(len(r) != len(channels) for r in readings):
        raise ValueError(say("times and readings don't fit together"))
    return SampleBlock(channels, tuple(float(t) for t in times), tuple(tuple(r) for r in readings))


def _wrong(why: str) -> KnownError:
    return KnownError(
        say("This is no archive of a logbook: {why}.", why=why), say("Write it with 'yondle export BOOK FILE.json'.")
    )
