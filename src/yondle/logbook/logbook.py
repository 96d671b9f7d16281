"""One logbook: takes the engine's records durably as they come, and answers questions about what was done."""

from __future__ import annotations

import json
from array import array
from pathlib import Path

import sqlalchemy as sa

from yondle.logbook import schema
from yondle.logbook.keeping import Keeping
from yondle.logbook.reading import OpenAttempt, open_attempt, sensor_logs, steps
from yondle.logbook.samples import pack, unpack
from yondle.logbook.store import WriterLock, create_store, damaged, must_be_there, open_store, trouble
from yondle.logbook.writing import write
from yondle.model.errors import KnownError
from yondle.model.events import Durable
from yondle.model.sensors import SampleBlock
from yondle.model.steps import SensorLog, StepRecord


class Logbook:
    """A logbook file held open by its one writer. Records come in through `take`, in one transaction each."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = WriterLock(path)
        must_be_there(path)
        self._lock.take()
        try:
            self._engine = open_store(path)
            self.keeping = Keeping(self._engine, path)
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
        self._engine.dispose()
        self._lock.release()

    def rig(self) -> tuple[str, str, str]:
        """Give kind, name and definition of the rig the logbook is about."""
        with self._engine.connect() as connection:
            row = connection.execute(sa.select(schema.rig).order_by(schema.rig.c.id)).first()
        if row is None:
            raise KnownError(f"{self.path} names no rig.", "It was never finished; make a new one with 'yondle new'.")
        return row.kind, row.name, row.definition

    # -- what the engine says ---------------------------------------------------------------------------------------

    def take(self, record: Durable) -> None:
        """Write one record; when this returns it is on the disk. Raises KnownError when it can't be written."""
        try:
            with self._engine.begin() as connection:
                write(connection, record)
        except sa.exc.DatabaseError as error:
            raise trouble(self.path, error) from error

    def add_note(self, step: int, at: str, text: str) -> None:
        """Keep a note at a step."""
        self._insert(schema.note.insert().values(step=step, at=at, text=text))

    def add_result(
        self, step: int, workload: str, at: str, score: float, facts: dict[str, str | float], frames: tuple[float, ...]
    ) -> None:
        """Keep a result that was measured elsewhere at a step's settings; frame times are in ms."""
        values = {
            "step": step, "workload": workload, "at": at, "score": score, "facts": json.dumps(facts),
            "frame_times": array("f", frames).tobytes() if frames else None,
        }  # fmt: skip
        self._insert(schema.result.insert().values(**values))

    def add_sensor_log(self, step: int, at: str, name: str, began_at: str, block: SampleBlock) -> None:
        """Keep a log of sensors from another program."""
        values = {
            "step": step, "at": at, "name": name, "began_at": began_at, "channels": json.dumps(block.channels),
            "samples": len(block.times_s), "data": pack(block),
        }  # fmt: skip
        self._insert(schema.sensor_log.insert().values(**values))

    def sensor_logs(self, step: int) -> list[SensorLog]:
        """Give the sensor logs added to a step."""
        try:
            with self._engine.connect() as connection:
                return sensor_logs(connection, step)
        except ValueError as error:
            raise damaged(self.path, f"a sensor log can't be read: {error}") from error

    def next_step(self) -> int:
        """Give the number the next step on the trail gets."""
        return self._next(schema.step.c.number)

    def next_attempt(self) -> int:
        """Give the number the next attempt gets."""
        return self._next(schema.attempt.c.id)

    # -- what others ask --------------------------------------------------------------------------------------------

    def steps(self) -> list[StepRecord]:
        """Give every step with its attempts, passes and notes, oldest first."""
        return self._read(None)

    def step(self, number: int) -> StepRecord:
        """Give one step; raises KnownError when there is none of that number."""
        found = self._read(number)
        if not found:
            raise KnownError(f"There is no step {number}.", "'yondle status' lists the steps there are.")
        return found[0]

    def position(self) -> int | None:
        """Give the step whose setup is in force, or None before the baseline."""
        found: int | None = self.keeping.value("position")
        return found

    def unclosed(self) -> list[OpenAttempt]:
        """List attempts that were opened and never closed."""
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(schema.attempt).where(schema.attempt.c.closed_at.is_(None)).order_by(schema.attempt.c.id)
            ).all()
            return [open_attempt(connection, row) for row in rows]

    def last_time_s(self) -> float:
        """Give the latest time on the rig's clock that was ever written."""
        with self._engine.connect() as connection:
            times = [
                connection.execute(sa.select(sa.func.max(column))).scalar_one()
                for column in (schema.attempt.c.started_s, schema.sample_block.c.to_s, schema.pass_.c.started_s)
            ]
        return max((float(t) for t in times if t is not None), default=0.0)

    def trace(self, attempt: int) -> list[SampleBlock]:
        """Give the sample blocks of an attempt in order of time; a damaged block is a KnownError."""
        blocks = schema.sample_block
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(blocks).where(blocks.c.attempt == attempt).order_by(blocks.c.from_s)
            ).all()
        try:
            return [unpack(tuple(json.loads(row.channels)), row.samples, row.data) for row in rows]
        except ValueError as error:
            raise KnownError(
                f"The trace of attempt {attempt} in {self.path} can't be read: {error}.",
                "The rest of the logbook is unharmed; restore a copy to see this trace.",
            ) from error

    def journal(self, attempt: int) -> list[str]:
        """List the acts the journal holds of an attempt, in order."""
        with self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(schema.journal.c.act).where(schema.journal.c.attempt == attempt).order_by(schema.journal.c.id)
            )
            return [row.act for row in rows]

    def _insert(self, statement: sa.Insert) -> None:
        try:
            with self._engine.begin() as connection:
                connection.execute(statement)
        except sa.exc.DatabaseError as error:
            raise trouble(self.path, error) from error

    def _read(self, number: int | None) -> list[StepRecord]:
        try:
            with self._engine.connect() as connection:
                return list(steps(connection, number))
        except (ValueError, TypeError, AttributeError) as error:
            raise damaged(self.path, f"a step can't be read: {error}") from error
        except sa.exc.DatabaseError as error:
            raise trouble(self.path, error) from error

    def _next(self, column: sa.Column[int]) -> int:
        with self._engine.connect() as connection:
            return int(connection.execute(sa.select(sa.func.coalesce(sa.func.max(column), 0) + 1)).scalar_one())
