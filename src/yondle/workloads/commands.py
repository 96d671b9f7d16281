"""A workload of the user's own: any command with a number in what it prints."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from yondle.language.saying import say
from yondle.model.measured import Measured
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult, Workload
from yondle.workloads.children import Child, is_stopped, living_in_group, waited_s

LONGEST_OUTPUT = 4 << 20
SCORE = "score"


@dataclass(frozen=True, slots=True)
class OwnCommand:
    """A command as its file describes it (docs/workload-file.md).

    `patterns` finds the score under '' and each sub-score under its name; the first group of the last match counts.
    """

    workload: Workload
    command: tuple[str, ...]
    patterns: dict[str, re.Pattern[str]] = field(default_factory=dict)
    folder: str = ""
    at_most_s: float = 600.0
    decimal_comma: bool = False


class CommandRun:
    """The command on its way: it has no heartbeat, so that only its time-out and its exit tell that it failed."""

    def __init__(self, own: OwnCommand, now: Callable[[], float], over: Callable[[], None] = lambda: None) -> None:
        self._own = own
        self._now = now
        self._over = over
        self._began = now()
        self._ended: float | None = None
        self._said = bytearray()
        self._child = Child(list(own.command), self._hear, self._end, Path(own.folder) if own.folder else None)
        self._child.listen()
        self._child.close_input()

    @property
    def pid(self) -> int:
        """The process number."""
        return self._child.pid

    @property
    def alive(self) -> bool:
        """Tell whether it still runs."""
        return self._child.alive

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""
        if self._ended is None:
            if self._now() - self._began <= self._own.at_most_s:
                return None
            return self._failed(
                self._late(), say("it had not ended after {at_most_s:.0f} s", at_most_s=self._own.at_most_s)
            )
        if self._child.exit_code:
            return self._failed(self._child.failed_as, self._child.ended_how())
        return self._read()

    def stop(self) -> None:
        """End it now, with all it has started."""
        self._child.end(asks=False)

    def _late(self) -> Failure:
        """Tell what a command that takes too long has failed of: somebody may have stopped it, or left it no processor."""
        pids = living_in_group(self.pid) or [self.pid]
        if any(is_stopped(pid) for pid in pids):
            return Failure.INTERRUPTED
        starved = sum(waited_s(pid) for pid in pids) > self._own.at_most_s / 2
        return Failure.NOT_RUN if starved else Failure.PROGRAM_HUNG

    def _hear(self, line: bytes) -> None:
        room = LONGEST_OUTPUT - len(self._said)
        self._said += line[: max(0, room)]

    def _end(self) -> None:
        self._ended = self._now()
        self._over()

    def _read(self) -> PassResult:
        text = self._said.decode("utf-8", "replace")
        found: dict[str, float] = {}
        for name, pattern in self._own.patterns.items():
            value = self._number(pattern, text)
            if value is None:
                what = say("the sub-score '{name}'", name=name) if name else say("a score")
                return self._failed(
                    Failure.NOT_RUN,
                    say("what it printed has no number for {what} ({pattern})", what=what, pattern=pattern.pattern),
                )
            found[name] = value
        score = found.pop("", None)
        return PassResult(True, score, self._seconds(), measured=Measured(parts=found))

    def _number(self, pattern: re.Pattern[str], text: str) -> float | None:
        matches = list(pattern.finditer(text))
        if not matches:
            return None
        try:
            return number(matches[-1].group(1), self._own.decimal_comma)
        except ValueError:
            return None

    def _seconds(self) -> float:
        return (self._ended if self._ended is not None else self._now()) - self._began

    def _failed(self, failure: Failure, detail: str) -> PassResult:
        return PassResult(False, None, self._seconds(), failure.value, detail)


def number(text: str, decimal_comma: bool = False) -> float:
    """Read a number as people print it, with spaces, apostrophes or commas (points) between thousands.

    Raises ValueError for what is no finite number, and for one that could be read in two ways, as 1,030 could.
    """
    bare = re.sub(r"[\s'’\u00a0\u202f]", "", text)
    point, between = (",", ".") if decimal_comma else (".", ",")
    if between in bare:
        groups = rf"[-+]?\d{{1,3}}(?:{re.escape(between)}\d{{3}})+"
        sure = rf"(?:{groups}{re.escape(point)}\d+|[-+]?\d{{1,3}}(?:{re.escape(between)}\d{{3}}){{2,}})"
        if not re.fullmatch(sure, bare):
            raise ValueError(say("'{words}' could be read in two ways", words=text))
        bare = bare.replace(between, "")
    value = float(bare.replace(point, "."))
    if not math.isfinite(value):
        raise ValueError(say("'{words}' is no finite number", words=text))
    return value
