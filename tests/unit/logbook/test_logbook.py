from __future__ import annotations

import math
import sqlite3
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yondle.logbook.logbook import Logbook
from yondle.logbook.samples import pack, unpack
from yondle.logbook.schema import APPLICATION_ID, SCHEMA_VERSION, TABLES, Column, Kind, Table
from yondle.logbook.sql import inserted
from yondle.logbook.store import connect, create_store
from yondle.model.acts import Act
from yondle.model.errors import KnownError
from yondle.model.events import ApplyOpened, AttemptClosed, StepOpened
from yondle.model.knobs import Setup
from yondle.model.sensors import SampleBlock
from yondle.model.steps import Check, Stage, StageKind, Step, StepKind
from yondle.model.verdicts import Verdict

SETUP = Setup.of({"core_clock": 4200.0})
CHECK = Check((Stage("score passes", StageKind.SCORE, ("stacking",), 3, 1),), "processor_temperature", 38.0)
readings = st.one_of(st.none(), st.floats(-1e6, 1e6, width=32))


@given(st.integers(1, 5).flatmap(lambda n: st.lists(st.tuples(*[readings] * n), min_size=1, max_size=30)))
def test_a_block_of_samples_comes_back_as_it_went_in(rows: list[tuple[float | None, ...]]) -> None:
    names = tuple(f"c{i}" for i in range(len(rows[0])))
    block = SampleBlock(names, tuple(float(i) / 3 for i in range(len(rows))), tuple(rows))
    assert unpack(names, len(rows), pack(block)) == block


@given(st.binary(max_size=200), st.integers(0, 50))
def test_damaged_blocks_are_refused(data: bytes, samples: int) -> None:
    with pytest.raises(ValueError, match="block"):
        unpack(("a",), samples + 1, data)


@pytest.fixture
def path(tmp_path: Path) -> Path:
    made = tmp_path / "book.yondle"
    Logbook.create(made, "simulated", "Heron", "…").close()
    return made


def test_the_migrations_make_exactly_the_declared_tables(path: Path) -> None:
    types = {
        "INTEGER": Kind.WHOLE,
        "FLOAT": Kind.REAL,
        "TEXT": Kind.TEXT,
        "BOOLEAN": Kind.YES_OR_NO,
        "BLOB": Kind.BYTES,
    }
    with sqlite3.connect(path) as file:
        made = {
            Table(
                table,
                tuple(
                    Column(name, types[kind], bool(primary), not filled)
                    for _, name, kind, filled, _, primary in file.execute(f"PRAGMA table_info('{table}')")
                ),
            )
            for (table,) in file.execute("SELECT name FROM sqlite_master WHERE type='table'")
        }
        referred = {
            table.name: {row[2] for row in file.execute(f"PRAGMA foreign_key_list('{table.name}')")} for table in TABLES
        }
    file.close()
    assert made == set(TABLES)
    for i, table in enumerate(TABLES):
        assert referred[table.name] <= {before.name for before in TABLES[: i + 1]}
    scripts = sorted(each.name for each in (files("yondle.logbook") / "migrations").iterdir())
    assert [int(name[:4]) for name in scripts] == list(range(1, SCHEMA_VERSION + 1))


def test_nothing_of_a_change_is_there_where_it_fails_half_way_and_reading_sees_one_moment(path: Path) -> None:
    store = connect(path)

    def keep_twice() -> None:
        with store.writing() as connection:
            inserted(connection, "state", name="half", value="1")
            inserted(connection, "state", name="half", value="2")

    with pytest.raises(sqlite3.IntegrityError):
        keep_twice()
    with store.reading() as before:
        count = "SELECT count(*) FROM state"
        assert before.execute(count).fetchone()[0] == 0
        with store.writing() as connection:
            inserted(connection, "state", name="whole", value="1")
        assert before.execute(count).fetchone()[0] == 0
    with store.reading() as after:
        assert after.execute(count).fetchone()[0] == 1
    store.close()
    store.close()


def test_every_commit_is_synced_to_the_disk(path: Path) -> None:
    store = connect(path)
    with store.bare() as connection:
        assert connection.execute("PRAGMA synchronous").fetchone()[0] == 2
        assert connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    store.close()


def test_what_is_no_logbook_is_refused_and_left_as_it_is(tmp_path: Path) -> None:
    text = tmp_path / "notes.yondle"
    text.write_text("clock 4200, felt fine")
    other = tmp_path / "other.yondle"
    with sqlite3.connect(other) as file:
        file.execute("CREATE TABLE songs (title TEXT)")
    file.close()
    for wrong, says in (
        (text, "is no logbook"),
        (other, "another program"),
        (tmp_path / "none.yondle", "There is no logbook"),
    ):
        before = wrong.read_bytes() if wrong.exists() else b""
        with pytest.raises(KnownError, match=says):
            Logbook(wrong)
        assert (wrong.read_bytes() if wrong.exists() else b"") == before


def test_a_newer_logbook_is_refused_and_left_as_it_is(path: Path) -> None:
    with sqlite3.connect(path) as file:
        file.execute(f"PRAGMA user_version={SCHEMA_VERSION + 1}")
    file.close()
    before = path.read_bytes()
    with pytest.raises(KnownError, match="newer Yondle"):
        Logbook(path)
    assert path.read_bytes() == before


def test_an_older_logbook_is_brought_up_to_date_and_a_copy_kept(tmp_path: Path) -> None:
    path = tmp_path / "old.yondle"
    create_store(path)
    with sqlite3.connect(path) as file:
        for table in reversed(TABLES):
            file.execute(f"DROP TABLE '{table.name}'")
        file.execute("PRAGMA user_version=0")
    file.close()
    Logbook(path).close()
    assert (tmp_path / "old.yondle.schema0").exists()
    with sqlite3.connect(path) as file:
        assert file.execute("PRAGMA user_version").fetchone() == (SCHEMA_VERSION,)
    file.close()


def test_a_logbook_of_the_first_schema_is_brought_up_to_date_and_a_copy_kept(tmp_path: Path) -> None:
    path = tmp_path / "first.yondle"
    scripts = files("yondle.logbook") / "migrations"
    with sqlite3.connect(path) as file:
        file.executescript((scripts / "0001_first.sql").read_text())
        file.execute("INSERT INTO rig VALUES (1, 'simulated', 'Heron', '')")
        file.execute("INSERT INTO step VALUES (1, 1, 'baseline', NULL, '{\"core_clock\": 4200.0}', '[]', 0)")
        file.execute(
            "INSERT INTO attempt (id, step, home, boot_id, started_at, started_s, conditions, verdict, reason)"
            " VALUES (1, 1, '{}', 'b', '2026-10-17T20:30:00+01:00', 0.0, '{}', 'held', 'Held.')"
        )
        file.execute(f"PRAGMA application_id={APPLICATION_ID}")
        file.execute("PRAGMA user_version=1")
    file.close()
    book = Logbook(path)
    (step,) = book.steps()
    assert (step.verdict, step.derived, step.attempts[0].check) == (Verdict.HELD, {}, None)
    assert book.keeping.profiles() == ()
    book.close()
    assert (tmp_path / "first.yondle.schema1").exists()


def test_a_damaged_logbook_is_named_as_such(path: Path) -> None:
    data = bytearray(path.read_bytes())
    for page in range(1, len(data) // 4096):
        data[page * 4096 : page * 4096 + 64] = b"\xff" * 64
    path.write_bytes(bytes(data))
    with pytest.raises(KnownError, match="damaged"):
        Logbook(path)


def test_a_logbook_open_elsewhere_is_not_opened_again(path: Path) -> None:
    script = f"import sys; from yondle.logbook.logbook import Logbook; b = Logbook(__import__('pathlib').Path({str(path)!r}))"
    holder = subprocess.Popen(
        [sys.executable, "-c", script + "; print('open', flush=True); sys.stdin.read()"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE,
    )  # fmt: skip
    assert holder.stdout is not None
    assert holder.stdin is not None
    assert holder.stdout.readline() == b"open\n"
    with pytest.raises(KnownError, match=f"open in process {holder.pid}"):
        Logbook(path)
    holder.stdin.close()
    holder.wait()
    holder.stdout.close()
    Logbook(path).close()


def test_a_record_is_there_after_the_program_is_gone(path: Path) -> None:
    book = Logbook(path)
    step = Step(1, StepKind.BASELINE, None, SETUP)
    book.take(
        StepOpened(
            1, step, SETUP, None, "boot", "2026-10-17T20:30:00+01:00", 0.0, {"room": 9.5}, CHECK, {"latency": 14.3}
        )
    )
    book.take(ApplyOpened(1, SETUP))
    (open_,) = book.unclosed()
    assert open_.last_act is Act.APPLY_OPENED
    assert open_.home == SETUP
    assert open_.attempt.check == CHECK
    assert book.steps()[0].derived == {"latency": 14.3}
    book.take(AttemptClosed(1, 1, SETUP, True, 1, "2026-10-17T20:31:00+01:00"))
    assert not book.unclosed()
    assert book.position() == 1
    assert book.journal(1) == [Act.STEP_OPENED, Act.APPLY_OPENED, Act.ATTEMPT_CLOSED]
    book.close()


def test_values_nobody_should_have_written_are_named_as_damage(path: Path) -> None:
    book = Logbook(path)
    step = Step(1, StepKind.BASELINE, None, SETUP)
    book.take(StepOpened(1, step, SETUP, None, "boot", "2026-10-17T20:30:00+01:00", 0.0, {}, CHECK, {"latency": 14.3}))
    book.close()
    with sqlite3.connect(path) as file:
        file.execute("UPDATE attempt SET verdict = 'splendid'")
    file.close()
    book = Logbook(path)
    with pytest.raises(KnownError, match="damaged"):
        book.steps()
    book.close()


def test_missing_readings_are_kept_as_missing() -> None:
    block = SampleBlock(("a", "b"), (0.0,), ((None, 1.5),))
    back = unpack(("a", "b"), 1, pack(block))
    assert back.rows == ((None, 1.5),)
    assert not math.isnan(back.rows[0][1] or 0.0)
