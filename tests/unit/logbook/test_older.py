"""Logbooks of every schema version, written by the Yondle of their time: opened, brought up to date and compared cell by cell.

Each holds a baseline, steps that held and one that failed, and what its time knew besides: notes, profiles, plans and searches,
limits, figures from elsewhere, a pass that was discarded. Their samples are left out but for the first two tests.
"""

from __future__ import annotations

import gzip
import json
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from yondle.app.books.export import logbook_text, merge
from yondle.app.books.reading import read_book
from yondle.app.reports.reporting import report_of
from yondle.app.session.opening import open_logbook
from yondle.app.session.testing import TryAgain
from yondle.formats.documents import Conditions, OwnLimits, OwnRanges, RigPosition
from yondle.logbook.moves import move_of
from yondle.logbook.records import reading
from yondle.logbook.schema import SCHEMA_VERSION
from yondle.model.acts import Act
from yondle.views.edge.plan_runs import plan_views
from yondle.views.kept import ViewCache
from yondle.views.record.log import LogRows, book_title
from yondle.views.traces.traces import trace_of
from yondle.views.tune.step import step_view

OLDER = sorted((Path(__file__).parent / "older").glob("*.yondle.gz"))


@pytest.fixture(params=OLDER, ids=lambda path: path.name.split(".")[0])
def older(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    path = tmp_path / "book.yondle"
    path.write_bytes(gzip.decompress(request.param.read_bytes()))
    return path


def rows(path: Path, query: str) -> list[dict[str, Any]]:
    """Ask the file itself, whatever the program makes of it; nothing where its time had no such table."""
    with closing(sqlite3.connect(path)) as file:
        file.row_factory = sqlite3.Row
        try:
            return [dict(row) for row in file.execute(query)]
        except sqlite3.OperationalError:
            return []


def test_there_is_one_of_every_version(tmp_path: Path) -> None:
    assert [path.name for path in OLDER] == [f"v{v}.yondle.gz" for v in range(1, SCHEMA_VERSION + 1)]


def test_everything_in_it_reads_as_it_was_written(older: Path) -> None:
    written = {name: rows(older, f"SELECT * FROM {name}") for name in (
        "step", "attempt", "pass", "note", "state", "profile", "result", "plan", "plan_move", "journal",
    )}  # fmt: skip
    version = rows(older, "PRAGMA user_version")[0]["user_version"]
    session = open_logbook(older)
    now = session.snapshot
    if version < SCHEMA_VERSION:
        copy = older.with_name(f"{older.name}.schema{version}")
        assert rows(copy, "PRAGMA user_version")[0]["user_version"] == version, "the older file is kept beside it"
        assert rows(copy, "SELECT * FROM attempt") == written["attempt"]
    assert [r.step.number for r in now.steps] == [row["number"] for row in written["step"]]
    for record, row in zip(now.steps, written["step"], strict=True):
        assert dict(record.step.setup) == {**dict(now.declaration.stock), **json.loads(row["setup"])}
        assert record.step.parent == row["parent"]
    attempts = {a.id: a for r in now.steps for a in r.attempts}
    for row in written["attempt"]:
        outcome = attempts[row["id"]].outcome
        assert outcome is not None
        assert (outcome.verdict.value, outcome.reason) == (row["verdict"], row["reason"])
    for row in written["pass"]:
        made = next(p for p in attempts[row["attempt"]].passes if p.ordinal == row["ordinal"])
        assert made.result is not None
        assert (made.workload, made.result.score) == (row["workload"], row["score"])
        assert made.result.measured.facts() == json.loads(row["facts"] or "{}")
        assert made.discarded == row.get("discarded", "")
    assert [n.text for r in now.steps for n in r.notes] == [row["text"] for row in written["note"]]
    assert [a.score for r in now.steps for a in r.added] == [row["score"] for row in written["result"]]
    assert [(p.name, dict(p.setup)) for p in now.profiles] == [
        (row["name"], {**dict(now.declaration.stock), **json.loads(row["setup"])}) for row in written["profile"]
    ]
    state = {row["name"]: json.loads(row["value"]) for row in written["state"]}
    assert now.kept.of(RigPosition).root == state.get("position")
    assert now.kept.of(Conditions).root == state.get("conditions", {})
    assert now.kept.of(OwnLimits).root == state.get("limits", {})
    assert {k: list(v) for k, v in now.kept.of(OwnRanges).root.items()} == state.get("ranges", {})
    runs = {run.id: run for run in now.reader.plan_runs()}
    for row in written["plan_move"]:
        move = next(m for m in runs[row["plan"]].moves if m.number == row["number"])
        assert move.move == move_of(row["words"])
    for row in written["plan"]:
        ended, end = runs[row["id"]].ended, row["end"] or ""
        assert ended is not None
        assert end in (str(ended), f"{ended}: {runs[row['id']].reason}")
    for attempt in attempts:
        told = [row["act"] for row in written["journal"] if row["attempt"] == attempt]
        assert session.logbook.journal(attempt)[: len(told)] == [Act(act) for act in told]
        assert Act.OTHER not in session.logbook.journal(attempt)
    session.close()


def test_every_place_and_report_shows_it_and_work_goes_on(older: Path, tmp_path: Path) -> None:
    untouched = older.read_bytes()
    only_read = read_book(older) if rows(older, "PRAGMA user_version")[0]["user_version"] == SCHEMA_VERSION else None
    session = open_logbook(older)
    now = session.snapshot
    if only_read is not None:
        assert only_read.steps == now.steps
    views = ViewCache(lambda: session.snapshot)
    assert len(views.trail(now.declaration.benchmarks[0], None)) == len(now.steps)
    assert views.settings
    for record in now.steps:
        assert step_view(now, record.step.number).rows is not None
    assert len(trace_of(now, 1).times) > 100
    assert LogRows().rows([(book_title(now), now)])
    plan_views(now, now.reader.plan_runs())
    assert report_of(now).sections
    assert json.loads(logbook_text(now))["tables"]["step"]
    tested = len(now.step(2).attempts)
    if now.can_test_again(2):
        session.do(TryAgain(2, 2))
        assert len(session.snapshot.step(2).attempts) == tested + 1
    session.close()
    (tmp_path / "again.yondle").write_bytes(untouched)
    open_logbook(tmp_path / "again.yondle").close()
    assert merge(older, tmp_path / "again.yondle", tmp_path / "both.yondle") == len(now.steps)
    with reading(tmp_path / "both.yondle") as both:
        assert len(both.steps()) == len(now.steps)
