"""Results that were measured elsewhere: typed in after a game, or read from another program's table."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

from yondle.app.session.session import Session
from yondle.language.saying import DECIMAL_MARK, say
from yondle.model.errors import KnownError
from yondle.model.pacing import pacing
from yondle.model.steps import AddedResult
from yondle.model.workloads import PART, Direction
from yondle.workloads.commands import number
from yondle.workloads.imported import frame_times_ms, read_table, scores, sensor_log

LONGEST_WORDS = 200
FRAMES_UNIT = "frames/s"


@dataclass(frozen=True, slots=True)
class MeasuredWith:
    """What is told with a result: the settings and the passage it was measured with, a note, and its sub-scores."""

    preset: str = ""
    passage: str = ""
    note: str = ""
    parts: tuple[tuple[str, float], ...] = ()

    def facts(self, source: str) -> dict[str, str | float]:
        """Give these as the facts kept with a result; raises KnownError for words that are too long."""
        words = {"preset": self.preset, "passage": self.passage, "note": self.note, "source": source}
        if any(len(text) > LONGEST_WORDS for text in words.values()):
            raise KnownError(
                say("Preset, passage and note have at most {longest_words} characters.", longest_words=LONGEST_WORDS),
                say("Shorten them."),
            )
        return {**{k: v.strip() for k, v in words.items() if v.strip()}, **{PART + k: v for k, v in self.parts}}


def columns_of(path: Path) -> tuple[str, ...]:
    """Name the columns of a table; raises KnownError for what is none."""
    return read_table(path).columns


def figure(text: str) -> float:
    """Read a figure as it was typed, with a point or the language's decimal mark; raises KnownError for what is no number."""
    try:
        return number(text.replace(DECIMAL_MARK, "."))
    except ValueError:
        raise KnownError(
            say("'{words}' is no figure.", words=text), say("Type it as a number with a point, such as 61.5.")
        ) from None


def type_in(
    session: Session, step: int, benchmark: str, score: float, unit: str, direction: Direction, told: MeasuredWith
) -> AddedResult:
    """Keep a figure that was read off a screen; raises KnownError for one that can't be a score."""
    _must_be_a_score(benchmark, score)
    session.step(step)
    workload = session.own.know_typed(benchmark, unit, direction, _digits(score))
    return session.add_result(step, workload, score, told.facts("typed in"))


def import_scores(
    session: Session, step: int, path: Path, columns: tuple[str, str], unit: str, direction: Direction,
    told: MeasuredWith, decimal_comma: bool = False, left: tuple[str, ...] = (),
) -> list[AddedResult]:  # fmt: skip
    """Keep the figures of a table of scores; `columns` name that of the benchmarks and that of the figures.

    All of it is read before anything is kept. Raises KnownError, also where there are other columns than those and the ones
    `left` out knowingly: they may tell settings apart, whose figures must not stand at one step.
    """
    session.step(step)
    table = read_table(path)
    found = scores(table, *columns, decimal_comma)
    others = table.others((*columns, *left))
    if others:
        raise KnownError(
            say("{source} has more columns: {others}.", source=table.source, others=", ".join(others)),
            say(
                "Figures of several settings must not stand at one step: leave out what doesn't tell settings apart, "
                "by --leave COLUMN, or by a tick in the window."
            ),
        )
    for score in found:
        _must_be_a_score(score.benchmark, score.value)
    facts = told.facts(path.name)
    known = [session.own.know_typed(s.benchmark, unit, direction, _digits(s.value)) for s in found]
    return [session.add_result(step, w, s.value, facts) for w, s in zip(known, found, strict=True)]


def import_frames(
    session: Session, step: int, path: Path, benchmark: str, column: str, unit: str, told: MeasuredWith,
    stamps: bool = False, decimal_comma: bool = False,
) -> AddedResult:  # fmt: skip
    """Keep a series of frame times as one result: its mean rate, with the lows and late frames as sub-scores."""
    session.step(step)
    times = frame_times_ms(read_table(path), column, unit, stamps, decimal_comma)
    paced = pacing(times)
    facts = {**told.facts(path.name), **{PART + k: v for k, v in paced.parts().items()}}
    workload = session.own.know_typed(benchmark, FRAMES_UNIT, Direction.HIGHER, 1)
    return session.add_result(step, workload, paced.mean, facts, times)


def import_sensors(
    session: Session, step: int, path: Path, time: str, channels: dict[str, str], zone: str, decimal_comma: bool = False
) -> int:
    """Keep another program's log of sensors with a step; gives the number of samples."""
    session.step(step)
    if not channels:
        raise KnownError(say("No column of the log was named."), say("Name each as  column=what it is, with its unit."))
    began, block = sensor_log(read_table(path), time, channels, zone, decimal_comma)
    at = session.machine.clock.wall().isoformat(timespec="seconds")
    session.logbook.add_sensor_log(step, at, path.name, began, block)
    return len(block.times_s)


def _must_be_a_score(benchmark: str, score: float) -> None:
    if not math.isfinite(score) or score < 0:
        raise KnownError(
            say("{benchmark}: {score:g} is no score.", benchmark=benchmark, score=score),
            say("A figure is 0 or above it."),
        )


_MOST_DIGITS = 3


def _digits(score: float) -> int:
    """How many digits after the point a figure was given with, and is shown with."""
    return min(len(f"{score:.{_MOST_DIGITS}f}".rstrip("0").partition(".")[2]), _MOST_DIGITS)
