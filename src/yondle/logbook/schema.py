"""The tables of a logbook as they stand in the file today; the scripts in `migrations` make and change them there."""

from __future__ import annotations

from enum import Enum, auto
from typing import NamedTuple

APPLICATION_ID = 0x594E444C
"""'YNDL', in the SQLite header of every logbook."""

SCHEMA_VERSION = 5
"""Kept in the file's user_version; the number of the latest script in `migrations`."""


class Kind(Enum):
    """What a column holds; SQLite itself lets anything stand anywhere."""

    WHOLE = auto()
    REAL = auto()
    TEXT = auto()
    YES_OR_NO = auto()
    BYTES = auto()


class Column(NamedTuple):
    """A column by its name; `key` is part of what tells the rows apart, `empty` may be NULL."""

    name: str
    kind: Kind
    key: bool = False
    empty: bool = False


class Table(NamedTuple):
    """A table with its columns in their order."""

    name: str
    columns: tuple[Column, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """All columns by name."""
        return tuple(column.name for column in self.columns)

    @property
    def keys(self) -> tuple[str, ...]:
        """The columns that tell the rows apart."""
        return tuple(column.name for column in self.columns if column.key)

    def column(self, name: str) -> Column | None:
        """Give a column by its name; None where the table has none of that name."""
        return next((column for column in self.columns if column.name == name), None)


_KINDS = {"whole": Kind.WHOLE, "real": Kind.REAL, "text": Kind.TEXT, "yes/no": Kind.YES_OR_NO, "bytes": Kind.BYTES}


def _table(name: str, *columns: str) -> Table:
    """Read columns written as 'name kind', with 'key' behind those that are, and '?' behind those that may be empty."""
    read = []
    for told in columns:
        called, kind, *more = told.removesuffix("?").split()
        read.append(Column(called, _KINDS[kind], more == ["key"], told.endswith("?")))
    return Table(name, tuple(read))


TABLES = (
    _table("rig", "id whole key", "kind text", "name text", "definition text"),
    _table(
        "step", "number whole key", "rig whole", "kind text", "parent whole?", "setup text", "changes text", "joint yes/no",
        "derived text?",
    ),
    _table(
        "attempt", "id whole key", "step whole", "home text", "home_step whole?", "boot_id text", "started_at text",
        "started_s real", "conditions text", "verdict text?", "failure text?", "stage text?", "time_to_failure_s real?",
        "reason text?", "code text?", "rests_at text?", "verified yes/no?", "closed_at text?", "check text?", "last text?",
        "points_to text?", "signs text?", "seen text?",
    ),
    _table(
        "pass", "attempt whole key", "ordinal whole key", "stage text", "workload text", "round whole", "warm_up yes/no",
        "started_s real", "ok yes/no?", "score real?", "duration_s real?", "failure text?", "detail text?", "facts text?",
        "disturbed text", "frame_times bytes?", "discarded text",
    ),
    _table(
        "sample_block", "id whole key", "attempt whole", "ordinal whole?", "from_s real", "to_s real", "samples whole",
        "channels text", "data bytes",
    ),
    _table("journal", "id whole key", "attempt whole?", "act text", "detail text"),
    _table("note", "id whole key", "step whole", "at text", "text text", "caveat yes/no", "edited_at text"),
    _table("attachment", "id whole key", "step whole", "at text", "name text", "sha256 text", "data bytes"),
    _table(
        "result", "id whole key", "step whole", "workload text", "at text", "score real", "facts text", "frame_times bytes?",
        "discarded text",
    ),
    _table(
        "sensor_log", "id whole key", "step whole", "at text", "name text", "began_at text", "channels text", "samples whole",
        "data bytes",
    ),
    _table("state", "name text key", "value text"),
    _table("profile", "name text key", "purpose text", "benchmark text", "setup text", "step whole?", "at text"),
    _table(
        "plan", "id whole key", "definition text", "start text", "started_at text", "started_s real", "ended_at text?",
        "end text?", "found text?",
    ),
    _table("plan_move", "plan whole key", "number whole key", "words text", "attempt whole?", "result text?"),
)  # fmt: skip
"""Every table; one that refers to another stands after it."""
