"""A whole logbook as plain values and back: every table by its columns, samples as times and readings, files as base64.

The same logbook gives the same values, and a logbook made from them gives them again (docs/json-format.md).
"""

from __future__ import annotations

import base64
import binascii
import json
import math
from array import array
from collections.abc import Callable
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from yondle.formats.whole_files import written_whole
from yondle.language.saying import say
from yondle.logbook import schema
from yondle.logbook.samples import pack, unpack
from yondle.logbook.store import connect, create_store, trouble
from yondle.model.errors import KnownError
from yondle.model.sensors import SampleBlock

FORMAT = "yondle-logbook 2"
TABLES = (
    schema.rig, schema.step, schema.attempt, schema.pass_, schema.sample_block, schema.journal, schema.note, schema.attachment,
    schema.result, schema.sensor_log, schema.state, schema.profile, schema.plan, schema.plan_move,
)  # fmt: skip
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


def values_of(engine: sa.Engine, samples: bool = True) -> Values:
    """Give everything in a logbook as plain values; without `samples` traces are left out."""
    tables: dict[str, list[Values]] = {}
    with engine.connect() as connection:
        for table in TABLES:
            if table.name == "sample_block" and not samples:
                tables[table.name] = []
                continue
            rows = connection.execute(sa.select(table).order_by(*table.primary_key.columns))
            tables[table.name] = [_plain(table.name, dict(row._mapping)) for row in rows]
    return {"format": FORMAT, "schema": schema.SCHEMA_VERSION, "tables": tables}


def restore(path: Path, document: object) -> None:
    """Make a new logbook from such values; raises KnownError for what isn't one, and leaves nothing behind then."""
    tables = _checked(document)
    with written_whole(path, replaces=False) as new:
        create_store(new)
        engine = connect(new)
        try:
            with engine.begin() as connection:
                for table in TABLES:
                    for i, row in enumerate(tables.get(table.name, []), 1):
                        connection.execute(table.insert().values(**_kept(table, row, f"{table.name} {i}")))
            with engine.connect() as connection:
                connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        except (UnicodeEncodeError, OverflowError) as error:
            raise _wrong(say("it holds what no logbook can: {error}", error=error)) from error
        except sa.exc.IntegrityError as error:
            raise _wrong(say("its tables don't fit together ({orig})", orig=error.orig)) from error
        except sa.exc.DatabaseError as error:
            raise trouble(path, error) from error
        finally:
            engine.dispose()


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
    if document.get("schema") != schema.SCHEMA_VERSION:
        raise KnownError(
            say(
                "This archive has schema {document}, and this Yondle reads {schema_version}.",
                document=document.get("schema"),
                schema_version=schema.SCHEMA_VERSION,
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


def _plain(table: str, row: Values) -> Values:
    if table in _SAMPLED:
        block = unpack(tuple(json.loads(row["channels"])), row["samples"], row.pop("data"))
        row["times_s"] = list(block.times_s)
        row["readings"] = [list(each) for each in block.rows]
    for name, value in row.items():
        if name in _JSON.get(table, ()) and value is not None:
            row[name] = json.loads(value)
        elif isinstance(value, bytes):
            row[name] = list(array("f", value)) if name == "frame_times" else base64.b64encode(value).decode("ascii")
    return row


def _kept(table: sa.Table, row: Values, place: str) -> Values:
    try:
        made = dict(row)
        for key in table.primary_key.columns:
            if made.get(key.name) is None:
                raise ValueError(say("{key} is missing", key=key.name))
        if table.name in _SAMPLED:
            made["data"] = pack(_block(made))
        for name, value in list(made.items()):
            if name not in table.columns:
                raise _wrong(say("{place} has a '{name}'", place=place, name=name))
            if value is None and table.columns[name].nullable:
                continue
            if name in _JSON.get(table.name, ()):
                made[name] = json.dumps(value, ensure_ascii=False)
            elif name == "frame_times":
                made[name] = array("f", value).tobytes()
            elif isinstance(table.columns[name].type, sa.LargeBinary) and isinstance(value, str):
                made[name] = base64.b64decode(value, validate=True)
            else:
                made[name] = _typed(table.columns[name], value)
        return made
    except (TypeError, ValueError, KeyError, OverflowError, binascii.Error) as error:
        raise _wrong(say("{place} can't be read: {error}", place=place, error=error)) from error


def _typed(column: sa.Column[Any], value: Any) -> Any:
    """Check a value against its column's type; raises ValueError for another."""
    fits: dict[type, Callable[[Any], bool]] = {
        sa.Integer: lambda v: isinstance(v, int) and not isinstance(v, bool) and abs(v) < _LARGEST_COUNT,
        sa.Float: lambda v: isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(float(v)),
        sa.Boolean: lambda v: isinstance(v, bool),
        sa.Text: lambda v: isinstance(v, str),
    }
    wanted = next((check for kind, check in fits.items() if type(column.type) is kind), None)
    if wanted is not None and not wanted(value):
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
