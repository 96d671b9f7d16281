"""A logbook out of its file and back: the whole as JSON, its passes as CSV, a copy to share, and two made into one."""

from __future__ import annotations

import csv
import getpass
import io
import json
import re
import socket
from collections.abc import Collection
from pathlib import Path
from typing import Any

from yondle.app.machine.machines import BENCH, bench_at
from yondle.formats.documents import BenchAcross, Conditions, KeptDeclaration, References, ReportQuestion
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.logbook.archive import Values, restore
from yondle.logbook.merging import merged
from yondle.logbook.records import reading
from yondle.logbook.store import damaged
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.rigs.bench.ssh import SCHEME
from yondle.views.record.log import Kind, LogRow, LogRows, book_title, place_of
from yondle.views.shared.measured import changed_words
from yondle.views.shared.snapshot import Snapshot

LARGEST_ARCHIVE = 1 << 30
_PRIVATE = re.compile(r"serial|uuid|asset tag|host ?name|user ?name|mac address|machine.id", re.IGNORECASE)
"""Names of conditions and facts that say whose machine it is."""
_SHORTEST_NAME = 3
_EVERYBODY = {"root", "localhost", "user"}
_HOME = "/home/(user)"
"""What stands for the home folder: an absolute path, since a workload's folder has to be one."""
_TOLD = {
    "note": {"text"}, "attempt": {"conditions", "reason", "signs"}, "pass": {"facts", "detail", "disturbed", "discarded"},
    "attachment": {"name"}, "result": {"facts", "discarded"}, "sensor_log": {"name"}, "profile": {"name"},
}  # fmt: skip
_TOLD_STATES = {Conditions.NAME, ReportQuestion.NAME, References.NAME}
"""Where people's and programs' own words stand. What means something to Yondle (ids, settings, definitions) keeps its names."""
NOWHERE = "bench"
"""What a machine across the room is called in a copy to give away."""
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def logbook_text(book: Snapshot, samples: bool = True) -> str:
    """Write the whole logbook as JSON; nothing in it depends on where the file lies or when it is written."""
    try:
        return _text(book.reader.values(samples))
    except ValueError as error:
        raise damaged(book.path, say("a figure in it is no number")) from error


def passes_csv(book: Snapshot, steps: Collection[int] = ()) -> str:
    """Write every pass as CSV (RFC 4180), one a row, with the settings and everything recorded beside it.

    With `steps` only those of them.

    Figures from elsewhere come last; they have no test, and the number `yondle discard` calls them by for a pass.
    """
    rows = [r for r in LogRows().rows([(book_title(book), book)]) if not steps or r.step in steps]
    passes = sorted((r for r in rows if r.kind is Kind.PASS), key=lambda r: (r.attempt, r.item))
    passes += sorted((r for r in rows if r.kind is Kind.FIGURE), key=lambda r: (r.step, r.item))
    facts = {(r.attempt, r.item): _facts(book, r) for r in passes}
    names = sorted({name for each in facts.values() for name in each})
    head = ["date", "step", "settings", "test", "pass", "benchmark", "score", "unit", say("left out"), *names]
    made = [head]
    for row in passes:
        setup = changed_words(book.declaration, _setup_of(book, row)) or say("everything at stock")
        unit = next((w.metric.unit for w in book.declaration.workloads if w.name == row.benchmark), "")
        score = "" if row.value is None else repr(row.value)
        own = facts[row.attempt, row.item]
        test, place = ("", place_of(row)) if row.kind is Kind.FIGURE else (row.attempt, row.item)
        cells = [row.at, row.step, setup, test, place, row.benchmark, score, unit, row.left_out]
        made.append([str(cell) for cell in (*cells, *(own.get(name, "") for name in names))])
    return csv_text(made)


def csv_text(rows: list[list[str]]) -> str:
    """Write rows as CSV; words that a spreadsheet would take for a formula get an apostrophe before them."""
    written = io.StringIO()
    csv.writer(written).writerows([[_defused(cell) for cell in row] for row in rows])
    return written.getvalue()


def share(book: Snapshot, path: Path, files: bool = False) -> None:
    """Make a copy of the logbook to give away: without serial numbers, host and user names, and without files unless asked."""
    values = book.reader.values()
    if not files:
        values["tables"]["attachment"] = []
    restore(path, _without_private(values))


def read_archive(archive: Path, path: Path) -> None:
    """Make a logbook from what `logbook_text` wrote; raises KnownError for anything else."""
    try:
        if archive.stat().st_size > LARGEST_ARCHIVE:
            raise KnownError(
                say(
                    "{archive} is larger than {largest_archive} MiB.",
                    archive=archive,
                    largest_archive=LARGEST_ARCHIVE >> 20,
                ),
                say("Export it without samples."),
            )
        document = json.loads(archive.read_text("utf-8"))
    except OSError as error:
        raise KnownError(
            say("{archive} can't be read ({strerror}).", archive=archive, strerror=error.strerror),
            say("Check the name and its permissions."),
        ) from error
    except (ValueError, RecursionError) as error:
        raise KnownError(
            say("{archive} is no JSON document: {error}.", archive=archive, error=error),
            say("Write it with 'yondle export BOOK FILE.json'."),
        ) from error
    restore(path, document)


def merge(one: Path, other: Path, into: Path) -> int:
    """Make a third logbook of two about one rig, which stay as they are; gives how many steps it holds."""
    values = []
    for path in (one, other):
        with reading(path) as records:
            values.append(records.values())
    try:
        made = merged(values[0], values[1])
    except (TypeError, ValueError, KeyError, AttributeError, StopIteration) as error:
        raise damaged(other, say("a step in it, or in the other one, can't be read: {error}", error=error)) from error
    restore(into, made)
    return len(made["tables"]["step"])


def write(path: Path, text: str) -> None:
    """Write a text whole or not at all; raises KnownError where it can't be."""
    write_whole(path, text)


def _text(values: Values) -> str:
    return json.dumps(values, ensure_ascii=False, indent=1, sort_keys=True, allow_nan=False) + "\n"


def _facts(book: Snapshot, row: LogRow) -> dict[str, Any]:
    if row.kind is Kind.FIGURE:
        return next(a.measured.facts() for a in book.step(row.step).added if a.id == row.item)
    found = (
        p for a in book.step(row.step).attempts if a.id == row.attempt for p in a.all_passes if p.ordinal == row.item
    )
    made = next(found)
    return made.result.measured.facts() if made.result is not None else {}


def _setup_of(book: Snapshot, row: LogRow) -> Setup:
    """Give the settings a pass was made at: those of its step, or those the step started from, with which it took turns."""
    record = book.step(row.step)
    compared = (a.home for a in record.attempts if a.id == row.attempt for p in a.compared if p.ordinal == row.item)
    return next((home for home in compared if home is not None), record.step.setup)


def _defused(cell: str) -> str:
    if cell.startswith(_FORMULA) and not _is_number(cell):
        return f"'{cell}"
    return cell


def _is_number(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True


def _without_private(values: Any) -> Any:
    """Take out what says whose machine it is: named facts, the home folder, and in free words the names of host and user.

    A user called as a workload is, or a host called as a rig, must not make a copy that can't be opened.
    """
    host, user, home = socket.gethostname(), _user(), str(Path.home())
    everywhere = [(re.compile(re.escape(home) + r"(?![\w.-])"), _HOME)] if len(home) > _SHORTEST_NAME else []
    benches = [
        bench_at(row["definition"].partition("\n")[0]) for row in values["tables"]["rig"] if row["kind"] == BENCH
    ]
    told = [*((re.compile(re.escape(str(each))), f"{SCHEME}{NOWHERE}") for each in benches), *everywhere]
    of_benches = [pair for each in benches for pair in ((each.host, NOWHERE), (each.user, "(user)"))]
    for name, put in (*of_benches, (host, "(host)"), (host.split(".")[0], "(host)"), (user, "(user)")):
        if len(name) >= _SHORTEST_NAME and name.lower() not in _EVERYBODY:
            told.append((re.compile(rf"\b{re.escape(name)}\b"), put))
    tables = {
        table: [
            {
                column: _scrubbed(value, told if column in _TOLD.get(table, ()) else everywhere)
                for column, value in row.items()
            }
            for row in rows
        ]
        for table, rows in values["tables"].items()
    }
    for rig in (row for row in tables["rig"] if row["kind"] == BENCH):
        rig["name"], rig["definition"] = NOWHERE, f"{SCHEME}{NOWHERE}\n{str(rig['definition']).partition(chr(10))[2]}"
    tables["state"] = [row for row in tables["state"] if row["name"] != BenchAcross.NAME]
    kept = [row for row in values["tables"]["state"] if row["name"] != BenchAcross.NAME]
    for row, before in zip(tables["state"], kept, strict=True):
        if row["name"] in _TOLD_STATES:
            row["value"] = _scrubbed(before["value"], told)
        elif row["name"] == KeptDeclaration.NAME and isinstance(row["value"], dict):
            row["value"]["info"] = _scrubbed(before["value"]["info"], told)
    return {**values, "tables": tables}


def _user() -> str:
    """Give the user's name; empty where this machine knows none."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return ""


def _scrubbed(values: Any, patterns: list[tuple[re.Pattern[str], str]]) -> Any:
    if isinstance(values, dict):
        return {name: _scrubbed(value, patterns) for name, value in values.items() if not _PRIVATE.search(str(name))}
    if isinstance(values, list):
        return [_scrubbed(value, patterns) for value in values]
    if isinstance(values, str):
        for pattern, put in patterns:
            values = pattern.sub(put, values)
    return values
