"""Opening a logbook file: what it is, whether this program may write it, and bringing an older one up to date."""

from __future__ import annotations

import fcntl
import os
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any

import sqlalchemy as sa
from sqlalchemy import event

from yondle.formats.whole_files import written_whole
from yondle.language.saying import say
from yondle.logbook.schema import APPLICATION_ID, SCHEMA_VERSION, metadata
from yondle.model.errors import KnownError

_SQLITE_HEADER = b"SQLite format 3\x00"
_LONGEST_DETAIL = 160
CANNOT_ANSWER = (sa.exc.DatabaseError, UnicodeDecodeError)
"""What reading or writing a damaged file raises; the second where what SQLite says of it holds bytes that are no text."""
_CHECKED_WHOLE_BELOW = 64 * 1024 * 1024
_LARGEST_COUNT, _LARGEST_FIGURE, _LATEST_S = 10**15, 1e100, 1e11
"""Of numbers and sizes, of scores, and of seconds on a rig's clock (three thousand years)."""


class WriterLock:
    """Held by the one program that may write a logbook; the lock file names it by process number.

    Only its owner and root can open the file: whoever can open it can hold it. It is taken away with the lock.
    """

    def __init__(self, logbook: Path) -> None:
        self._path = logbook.with_name(logbook.name + ".lock")
        self._file: IO[str] | None = None

    def take(self) -> None:
        """Take the lock; raises KnownError when another program has it."""
        while self._file is None:
            try:
                file = _opened_lock(self._path)
            except OSError as error:
                raise _no_permission(self._path.parent, error) from error
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                holder = file.read(20).strip()
                file.close()
                who = say("process {holder}", holder=holder) if holder.isdigit() else say("another program")
                raise KnownError(
                    say("{path} is open in {who}.", path=self._path.with_suffix(""), who=who),
                    say("Close it there first; two programs never write one logbook."),
                ) from error
            if not _is_still(self._path, file):
                file.close()
                continue
            file.truncate(0)
            file.write(str(os.getpid()))
            file.flush()
            self._file = file

    def release(self) -> None:
        """Give the lock back."""
        if self._file is not None:
            with suppress(OSError):
                self._path.unlink(missing_ok=True)
            self._file.close()
            self._file = None


def writer_of(logbook: Path) -> str | None:
    """Name the process that has a logbook open to write; None where none has. Raises KnownError where that can't be seen."""
    path = logbook.with_name(logbook.name + ".lock")
    try:
        with path.open("r", encoding="ascii", errors="replace") as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except FileNotFoundError:
        return None
    except BlockingIOError:
        with path.open("r", encoding="ascii", errors="replace") as file:
            return file.read(20).strip()
    except OSError as error:
        raise _no_permission(path, error) from error
    return None


def _opened_lock(path: Path) -> IO[str]:
    """Open a lock file, made where there is none, for its owner alone."""
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    about = os.fstat(handle)
    if about.st_uid == os.getuid() and about.st_mode & 0o077:
        os.fchmod(handle, 0o600)
    return open(handle, "r+", encoding="ascii", errors="replace")


def _is_still(path: Path, file: IO[str]) -> bool:
    """Tell whether the open file is the one at the path: whoever had the lock before may have taken it away."""
    try:
        return os.path.samestat(os.fstat(file.fileno()), path.lstat())
    except FileNotFoundError:
        return False


def create_store(path: Path) -> None:
    """Make an empty logbook file; raises KnownError when there is something at the path or it can't be written."""
    try:
        with path.open("xb"):
            pass
    except FileExistsError:
        raise KnownError(say("{path} is already there.", path=path), say("Open it, or give another name.")) from None
    except FileNotFoundError:
        raise KnownError(
            say("There is no folder {parent}.", parent=path.parent), say("Make it first, or give another place.")
        ) from None
    except OSError as error:
        raise _no_permission(path, error) from error
    try:
        engine = connect(path)
        _migrate(engine)
        engine.dispose()
    except sa.exc.OperationalError as error:
        path.unlink(missing_ok=True)
        raise trouble(path, error) from error


def open_store(path: Path) -> sa.Engine:
    """Open an existing logbook and bring it up to date; a copy of an older one is kept beside it."""
    _must_be_logbook(path)
    _must_be_writable(path)
    engine = connect(path)
    try:
        with engine.connect() as connection:
            version = _version(connection)
            if path.stat().st_size < _CHECKED_WHOLE_BELOW:
                answer = connection.execute(sa.text("PRAGMA quick_check(1)")).scalar_one()
                if answer != "ok":
                    raise damaged(path, str(answer).splitlines()[-1])
        _must_not_be_newer(path, version)
        if version == SCHEMA_VERSION:
            _must_hold_what_it_should(engine, path)
        if version < SCHEMA_VERSION:
            with written_whole(path.with_name(f"{path.name}.schema{version}")) as copy:
                shutil.copy2(path, copy)
            _migrate(engine)
    except CANNOT_ANSWER as error:
        engine.dispose()
        raise trouble(path, error) from error
    except KnownError:
        engine.dispose()
        raise
    return engine


def open_to_read(path: Path) -> sa.Engine:
    """Open an existing logbook, which another program may be writing, without changing it or what lies beside it."""
    _must_be_logbook(path)
    in_use = path.with_name(path.name + "-wal").exists()
    how = {"mode": "ro", "uri": "true"} | ({} if in_use else {"immutable": "1"})
    engine = sa.create_engine(sa.URL.create("sqlite", database=path.absolute().as_uri(), query=how))
    try:
        with engine.connect() as connection:
            version = _version(connection)
        _must_not_be_newer(path, version)
        if version == SCHEMA_VERSION:
            _must_hold_what_it_should(engine, path)
        if version < SCHEMA_VERSION:
            raise KnownError(
                say("{path} was written by an older Yondle.", path=path),
                say("Open it once, which brings it up to date."),
            )
    except CANNOT_ANSWER as error:
        engine.dispose()
        raise trouble(path, error) from error
    except KnownError:
        engine.dispose()
        raise
    return engine


def connect(path: Path) -> sa.Engine:
    """Make the engine for a logbook file: write-ahead log, every commit synced to the disk."""
    engine = sa.create_engine(sa.URL.create("sqlite", database=str(path)))

    @event.listens_for(engine, "connect")
    def _prepare(connection: sqlite3.Connection, _: Any) -> None:
        cursor = connection.cursor()
        cursor.execute("PRAGMA journal_mode=WAL")
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.execute("PRAGMA foreign_keys=ON")
        cursor.execute("PRAGMA trusted_schema=OFF")
        cursor.close()

    return engine


def trouble(path: Path, error: sa.exc.DatabaseError | UnicodeDecodeError) -> KnownError:
    """Put what SQLite reports into a sentence that says what to do."""
    if isinstance(error, UnicodeDecodeError):
        return damaged(path, say("what should be text is none"))
    words = str(error.orig).lower()
    if "full" in words or "disk i/o" in words or "file too large" in words:
        return KnownError(
            say("{path} can't be written: the disk is full or may not hold more ({orig}).", path=path, orig=error.orig),
            say("Make room and start again; everything written before is safe."),
        )
    if "readonly" in words or "unable to open" in words:
        return KnownError(
            say("{path} may not be written.", path=path), say("Give yourself permission to write it and its folder.")
        )
    if "locked" in words:
        return KnownError(say("{path} is in use by another program.", path=path), say("Close it there first."))
    return damaged(path, str(error.orig))


@contextmanager
def asking(engine: sa.Engine, path: Path) -> Iterator[sa.Connection]:
    """Ask a logbook; what it can't answer is a KnownError that says what to do."""
    try:
        with engine.connect() as connection:
            yield connection
    except CANNOT_ANSWER as error:
        raise trouble(path, error) from error


def must_be_there(path: Path) -> None:
    """Raise KnownError when there is no file at the path, or nobody lets us look."""
    try:
        there = path.is_file()
    except OSError as error:
        raise _no_permission(path, error) from error
    if not there:
        raise KnownError(
            say("There is no logbook {path}.", path=path), say("Make one with 'yondle new', or check the name.")
        )


def _must_be_logbook(path: Path) -> None:
    must_be_there(path)
    try:
        with path.open("rb") as file:
            header = file.read(100)
    except OSError as error:
        raise _no_permission(path, error) from error
    if not header.startswith(_SQLITE_HEADER) or len(header) < 100:
        raise KnownError(
            say("{path} is no logbook.", path=path), say("Yondle opens files it made itself, usually named *.yondle.")
        )
    if int.from_bytes(header[68:72], "big") != APPLICATION_ID:
        raise KnownError(
            say("{path} is a database of another program, not a logbook.", path=path),
            say("Check the name; the file was left as it is."),
        )


def _must_be_writable(path: Path) -> None:
    if not os.access(path, os.W_OK) or not os.access(path.parent, os.W_OK):
        raise KnownError(
            say("{path} may not be written.", path=path), say("Give yourself permission to write it and its folder.")
        )


def _version(connection: sa.Connection) -> int:
    return int(connection.execute(sa.text("PRAGMA user_version")).scalar_one())


def _must_not_be_newer(path: Path, version: int) -> None:
    if version > SCHEMA_VERSION:
        raise KnownError(
            say(
                "{path} was written by a newer Yondle (schema {version}, this one knows {schema_version}).",
                path=path,
                version=version,
                schema_version=SCHEMA_VERSION,
            ),
            say("Open it with that version, or install it here; the file was left as it is."),
        )


def _must_hold_what_it_should(engine: sa.Engine, path: Path) -> None:
    """Raise KnownError where a cell holds another kind of value than its column; SQLite itself lets anything stand anywhere.

    One look a table, done by SQLite: figures that are words, times that no clock can show, and text that is none.
    """
    with engine.connect() as connection:
        for table in metadata.sorted_tables:
            wrong = " OR ".join(_wrong_cell(column) for column in table.columns)
            found = connection.exec_driver_sql(f'SELECT rowid FROM "{table.name}" WHERE {wrong} LIMIT 1').first()
            if found is not None:
                raise damaged(
                    path,
                    say("row {row} of its table {table} holds what can't stand there", row=found[0], table=table.name),
                )


def _wrong_cell(column: sa.Column[Any]) -> str:
    name, empty = f'"{column.name}"', "'null'," if column.nullable else ""
    match column.type:
        case sa.Boolean():
            return f"typeof({name}) NOT IN ({empty}'integer') OR {name} NOT IN (0, 1)"
        case sa.Integer():
            return f"typeof({name}) NOT IN ({empty}'integer') OR abs({name}) > {_LARGEST_COUNT}"
        case sa.Float():
            most = _LATEST_S if column.name.endswith("_s") else _LARGEST_FIGURE
            return f"typeof({name}) NOT IN ({empty}'integer', 'real') OR abs({name}) > {most}"
        case sa.LargeBinary():
            return f"typeof({name}) NOT IN ({empty}'blob')"
        case _:
            return f"typeof({name}) NOT IN ({empty}'text')"


def _migrate(engine: sa.Engine) -> None:
    from alembic import command
    from alembic.config import Config
    from alembic.util import CommandError

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        try:
            command.upgrade(config, "head")
        except CommandError as error:
            raise damaged(
                Path(engine.url.database or ""), say("its schema is none there was: {error}", error=error)
            ) from error
        connection.execute(sa.text(f"PRAGMA application_id={APPLICATION_ID}"))
        connection.execute(sa.text(f"PRAGMA user_version={SCHEMA_VERSION}"))


def damaged(path: Path, detail: str) -> KnownError:
    """Say that a logbook is damaged, and what to do; of a long detail, which may hold anything, the beginning."""
    told = "".join(c if c.isprintable() else "·" for c in " ".join(detail.split()))
    return KnownError(
        say("{path} is damaged ({told}).", path=path, told=told[:_LONGEST_DETAIL]),
        say("Work on a copy: keep the file as it is and restore the latest good copy you have."),
    )


def _no_permission(path: Path, error: OSError) -> KnownError:
    return KnownError(
        say("{path} can't be used ({strerror}).", path=path, strerror=error.strerror),
        say("Give yourself permission, or choose another place."),
    )
