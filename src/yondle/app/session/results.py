"""Results that were measured elsewhere: typed in after a game, or read from another program's table."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.language.saying import later, say
from yondle.model.errors import KnownError
from yondle.model.measured import Measured
from yondle.model.pacing import pacing
from yondle.model.steps import AddedResult
from yondle.model.workloads import Direction, Workload
from yondle.workloads.imported import ReadTable, frame_times_ms, read_table, scores, sensor_log
from yondle.workloads.logs import FramesLog, SensorsLog, dropped_share, log_of

LONGEST_WORDS = 200
FRAMES_UNIT = "frames/s"
DROPPED = later("dropped frames")

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class MeasuredWith:
    """What is told with a result: the settings and the passage it was measured with, a note, and its sub-scores."""

    preset: str = ""
    passage: str = ""
    note: str = ""
    parts: tuple[tuple[str, float], ...] = ()

    def measured(self, source: str) -> Measured:
        """Give these as they are kept with a result; raises KnownError for words that are too long."""
        words = {"preset": self.preset, "passage": self.passage, "note": self.note, "source": source}
        if any(len(text) > LONGEST_WORDS for text in words.values()):
            raise KnownError(
                say("Preset, passage and note have at most {longest_words} characters.", longest_words=LONGEST_WORDS),
                say("Shorten them."),
            )
        return Measured(parts=dict(self.parts), told={k: v.strip() for k, v in words.items() if v.strip()})


def columns_of(path: Path) -> tuple[str, ...]:
    """Name the columns of a table; raises KnownError for what is none."""
    return read_table(path).columns


class _Added(Command[T]):
    while_testing = WhileTesting.AT_NEXT_READING


@dataclass(frozen=True)
class TypeIn(_Added[AddedResult]):
    """Keep a figure that was read off a screen; raises KnownError for one that can't be a score."""

    step: int
    benchmark: str
    score: float
    unit: str
    direction: Direction
    told: MeasuredWith = MeasuredWith()

    def do(self, session: Session) -> AddedResult:
        """Give the figure."""
        must_be_a_score(self.benchmark, self.score)
        session.book.step(self.step)
        workload = session.own.know_typed(self.benchmark, self.unit, self.direction, digits_of(self.score))
        return _added(session, self.step, workload, self.score, self.told.measured("typed in"))


@dataclass(frozen=True)
class ImportScores(_Added[list[AddedResult]]):
    """Keep the figures of a table of scores; `columns` name that of the benchmarks and that of the figures.

    All of it is read before anything is kept. Raises KnownError, also where there are other columns than those and the ones
    `left` out knowingly: they may tell settings apart, whose figures must not stand at one step.
    """

    step: int
    path: Path
    columns: tuple[str, str]
    unit: str
    direction: Direction
    told: MeasuredWith = MeasuredWith()
    decimal_comma: bool = False
    left: tuple[str, ...] = ()

    def do(self, session: Session) -> list[AddedResult]:
        """Give the figures."""
        session.book.step(self.step)
        table = read_table(self.path)
        found = scores(table, *self.columns, self.decimal_comma)
        others = table.others((*self.columns, *self.left))
        if others:
            raise KnownError(
                say("{source} has more columns: {others}.", source=table.source, others=", ".join(others)),
                say(
                    "Figures of several settings must not stand at one step: leave out what doesn't tell settings apart, "
                    "by --leave COLUMN, or by a tick in the window."
                ),
            )
        for score in found:
            must_be_a_score(score.benchmark, score.value)
        told, own = self.told.measured(self.path.name), session.own
        known = [own.know_typed(s.benchmark, self.unit, self.direction, digits_of(s.value)) for s in found]
        return [_added(session, self.step, w, s.value, told) for w, s in zip(known, found, strict=True)]


@dataclass(frozen=True)
class ImportFrames(_Added[AddedResult]):
    """Keep a series of frame times as one result: its mean rate, with the lows and late frames as sub-scores."""

    step: int
    path: Path
    benchmark: str
    column: str
    unit: str
    told: MeasuredWith = MeasuredWith()
    stamps: bool = False
    decimal_comma: bool = False

    def do(self, session: Session) -> AddedResult:
        """Give the figure."""
        session.book.step(self.step)
        times = frame_times_ms(read_table(self.path), self.column, self.unit, self.stamps, self.decimal_comma)
        paced = pacing(times)
        told = self.told.measured(self.path.name).joined(Measured(parts=paced.parts()))
        workload = session.own.know_typed(self.benchmark, FRAMES_UNIT, Direction.HIGHER, 1)
        return _added(session, self.step, workload, paced.mean, told, times)


@dataclass(frozen=True)
class ImportSensors(_Added[int]):
    """Keep another program's log of sensors with a step."""

    step: int
    path: Path
    time: str
    channels: Mapping[str, str]
    zone: str
    decimal_comma: bool = False

    def do(self, session: Session) -> int:
        """Give the number of samples."""
        session.book.step(self.step)
        if not self.channels:
            raise KnownError(
                say("No column of the log was named."), say("Name each as  column=what it is, with its unit.")
            )
        table, channels = read_table(self.path), dict(self.channels)
        began, block = sensor_log(table, self.time, channels, self.zone, self.decimal_comma)
        session.logbook.add_sensor_log(self.step, session.wall(), self.path.name, began, block)
        session.reload(self.step)
        return len(block.times_s)


@dataclass(frozen=True, slots=True)
class LogsRead:
    """What logs of other programs brought: figures of frame times, and how many samples of sensors."""

    figures: tuple[AddedResult, ...]
    samples: int


def are_logs(paths: tuple[Path, ...]) -> bool:
    """Tell whether files are logs of frame times or sensors by their heads."""
    try:
        return bool(paths) and all(log_of(read_table(path), False) is not None for path in paths)
    except KnownError:
        return False


@dataclass(frozen=True)
class ImportLogs(_Added[LogsRead]):
    """Keep logs of frame times and of sensors with a step, as many as there are, each told by its head.

    All are looked at before anything is kept; raises KnownError for the first whose head doesn't tell what it is. Frame times
    are those of `benchmark`, or where that isn't told of one called like the file.
    """

    step: int
    paths: tuple[Path, ...]
    benchmark: str = ""
    zone: str = ""
    decimal_comma: bool = False
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> LogsRead:
        """Give what they brought."""
        session.book.step(self.step)
        figures, samples, comma = list[AddedResult](), 0, self.decimal_comma
        read = [(path, table, log_of(table, comma)) for path in self.paths for table in (read_table(path),)]
        ready: list[tuple[Path, ReadTable, FramesLog | SensorsLog, Any]] = []
        for path, table, log in read:
            if isinstance(log, FramesLog):
                ready.append((path, table, log, frame_times_ms(table, log.column, log.unit, False, comma)))
            else:
                ready.append((path, table, log, sensor_log(table, log.time, log.channels, self.zone, comma)))
        for path, table, log, made in ready:
            if isinstance(log, FramesLog):
                paced, dropped = pacing(made), dropped_share(table, log)
                parts = paced.parts() | ({DROPPED: 100.0 * dropped} if dropped is not None else {})
                told = MeasuredWith().measured(path.name).joined(Measured(parts=parts))
                name = self.benchmark or path.stem.replace("_", " ")
                workload = session.own.know_typed(name[:60], FRAMES_UNIT, Direction.HIGHER, 1)
                figures.append(_added(session, self.step, workload, paced.mean, told, made))
            else:
                began, block = made
                session.logbook.add_sensor_log(self.step, session.wall(), path.name, began, block)
                session.reload(self.step)
                samples += len(block.times_s)
        return LogsRead(tuple(figures), samples)


def _added(
    session: Session,
    number: int,
    workload: Workload,
    score: float,
    measured: Measured,
    frame_times: tuple[float, ...] = (),
) -> AddedResult:
    """Keep a figure at a step's settings; frame times are in ms."""
    session.logbook.add_result(number, workload.id, session.wall(), score, measured, frame_times)
    session.take_own_limits()
    session.reload(number)
    return session.book.step(number).added[-1]


def must_be_a_score(benchmark: str, score: float) -> None:
    """Raise KnownError for what can't be a figure of a benchmark."""
    if not math.isfinite(score) or score < 0:
        raise KnownError(
            say("{benchmark}: {score:g} is no score.", benchmark=benchmark, score=score),
            say("A figure is 0 or above it."),
        )


_MOST_DIGITS = 3


def digits_of(score: float) -> int:
    """Tell how many digits after the point a figure was given with, and is shown with."""
    return min(len(f"{score:.{_MOST_DIGITS}f}".rstrip("0").partition(".")[2]), _MOST_DIGITS)
