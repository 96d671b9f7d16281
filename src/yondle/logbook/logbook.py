"""One logbook held open by its writer: takes the engine's records durably as they come."""

from __future__ import annotations

import json
from array import array
from hashlib import sha256
from pathlib import Path

import sqlalchemy as sa

from yondle.logbook import schema
from yondle.logbook.keeping import Keeping
from yondle.logbook.records import RecordReader
from yondle.logbook.samples import pack
from yondle.logbook.store import (
    CANNOT_ANSWER,
    WriterLock,
    create_store,
    must_be_there,
    open_store,
    trouble,
)
from yondle.logbook.writing import write
from yondle.model.events import Durable
from yondle.model.measured import Measured
from yondle.model.sensors import SampleBlock


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
            self.keeping = Keeping(path, self._engine)
            self.reader = RecordReader(path, self._engine)
        except BaseException:
            self._lock.release()
            raise

    @classmethod
    def create(cls, path: Path, kind: str, name: str, definition: str) -> Logbook:
        """Make a logbook for a rig and open it."""
        create_store(path)
        book = cls(path)
        with book._engine.begin() as connection:
            connection.execute(schema.rig.insert().values(kind=kind, name=name, definition=definition))
        return book

    def close(self) -> None:
        """Close the file and let others write it."""
        super().close()
        self._lock.release()

    # -- what the engine says ---------------------------------------------------------------------------------------

    def take(self, record: Durable) -> None:
        """Write one record; when this returns it is on the disk. Raises KnownError when it can't be written."""
        try:
            with self._engine.begin() as connection:
                write(connection, record)
        except CANNOT_ANSWER as error:
            raise trouble(self.path, error) from error

    def add_note(self, step: int, at: str, text: str, caveat: bool = False) -> None:
        """Keep a note at a step."""
        self._change(schema.note.insert().values(step=step, at=at, text=text, caveat=caveat))

    def edit_note(self, note: int, at: str, text: str, caveat: bool) -> None:
        """Change a note; when it was first written stays."""
        changed = schema.note.update().where(schema.note.c.id == note)
        self._change(changed.values(text=text, caveat=caveat, edited_at=at))

    def drop_note(self, note: int) -> None:
        """Take a note out."""
        self._change(schema.note.delete().where(schema.note.c.id == note))

    def discard_pass(self, attempt: int, ordinal: int, reason: str) -> None:
        """Keep why a pass is left out of figures; with no reason it counts again."""
        kept = schema.pass_.c
        which = (kept.attempt == attempt) & (kept.ordinal == ordinal)
        self._change(schema.pass_.update().where(which).values(discarded=reason))

    def discard_result(self, result: int, reason: str) -> None:
        """Keep why a figure from elsewhere is left out; with no reason it counts again."""
        self._change(schema.result.update().where(schema.result.c.id == result).values(discarded=reason))

    def attach(self, step: int, at: str, name: str, data: bytes) -> None:
        """Keep a file at a step."""
        digest = sha256(data).hexdigest()
        self._change(schema.attachment.insert().values(step=step, at=at, name=name, sha256=digest, data=data))

    def detach(self, attachment: int) -> None:
        """Take a file out."""
        self._change(schema.attachment.delete().where(schema.attachment.c.id == attachment))

    def add_result(
        self, step: int, workload: str, at: str, score: float, measured: Measured, frames: tuple[float, ...]
    ) -> None:
        """Keep a result that was measured elsewhere at a step's settings; frame times are in ms."""
        values = {
            "step": step, "workload": workload, "at": at, "score": score, "facts": json.dumps(measured.facts()),
            "frame_times": array("f", frames).tobytes() if frames else None,
        }  # fmt: skip
        self._change(schema.result.insert().values(**values))

    def add_sensor_log(self, step: int, at: str, name: str, began_at: str, block: SampleBlock) -> None:
        """Keep a log of sensors from another program."""
        values = {
            "step": step, "at": at, "name": name, "began_at": began_at, "channels": json.dumps(block.channels),
            "samples": len(block.times_s), "data": pack(block),
        }  # fmt: skip
        self._change(schema.sensor_log.insert().values(**values))

    def next_step(self) -> int:
        """Give the number the next step on the trail gets."""
        return self._next(schema.step.c.number)

    def next_attempt(self) -> int:
        """Give the number the next attempt gets."""
        return self._next(schema.attempt.c.id)

    def _change(self, statement: sa.Insert | sa.Update | sa.Delete) -> None:
        try:
            with self._engine.begin() as connection:
                connection.execute(statement)
        except CANNOT_ANSWER as error:
            raise trouble(self.path, error) from error

    def _next(self, column: sa.Column[int]) -> int:
        with self._engine.connect() as connection:
            return int(connection.execute(sa.select(sa.func.coalesce(sa.func.max(column), 0) + 1)).scalar_one())
