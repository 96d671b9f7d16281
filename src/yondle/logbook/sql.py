"""The SQL of single rows, and a file's connections: one for every thread that asks at the same time, kept for the next.

Plain SQL on Python's own `sqlite3` (docs/decisions/0045): a program that starts in a blink can't load a toolkit first.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

Connection = sqlite3.Connection
Row = sqlite3.Row


class Store:
    """An open logbook file; any thread may ask and write."""

    def __init__(self, where: str, prepares: tuple[str, ...]) -> None:
        """`where` is a 'file:' address as SQLite reads it; every connection runs the statements in `prepares` first."""
        self._where, self._prepares = where, prepares
        self._idle: list[Connection] = []
        self._closed = False
        self._guards = threading.Lock()

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Give a connection on which all that is read is of one moment, whatever is written meanwhile."""
        with self._within("BEGIN") as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Give a connection to write on: durable when the block ends, undone altogether where it raises."""
        with self._within("BEGIN IMMEDIATE") as connection:
            yield connection

    @contextmanager
    def bare(self) -> Iterator[Connection]:
        """Give a connection outside any transaction, for what SQLite does in none."""
        connection = self._taken()
        try:
            yield connection
        finally:
            self._give_back(connection)

    def close(self) -> None:
        """Close the file; once is enough, twice does no harm."""
        with self._guards:
            idle, self._idle, self._closed = self._idle, [], True
        for connection in idle:
            connection.close()

    @contextmanager
    def _within(self, begin: str) -> Iterator[Connection]:
        with self.bare() as connection:
            connection.execute(begin)
            try:
                yield connection
                connection.execute("COMMIT")
            except BaseException:
                connection.rollback()
                raise

    def _taken(self) -> Connection:
        with self._guards:
            if self._idle:
                return self._idle.pop()
        connection = sqlite3.connect(self._where, uri=True, isolation_level=None, check_same_thread=False)
        try:
            connection.row_factory = Row
            for statement in self._prepares:
                connection.execute(statement)
        except BaseException:
            connection.close()
            raise
        return connection

    def _give_back(self, connection: Connection) -> None:
        with self._guards:
            if not self._closed:
                self._idle.append(connection)
                return
        connection.close()


def inserted(connection: Connection, table: str, **values: Any) -> int:
    """Write a row; gives its number. Names of tables and columns are the program's own, never what was read."""
    names, marks = ", ".join(f'"{name}"' for name in values), ", ".join("?" * len(values))
    cursor = connection.execute(f'INSERT INTO "{table}" ({names}) VALUES ({marks})', tuple(values.values()))
    return cursor.lastrowid or 0


def updated(connection: Connection, table: str, where: dict[str, Any], **values: Any) -> None:
    """Change the rows that hold what `where` says."""
    names = ", ".join(f'"{name}" = ?' for name in values)
    connection.execute(f'UPDATE "{table}" SET {names} WHERE {_that(where)}', (*values.values(), *where.values()))


def deleted(connection: Connection, table: str, **where: Any) -> None:
    """Take the rows away that hold what `where` says."""
    connection.execute(f'DELETE FROM "{table}" WHERE {_that(where)}', tuple(where.values()))


def _that(where: dict[str, Any]) -> str:
    return " AND ".join(f'"{name}" = ?' for name in where)
