"""What a logbook answers about what was done; any number of programs may read one, also while another writes it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from yondle.formats.documents import Entry, RigPosition
from yondle.language.saying import say
from yondle.logbook.archive import Values, values_of
from yondle.logbook.keeping import KeptReader
from yondle.logbook.reading import OpenAttempt, open_attempt, pass_of, sensor_logs, steps
from yondle.logbook.samples import LARGEST_TRACE_BYTES, block_bytes, unpack, unpack_arrays
from yondle.logbook.sql import Connection, Row
from yondle.logbook.store import CANNOT_ANSWER, asking, damaged, open_to_read, trouble
from yondle.model.acts import Act
from yondle.model.errors import KnownError
from yondle.model.sensors import SampleBlock
from yondle.model.steps import PassRecord, SensorLog, StepRecord

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class RecordReader(KeptReader):
    """What a logbook answers; nothing in it is changed."""

    def close(self) -> None:
        """Close the file."""
        self._store.close()

    def rig(self) -> tuple[str, str, str]:
        """Give kind, name and definition of the rig the logbook is about."""
        with asking(self._store, self.path) as connection:
            row = connection.execute("SELECT kind, name, definition FROM rig ORDER BY id").fetchone()
        if row is None:
            raise KnownError(
                say("{path} names no rig.", path=self.path),
                say("It was never finished; make a new one with 'yondle new'."),
            )
        return row["kind"], row["name"], row["definition"]

    def steps(self) -> list[StepRecord]:
        """Give every step with its attempts, passes and notes, oldest first."""
        return self._read(None)

    def step(self, number: int, passes_of: int | None = None) -> StepRecord:
        """Give one step, on request with the passes of one attempt only; raises KnownError when there is none of that number."""
        found = self._read(number, passes_of)
        if not found:
            raise KnownError(
                say("There is no step {number}.", number=number), say("'yondle status' lists the steps there are.")
            )
        return found[0]

    def pass_of(self, attempt: int, ordinal: int) -> PassRecord:
        """Give one pass of an attempt; raises KnownError where it isn't there or can't be read."""
        with self._told() as connection:
            return pass_of(connection, attempt, ordinal)

    def position(self) -> int | None:
        """Give the step whose setup is in force, or None before the baseline."""
        return self.document(RigPosition).root

    def entry(self) -> Entry | None:
        """Give what is being entered by hand; None with nothing."""
        return self.find(Entry)

    def unclosed(self) -> list[OpenAttempt]:
        """List attempts that were opened and never closed."""
        with asking(self._store, self.path) as connection:
            rows = connection.execute("SELECT * FROM attempt WHERE closed_at IS NULL ORDER BY id").fetchall()
            try:
                return [open_attempt(connection, row) for row in rows]
            except (ValueError, TypeError, KeyError, AttributeError) as error:
                raise damaged(self.path, say("an open test can't be read: {error}", error=error)) from error

    def last_time_s(self) -> float:
        """Give the latest time on the rig's clock that was ever written."""
        with asking(self._store, self.path) as connection:
            times = connection.execute(
                "SELECT (SELECT max(started_s) FROM attempt), (SELECT max(to_s) FROM sample_block),"
                " (SELECT max(started_s) FROM pass)"
            ).fetchone()
        try:
            return max((float(t) for t in times if t is not None), default=0.0)
        except (ValueError, TypeError) as error:
            raise damaged(self.path, say("a time in it is none ({error})", error=error)) from error

    def trace(self, attempt: int) -> list[SampleBlock]:
        """Give the sample blocks of an attempt in order of time; a damaged block is a KnownError."""
        return self._blocks(attempt, latest=False)

    def latest_block(self, attempt: int) -> SampleBlock | None:
        """Give the latest sample block of an attempt; None where it has none yet, and a damaged block is a KnownError."""
        return next(iter(self._blocks(attempt, latest=True)), None)

    def _blocks(self, attempt: int, latest: bool) -> list[SampleBlock]:
        order = "ORDER BY from_s DESC LIMIT 1" if latest else "ORDER BY from_s"
        with asking(self._store, self.path) as connection:
            if not latest:
                self._must_be_a_trace(connection, attempt)
            rows = _blocks_of(connection, attempt, order)
        try:
            return [unpack(tuple(json.loads(row["channels"])), row["samples"], row["data"]) for row in rows]
        except (ValueError, TypeError) as error:
            raise KnownError(
                say(
                    "The trace of attempt {attempt} in {path} can't be read: {error}.",
                    attempt=attempt,
                    path=self.path,
                    error=error,
                ),
                say("The rest of the logbook is unharmed; restore a copy to see this trace."),
            ) from error

    def trace_arrays(self, attempt: int) -> tuple[NDArray[np.float64], dict[str, NDArray[np.float32]]]:
        """Give the whole trace of an attempt: times in seconds on the rig's clock, and the readings of every channel.

        Readings that weren't taken are nan. A block that can't be read is left out; its time shows as a gap.
        """
        import numpy as np

        with asking(self._store, self.path) as connection:
            self._must_be_a_trace(connection, attempt)
            rows = _blocks_of(connection, attempt, "ORDER BY from_s")
        read = []
        for row in rows:
            with suppress(ValueError, TypeError):
                channels = tuple(str(name) for name in json.loads(row["channels"]))
                read.append((channels, *unpack_arrays(channels, row["samples"], row["data"])))
        if not read:
            return np.empty(0), {}
        times = np.concatenate([block[1] for block in read])
        columns = {
            name: np.full(len(times), np.nan, np.float32)
            for name in dict.fromkeys(c for block in read for c in block[0])
        }
        at = 0
        for channels, own, values in read:
            for name, column in zip(channels, values, strict=True):
                columns[name][at : at + len(own)] = column
            at += len(own)
        return times, columns

    def _must_be_a_trace(self, connection: Connection, attempt: int) -> None:
        """Raise KnownError for a trace larger than any that is shown, before anything of it is unpacked."""
        asked = "SELECT channels, sum(samples) FROM sample_block WHERE attempt = ? GROUP BY channels"
        claimed = 0
        for channels, samples in connection.execute(asked, (attempt,)):
            with suppress(ValueError, TypeError):
                claimed += block_bytes(tuple(json.loads(channels)), int(samples))
        if claimed > LARGEST_TRACE_BYTES:
            raise KnownError(
                say(
                    "The trace of attempt {attempt} in {path} takes {claimed} MiB, and {most} are shown at most.",
                    attempt=attempt,
                    path=self.path,
                    claimed=claimed >> 20,
                    most=LARGEST_TRACE_BYTES >> 20,
                ),
                say("The rest of the logbook is unharmed."),
            )

    def values(self, samples: bool = True) -> Values:
        """Give everything in the logbook as plain values, as an archive holds it; raises KnownError for a damaged one."""
        try:
            return values_of(self._store, samples)
        except (ValueError, TypeError) as error:
            raise damaged(self.path, str(error)) from error
        except CANNOT_ANSWER as error:
            raise trouble(self.path, error) from error

    def attachment(self, attachment: int) -> bytes:
        """Give the bytes of a file kept as proof; raises KnownError where there is none of that number."""
        with asking(self._store, self.path) as connection:
            row = connection.execute("SELECT data FROM attachment WHERE id = ?", (attachment,)).fetchone()
        if row is None:
            raise KnownError(
                say("There is no file {attachment} in {path}.", attachment=attachment, path=self.path),
                say("The Logbook place lists those there are."),
            )
        return bytes(row["data"])

    def journal(self, attempt: int) -> list[Act]:
        """List the acts the journal holds of an attempt, in order."""
        with asking(self._store, self.path) as connection:
            rows = connection.execute("SELECT act FROM journal WHERE attempt = ? ORDER BY id", (attempt,))
            return [Act(row["act"]) for row in rows]

    def sensor_log_names(self) -> list[tuple[int, int, str]]:
        """Give number, step and name of every sensor log there is."""
        with asking(self._store, self.path) as connection:
            return [tuple(row) for row in connection.execute("SELECT id, step, name FROM sensor_log ORDER BY id")]

    def sensor_logs(self, step: int) -> list[SensorLog]:
        """Give the sensor logs added to a step."""
        try:
            with asking(self._store, self.path) as connection:
                return sensor_logs(connection, step)
        except ValueError as error:
            raise damaged(self.path, say("a sensor log can't be read: {error}", error=error)) from error

    def _read(self, number: int | None, passes_of: int | None = None) -> list[StepRecord]:
        with self._told() as connection:
            return list(steps(connection, number, passes_of))

    @contextmanager
    def _told(self) -> Iterator[Connection]:
        """Give a connection to read steps with; what can't be read is told."""
        try:
            with self._store.reading() as connection:
                yield connection
        except (ValueError, TypeError, AttributeError, KeyError) as error:
            raise damaged(self.path, say("a step can't be read: {error}", error=error)) from error
        except CANNOT_ANSWER as error:
            raise trouble(self.path, error) from error


@contextmanager
def reading(path: Path) -> Iterator[RecordReader]:
    """Open a logbook to read it alone; raises KnownError for what is none, or can't be read as it is."""
    store = open_to_read(path)
    try:
        yield RecordReader(path, store)
    except CANNOT_ANSWER as error:
        raise trouble(path, error) from error
    finally:
        store.close()


def _blocks_of(connection: Connection, attempt: int, order: str) -> list[Row]:
    asked = f"SELECT channels, samples, data FROM sample_block WHERE attempt = ? {order}"
    return connection.execute(asked, (attempt,)).fetchall()
