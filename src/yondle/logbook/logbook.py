"""One logbook held open by its writer: takes the engine's records durably as they come."""

from __future__ import annotations

import json
from array import array
from collections.abc import Sequence
from contextlib import AbstractContextManager
from hashlib import sha256
from pathlib import Path
from typing import NamedTuple

from yondle.formats.documents import Document
from yondle.logbook.keeping import Keeping
from yondle.logbook.records import RecordReader
from yondle.logbook.samples import pack
from yondle.logbook.sql import Connection, deleted, inserted, updated
from yondle.logbook.store import (
    WriterLock,
    asking,
    changing,
    create_store,
    must_be_there,
    open_store,
)
from yondle.logbook.writing import keep_document, write
from yondle.model.events import Durable
from yondle.model.measured import Measured
from yondle.model.sensors import SampleBlock


class KeptResult(NamedTuple):
    """A figure from elsewhere as it is written: at a step, of a workload; frame times are in ms."""

    step: int
    workload: str
    at: str
    score: float
    measured: Measured
    frames: tuple[float, ...] = ()


class Logbook(RecordReader):
    """A logbook file held open by its one writer. Records come in through `take`, in one transaction each.

    `reader` answers what is asked and changes nothing; any thread may ask it.
    """

    def __init__(self, path: Path) -> None:
        self._lock = WriterLock(path)
        must_be_there(path)
        self._lock.take()
        try:
            super().__init__(path, open_store(path))
            self.keeping = Keeping(path, self._store)
            self.reader = RecordReader(path, self._store)
        except BaseException:
            self._lock.release()
            raise

    @classmethod
    def create(cls, path: Path, kind: str, name: str, definition: str) -> Logbook:
        """Make a logbook for a rig and open it."""
        create_store(path)
        book = cls(path)
        with book._changing() as connection:
            inserted(connection, "rig", kind=kind, name=name, definition=definition)
        return book

    def close(self) -> None:
        """Close the file and let others write it."""
        super().close()
        self._lock.release()

    # -- what the engine says ---------------------------------------------------------------------------------------

    def take(self, record: Durable) -> None:
        """Write one record; when this returns it is on the disk. Raises KnownError when it can't be written."""
        with self._changing() as connection:
            write(connection, record)

    def take_with(
        self,
        records: Sequence[Durable],
        *documents: Document,
        results: Sequence[KeptResult] = (),
        notes: Sequence[tuple[int, str, str]] = (),
    ) -> None:
        """Write records and documents that tell of them, figures, and notes (step, date, text): all or none."""
        with self._changing() as connection:
            for record in records:
                write(connection, record)
            for document in documents:
                keep_document(connection, document)
            for result in results:
                _insert_result(connection, result)
            for step, at, text in notes:
                inserted(connection, "note", step=step, at=at, text=text, caveat=False)

    def add_note(self, step: int, at: str, text: str, caveat: bool = False) -> None:
        """Keep a note at a step."""
        with self._changing() as connection:
            inserted(connection, "note", step=step, at=at, text=text, caveat=caveat)

    def edit_note(self, note: int, at: str, text: str, caveat: bool) -> None:
        """Change a note; when it was first written stays."""
        with self._changing() as connection:
            updated(connection, "note", {"id": note}, text=text, caveat=caveat, edited_at=at)

    def drop_note(self, note: int) -> None:
        """Take a note out."""
        with self._changing() as connection:
            deleted(connection, "note", id=note)

    def discard_pass(self, attempt: int, ordinal: int, reason: str) -> None:
        """Keep why a pass is left out of figures; with no reason it counts again."""
        with self._changing() as connection:
            updated(connection, "pass", {"attempt": attempt, "ordinal": ordinal}, discarded=reason)

    def discard_result(self, result: int, reason: str) -> None:
        """Keep why a figure from elsewhere is left out; with no reason it counts again."""
        with self._changing() as connection:
            updated(connection, "result", {"id": result}, discarded=reason)

    def attach(self, step: int, at: str, name: str, data: bytes) -> None:
        """Keep a file at a step."""
        digest = sha256(data).hexdigest()
        with self._changing() as connection:
            inserted(connection, "attachment", step=step, at=at, name=name, sha256=digest, data=data)

    def detach(self, attachment: int) -> None:
        """Take a file out."""
        with self._changing() as connection:
            deleted(connection, "attachment", id=attachment)

    def add_result(
        self, step: int, workload: str, at: str, score: float, measured: Measured, frames: tuple[float, ...]
    ) -> None:
        """Keep a result that was measured elsewhere at a step's settings; frame times are in ms."""
        with self._changing() as connection:
            _insert_result(connection, KeptResult(step, workload, at, score, measured, frames))

    def add_sensor_log(self, step: int, at: str, name: str, began_at: str, block: SampleBlock) -> None:
        """Keep a log of sensors from another program."""
        with self._changing() as connection:
            inserted(
                connection,
                "sensor_log",
                step=step,
                at=at,
                name=name,
                began_at=began_at,
                channels=json.dumps(block.channels),
                samples=len(block.times_s),
                data=pack(block),
            )

    def next_step(self) -> int:
        """Give the number the next step on the trail gets."""
        return self._next("step", "number")

    def next_attempt(self) -> int:
        """Give the number the next attempt gets."""
        return self._next("attempt", "id")

    def _changing(self) -> AbstractContextManager[Connection]:
        return changing(self._store, self.path)

    def _next(self, table: str, column: str) -> int:
        with asking(self._store, self.path) as connection:
            return int(connection.execute(f'SELECT coalesce(max("{column}"), 0) + 1 FROM "{table}"').fetchone()[0])


def _insert_result(connection: Connection, result: KeptResult) -> None:
    inserted(
        connection,
        "result",
        step=result.step,
        workload=result.workload,
        at=result.at,
        score=result.score,
        facts=json.dumps(result.measured.facts()),
        frame_times=array("f", result.frames).tobytes() if result.frames else None,
    )
