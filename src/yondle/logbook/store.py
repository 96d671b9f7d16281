"""Opening a logbook file: what it is, whether this program may write it, and bringing an older one up to date."""

from __future__ import annotations

import fcntl
import os
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from yondle.formats.whole_files import written_whole
from yondle.language.saying import say
from yondle.logbook.schema import APPLICATION_ID, SCHEMA_VERSION, TABLES, Column, Kind
from yondle.logbook.sql import Connection, Store
from yondle.model.errors import KnownError

_SQLITE_HEADER = b"SQLite format 3\x00"
_LONGEST_DETAIL = 160
CANNOT_ANSWER = (sqlite3.DatabaseError, UnicodeDecodeError)
"""What reading or writing a damaged file raises; the second where what SQLite says of it holds bytes that are no text."""
_MIGRATIONS = Path(__file__).parent / "migrations"
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
    store = connect(path)
    try:
        _migrate(store, 0)
    except sqlite3.OperationalError as error:
        path.unlink(missing_ok=True)
        raise trouble(path, error) from error
    finally:
        store.close()


def open_store(path: Path) -> Store:
    """Open an existing logbook and bring it up to date; a copy of an older one is kept beside it."""
    _must_be_logbook(path)
    _must_be_writable(path)
    store = connect(path)
    with _closed_unless_good(store, path):
        with store.reading() as connection:
            version = _version(connection)
            if path.stat().st_size < _CHECKED_WHOLE_BELOW:
                answer = connection.execute("PRAGMA quick_check(1)").fetchone()[0]
                if answer != "ok":
                    raise damaged(path, str(answer).splitlines()[-1])
            _must_not_be_newer(path, version)
            if version == SCHEMA_VERSION:
                _must_hold_what_it_should(connection, path)
        if version < SCHEMA_VERSION:
            with written_whole(path.with_name(f"{path.name}.schema{version}")) as copy:
                shutil.copy2(path, copy)
            _migrate(store, version)
    return store


def open_to_read(path: Path) -> Store:
    """Open an existing logbook, which another program may be writing, without changing it or what lies beside it."""
    _must_be_logbook(path)
    in_use = path.with_name(path.name + "-wal").exists()
    store = Store(
        path.absolute().as_uri() + "?mode=ro" + ("" if in_use else "&immutable=1"), ("PRAGMA trusted_schema=OFF",)
    )
    with _closed_unless_good(store, path), store.reading() as connection:
        version = _version(connection)
        _must_not_be_newer(path, version)
        if version < SCHEMA_VERSION:
            raise KnownError(
                say("{path} was written by an older Yondle.", path=path),
                say("Open it once, which brings it up to date."),
            )
        _must_hold_what_it_should(connection, path)
    return store


def connect(path: Path) -> Store:
    """Open a logbook file: write-ahead log, every commit synced to the disk."""
    return Store(
        path.absolute().as_uri() + "?mode=rw",
        (
            "PRAGMA journal_mode=WAL",
            "PRAGMA synchronous=FULL",
            "PRAGMA foreign_keys=ON",
            "PRAGMA trusted_schema=OFF",
        ),
    )


@contextmanager
def _closed_unless_good(store: Store, path: Path) -> Iterator[None]:
    """Close a file again that isn't as it should be, and say why."""
    try:
        yield
    except CANNOT_ANSWER as error:
        store.close()
        raise trouble(path, error) from error
    except BaseException:
        store.close()
        raise


def trouble(path: Path, error: sqlite3.DatabaseError | UnicodeDecodeError) -> KnownError:
    """Put what SQLite reports into a sentence that says what to do."""
    if isinstance(error, UnicodeDecodeError):
        return damaged(path, say("what should be text is none"))
    words = str(error).lower()
    if "full" in words or "disk i/o" in words or "file too large" in words:
        return KnownError(
            say("{path} can't be written: the disk is full or may not hold more ({orig}).", path=path, orig=error),
            say("Make room and start again; everything written before is safe."),
        )
    if "readonly" in words or "unable to open" in words:
        return KnownError(
            say("{path} may not be written.", path=path), say("Give yourself permission to write it and its folder.")
        )
    if "locked" in words:
        return KnownError(say("{path} is in use by another program.", path=path), say("Close it there first."))
    return damaged(path, str(error))


@contextmanager
def asking(store: Store, path: Path) -> Iterator[Connection]:
    """Ask a logbook; what it can't answer is a KnownError that says what to do."""
    try:
        with store.reading() as connection:
            yield connection
    except CANNOT_ANSWER as error:
        raise trouble(path, error) from error


@contextmanager
def changing(store: Store, path: Path) -> Iterator[Connection]:
    """Change a logbook: durable when the block ends; what can't be written is a KnownError, and nothing of it is there."""
    try:
        with store.writing() as connection:
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


def _version(connection: Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


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


def _must_hold_what_it_should(connection: Connection, path: Path) -> None:
    """Raise KnownError where a cell holds another kind of value than its column; SQLite itself lets anything stand anywhere.

    One look a table, done by SQLite: figures that are words, times that no clock can show, and text that is none.
    """
    for table in TABLES:
        wrong = " OR ".join(_wrong_cell(column) for column in table.columns)
        found = connection.execute(f'SELECT rowid FROM "{table.name}" WHERE {wrong} LIMIT 1').fetchone()
        if found is not None:
            raise damaged(
                path, say("row {row} of its table {table} holds what can't stand there", row=found[0], table=table.name)
            )


def _wrong_cell(column: Column) -> str:
    name, empty = f'"{column.name}"', "'null'," if column.empty else ""
    match column.kind:
        case Kind.YES_OR_NO:
            return f"typeof({name}) NOT IN ({empty}'integer') OR {name} NOT IN (0, 1)"
        case Kind.WHOLE:
            return f"typeof({name}) NOT IN ({empty}'integer') OR abs({name}) > {_LARGEST_COUNT}"
        case Kind.REAL:
            most = _LATEST_S if column.name.endswith("_s") else _LARGEST_FIGURE
            return f"typeof({name}) NOT IN ({empty}'integer', 'real') OR abs({name}) > {most}"
        case Kind.BYTES:
            return f"typeof({name}) NOT IN ({empty}'blob')"
        case Kind.TEXT:
            return f"typeof({name}) NOT IN ({empty}'text')"


def _migrate(store: Store, version: int) -> None:
    """Run the scripts that make the schema of today out of another; all of them or none."""
    scripts = sorted(_MIGRATIONS.glob("*.sql"))[max(version, 0) :]
    with store.bare() as connection:
        try:
            connection.executescript(
                "\n".join(
                    (
                        "BEGIN IMMEDIATE;",
                        *(script.read_text("utf-8") for script in scripts),
                        f"PRAGMA application_id={APPLICATION_ID};",
                        f"PRAGMA user_version={SCHEMA_VERSION};",
                        "COMMIT;",
                    )
                )
            )
        except BaseException:
            connection.rollback()
            raise


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
