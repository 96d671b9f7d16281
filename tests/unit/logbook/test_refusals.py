"""What can't be opened, written or restored is refused in a sentence that says what to do."""

from __future__ import annotations

import copy
import errno
import os
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from yondle.logbook.archive import FORMAT, restore, values_of
from yondle.logbook.logbook import Logbook
from yondle.logbook.schema import SCHEMA_VERSION
from yondle.logbook.store import asking, connect, create_store, open_to_read, trouble, writer_of
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, BlockRecorded, StepOpened
from yondle.model.knobs import Setup
from yondle.model.sensors import SampleBlock
from yondle.model.steps import Check, Stage, StageKind, Step, StepKind

SETUP = Setup.of({"core_clock": 4200.0})
CHECK = Check((Stage("score passes", StageKind.SCORE, ("stacking",), 3, 1),), "processor_temperature", 38.0)
WHEN = "2026-10-17T20:30:00+01:00"
WRITE_IT = "Write it with 'yondle export BOOK FILE.json'."


@pytest.fixture
def path(tmp_path: Path) -> Path:
    made = tmp_path / "book.yondle"
    book = Logbook.create(made, "simulated", "Heron", "…")
    book.take(StepOpened(1, Step(1, StepKind.BASELINE, None, SETUP), SETUP, None, "boot", WHEN, 0.0, {}, CHECK, {}))
    book.take(BlockRecorded(1, None, SampleBlock(("a", "b"), (0.5, 1.0), ((1.0, None), (2.5, -3.0)))))
    book.take(AttemptClosed(1, 1, SETUP, True, 1, WHEN))
    book.close()
    return made


@pytest.mark.parametrize(
    ("sqlite_says", "problem", "remedy"),
    [
        (
            "database or disk is full",
            "is full or may not hold more (database or disk is full)",
            "Make room and start again",
        ),
        ("disk I/O error", "may not hold more (disk I/O error)", "everything written before is safe"),
        ("attempt to write a READONLY database", "may not be written", "Give yourself permission to write it"),
        ("unable to open database file", "may not be written", "and its folder"),
        ("database is locked", "is in use by another program", "Close it there first."),
        ("database disk image\n is  malformed\x1b", "is damaged (database disk image is malformed·)", "Work on a copy"),
        ("x" * 500, f"is damaged ({'x' * 160}).", "restore the latest good copy"),
    ],
)
def test_what_sqlite_reports_becomes_a_sentence(sqlite_says: str, problem: str, remedy: str) -> None:
    told = trouble(Path("a.yondle"), sqlite3.OperationalError(sqlite_says))
    assert problem in told.problem
    assert told.problem.startswith("a.yondle ")
    assert remedy in told.remedy


def test_text_that_is_none_is_damage_and_a_question_it_cannot_answer_is_told(path: Path) -> None:
    wrong = UnicodeDecodeError("utf-8", b"\xff", 0, 1, "invalid")
    assert trouble(path, wrong).problem == f"{path} is damaged (what should be text is none)."
    store = connect(path)
    with pytest.raises(KnownError, match="is damaged \\(no such table: songs\\)"), asking(store, path) as connection:
        connection.execute("SELECT * FROM songs")
    store.close()


def test_an_older_a_newer_and_a_strange_logbook_are_not_read_and_left_as_they_are(path: Path) -> None:
    for version, says in (
        (SCHEMA_VERSION - 1, "older Yondle"),
        (SCHEMA_VERSION + 1, f"schema {SCHEMA_VERSION + 1}, this one"),
    ):
        with sqlite3.connect(path) as file:
            file.execute("PRAGMA journal_mode=DELETE")
            file.execute(f"PRAGMA user_version={version}")
        file.close()
        before = path.read_bytes()
        with pytest.raises(KnownError, match=says):
            open_to_read(path)
        assert path.read_bytes() == before
        assert [each.name for each in path.parent.iterdir()] == [path.name]
    path.write_bytes(before[:90])
    with pytest.raises(KnownError, match="is no logbook"):
        open_to_read(path)


def test_what_is_read_while_it_is_written_is_what_was_written_last(path: Path) -> None:
    """The write-ahead log beside it holds what the file doesn't yet."""
    writer = Logbook(path)
    assert writer_of(path) == str(os.getpid())
    writer.take(StepOpened(2, Step(2, StepKind.BASELINE, None, SETUP), SETUP, None, "boot", WHEN, 9.0, {}, CHECK, {}))
    reader = open_to_read(path)
    with asking(reader, path) as connection:
        assert connection.execute("SELECT count(*) FROM attempt").fetchone()[0] == 2
        with pytest.raises(sqlite3.OperationalError):
            connection.execute("DELETE FROM attempt")
    reader.close()
    with pytest.raises(KnownError) as second:
        Logbook(path)
    assert second.value.problem == f"{path} is open in process {os.getpid()}."
    assert second.value.remedy == "Close it there first; two programs never write one logbook."
    assert (path.with_name("book.yondle.lock").stat().st_mode & 0o077) == 0
    writer.close()
    assert writer_of(path) is None
    assert not path.with_name("book.yondle.lock").exists()


def test_a_file_or_folder_that_may_not_be_used_is_named(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(KnownError) as there:
        create_store(path)
    assert (there.value.problem, there.value.remedy) == (f"{path} is already there.", "Open it, or give another name.")
    with pytest.raises(KnownError, match=f"no folder {path.parent / 'gone'}"):
        create_store(path.parent / "gone" / "a.yondle")
    for refused in (path, path.parent):
        monkeypatch.setattr(os, "access", lambda asked, _, refused=refused: Path(asked) != refused)
        with pytest.raises(KnownError, match="may not be written"):
            Logbook(path)
    monkeypatch.undo()

    def refuse(*_: object, **__: object) -> None:
        raise PermissionError(errno.EACCES, "Permission denied")

    monkeypatch.setattr(Path, "open", refuse)
    for use in (open_to_read, create_store, writer_of):
        with pytest.raises(KnownError) as told:
            use(path)
        assert "can't be used (Permission denied)" in told.value.problem
        assert told.value.remedy == "Give yourself permission, or choose another place."


@pytest.mark.parametrize(
    ("column", "value", "wrong"),
    [
        ("sample_block.samples", "'two'", True), ("sample_block.samples", 10**15, False),
        ("sample_block.samples", 10**15 + 1, True),
        ("attempt.started_s", 1e11, False), ("attempt.started_s", 1.1e11, True), ("attempt.started_s", "'late'", True),
        ("attempt.home", "x'00'", True), ("attempt.verdict", "NULL", False), ("sample_block.data", "'text'", True),
        ("sample_block.samples", -(10**16), True), ("step.joint", 2, True), ("step.joint", 1, False),
    ],
)  # fmt: skip
def test_a_cell_that_holds_what_its_column_cannot_is_damage(
    path: Path, column: str, value: object, wrong: bool
) -> None:
    table, _, name = column.partition(".")
    with sqlite3.connect(path) as file:
        file.execute(f"UPDATE {table} SET {name} = {value}")
    file.close()
    if wrong:
        with pytest.raises(KnownError, match=rf"row 1 of its table {table} holds what can't stand there"):
            Logbook(path)
    else:
        Logbook(path).close()


def _in(table: str, **cells: object) -> Callable[[dict[str, Any]], object]:
    return lambda document: document["tables"][table][0].update(cells)


@pytest.mark.parametrize(
    ("spoil", "problem"),
    [
        (lambda d: d.update(format="notes 1"), "it doesn't say that it is one"),
        (lambda d: d.update(format="yondle-logbook 1"), f"This archive is 'yondle-logbook 1', and this Yondle reads '{FORMAT}'."),
        (lambda d: d.update(schema=4), f"This archive has schema 4, and this Yondle reads {SCHEMA_VERSION}."),
        (lambda d: d["tables"].update(songs=[]), "it has tables that no logbook has"),
        (lambda d: d["tables"].update(step={}), "a table is no list of rows"),
        (lambda d: d["tables"].update(step=[1]), "a table is no list of rows"),
        (lambda d: d["tables"].pop("rig"), "it names no rig"),
        (lambda d: d["tables"]["rig"].append(d["tables"]["rig"][0]), "it names no rig"),
        (_in("step", number=None), "step 1 can't be read: number is missing"),
        (_in("step", number=True), "step 1 can't be read: number is True"),
        (_in("attempt", songs=1), "attempt 1 has a 'songs'"),
        (_in("attempt", started_s="late"), "attempt 1 can't be read: started_s is 'late'"),
        (_in("attempt", step=99), "its tables don't fit together"),
        (_in("attempt", boot_id="\ud800"), "it holds what no logbook can"),
        (_in("sample_block", samples=3), "sample_block 1 can't be read: times and readings don't fit together"),
        (_in("sample_block", times_s=[0.5]), "sample_block 1 can't be read: times and readings don't fit together"),
        (_in("sample_block", channels=["a"]), "sample_block 1 can't be read: times and readings don't fit together"),
        (_in("sample_block", readings=[[1.0, None], [1.0, "hot"]]), "sample_block 1 can't be read"),
    ],
)  # fmt: skip
def test_a_spoilt_archive_says_what_is_wrong_with_it_and_leaves_nothing_behind(
    path: Path, spoil: Callable[[dict[str, Any]], object], problem: str
) -> None:
    store = connect(path)
    document = values_of(store)
    store.close()
    made = path.with_name("again.yondle")
    restore(made, copy.deepcopy(document))
    store = connect(made)
    assert values_of(store) == document
    store.close()
    made.unlink()
    spoil(document)
    with pytest.raises(KnownError) as told:
        restore(made, document)
    assert problem in told.value.problem
    if "and this Yondle reads" not in problem:
        assert told.value.problem.startswith("This is no archive of a logbook: ")
        assert told.value.remedy == WRITE_IT
    assert not made.exists()
