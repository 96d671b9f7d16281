"""The notebook's side of a line to a bench: asks, hears, and tells a line that is slow from one that is dead."""

from __future__ import annotations

import os
import select
import subprocess
import threading
import time
from collections import deque
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.sensors import Reading
from yondle.model.workloads import PassResult
from yondle.rigs.bench.protocol import (
    LONGEST_ANSWER,
    Lines,
    NotUnderstoodError,
    line,
    message,
    result_of,
    row_of,
    time_of,
    words,
)

BEATS_S = 2.0
SILENT_S = 8.0
"""A bench that says nothing for so long while it is to send samples or is asked has gone, or its line has."""
SILENT_AT_REST_S = 20.0
ANSWERS_WITHIN_S, SETS_WITHIN_S, ENDS_WITHIN_S = 15.0, 60.0, 40.0
"""How long an answer is waited for: of what only reads, of what sets or starts, of putting everything back."""
MOST_WAITING, UNCLAIMED = 2000, 40
"""Rows that wait to be taken at most, and after how many that nobody takes no more are sent."""
_LONGEST_SAID = 1 << 13


class LineDeadError(Exception):
    """The line has ended, or nothing is heard over it; `line` says how."""


@dataclass(frozen=True, slots=True)
class Row:
    """Samples as they were taken, at a time of the bench's clock."""

    t: float
    slept_s: float
    values: tuple[Reading, ...]


@dataclass(frozen=True, slots=True)
class Over:
    """A pass that is over."""

    number: int
    result: PassResult


class Line:
    """A talk with one agent, from its start to its end. `ask` and `take` are one thread's, the owner's."""

    def __init__(self, command: Sequence[str]) -> None:
        """Start what reaches the agent; raises KnownError where that program isn't there."""
        self._heard = time.monotonic()
        self._lock, self._answered = threading.Lock(), threading.Condition()
        self._answers: dict[int, dict[str, Any]] = {}
        self._queue: deque[Row | Over] = deque(maxlen=MOST_WAITING)
        self._number = self._waits = self.heard_bytes = 0
        self.channels = 0
        self.streams = False
        self.told_last: dict[str, Any] = {}
        self.broken = self.gone = ""
        self._ended = threading.Event()
        self._said = b""
        try:
            self._process = subprocess.Popen(
                list(command),
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                start_new_session=True,
            )
        except OSError as error:
            raise KnownError(
                say("{program} can't be started ({error}).", program=command[0], error=error.strerror or error),
                say("Install it: it reaches the bench."),
            ) from error
        self._threads = [threading.Thread(target=each, daemon=True) for each in (self._hear, self._beat)]
        for each in self._threads:
            each.start()

    # -- how it stands ---------------------------------------------------------------------------------------------------

    @property
    def silent_s(self) -> float:
        """Seconds since anything was heard."""
        return time.monotonic() - self._heard

    @property
    def alive(self) -> bool:
        """Tell whether it is there, and heard."""
        at_most = SILENT_S if self.streams or self._waits else SILENT_AT_REST_S
        return not self._ended.is_set() and self.silent_s <= at_most

    @property
    def pid(self) -> int:
        """The process that reaches the agent."""
        return self._process.pid

    @property
    def code(self) -> int | None:
        """What reached the agent ended with; None while it runs."""
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(0.5 if self._ended.is_set() else 0.0)
        return self._process.poll()

    @property
    def said(self) -> str:
        """What it wrote that was no answer: why ssh can't, or a fault there."""
        return words(self._said[-_LONGEST_SAID:].decode("utf-8", "replace").replace("\r", ""))

    # -- asking ------------------------------------------------------------------------------------------------------------

    def ask(self, do: str, within_s: float | None = None, **more: object) -> dict[str, Any]:
        """Ask, and give the answer; raises KnownError with the bench's reason, LineDeadError where none comes."""
        self._number += 1
        number = self._number
        self._waits += 1
        try:
            self._say({"n": number, "do": do, **more})
            until = time.monotonic() + (within_s or ANSWERS_WITHIN_S)
            with self._answered:
                while number not in self._answers:
                    left = until - time.monotonic()
                    if left <= 0.0 or self._ended.is_set():
                        raise LineDeadError
                    self._answered.wait(min(left, 0.5))
                answer = self._answers.pop(number)
        finally:
            self._waits -= 1
        if answer.get("ok") is not True:
            raise KnownError(
                words(answer.get("why")) or say("The bench gave no reason."),
                words(answer.get("remedy")) or say("Try again, or look at the bench."),
            )
        return answer

    def stream(self, every_s: float) -> None:
        """Have samples sent from now on; what was sent before is forgotten."""
        self._queue.clear()
        self.ask("stream", every_s=every_s)
        self.streams = True

    def take(self, within_s: float) -> Row | Over | None:
        """Take what was heard next; None where nothing came in time. Raises LineDeadError."""
        until = time.monotonic() + within_s
        with self._answered:
            while not self._queue:
                left = until - time.monotonic()
                if not self.alive:
                    raise LineDeadError
                if left <= 0.0:
                    return None
                self._answered.wait(min(left, 0.5))
            return self._queue.popleft()

    def close(self) -> list[Any]:
        """Have the agent put everything back and end; gives what it put back as it told, nothing where it didn't."""
        if not self._ended.is_set():
            self._number += 1
            with suppress(LineDeadError):
                self._say({"n": self._number, "do": "leave"})
            self._ended.wait(ENDS_WITHIN_S if self.alive else 0.0)
        self.drop()
        changes = self.told_last.get("changes")
        return changes if isinstance(changes, list) and len(changes) <= MOST_WAITING else []

    def give_up(self, why: str) -> None:
        """Take it for broken, and hear no more."""
        self.broken = self.broken or why
        self._ended.set()
        self._process.terminate()

    def drop(self) -> None:
        """Let go of the line as it is."""
        if self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(3.0)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
        self._ended.set()
        with self._answered:
            self._answered.notify_all()
        for each in self._threads:
            each.join(5.0)
        for pipe in (self._process.stdin, self._process.stdout, self._process.stderr):
            if pipe is not None:
                with suppress(OSError):
                    pipe.close()

    def _say(self, told: Mapping[str, Any]) -> None:
        """Send a line; the pipe takes far more than is ever said at once, so that it never waits long."""
        pipe = self._process.stdin
        assert pipe is not None
        try:
            with self._lock:
                _, ready, _ = select.select([], [pipe], [], SILENT_S)
                if not ready:
                    raise LineDeadError
                os.write(pipe.fileno(), line(told))
        except (OSError, ValueError) as error:
            raise LineDeadError from error

    # -- hearing -----------------------------------------------------------------------------------------------------------

    def _beat(self) -> None:
        """Let the agent know that somebody is there: while rows come often, at rest seldom."""
        while not self._ended.wait(BEATS_S if self.streams else 3 * BEATS_S):
            with suppress(LineDeadError):
                self._say({"do": "beat"})
            if self.streams and len(self._queue) > UNCLAIMED:
                self.streams = False
                with suppress(LineDeadError):
                    self._say({"n": 0, "do": "stream", "every_s": 0})

    def _hear(self) -> None:
        out, told = self._process.stdout, self._process.stderr
        assert out is not None
        assert told is not None
        lines, open_ = Lines(LONGEST_ANSWER), [out.fileno(), told.fileno()]
        try:
            while open_:
                for ready in select.select(open_, [], [])[0]:
                    piece = os.read(ready, 1 << 16)
                    if not piece:
                        open_.remove(ready)
                    elif ready == told.fileno():
                        self._said = (self._said + piece)[-_LONGEST_SAID:]
                    else:
                        self._heard = time.monotonic()
                        self.heard_bytes += len(piece)
                        for each in lines.take(piece):
                            self._take(message(each))
                if out.fileno() not in open_:
                    break
        except (OSError, ValueError):
            pass
        except NotUnderstoodError as error:
            self.broken = str(error)
            self._process.terminate()
        finally:
            if told.fileno() in open_ and not self.broken:
                with suppress(OSError, ValueError):
                    while select.select([told], [], [], 1.0)[0] and (piece := os.read(told.fileno(), 1 << 12)):
                        self._said = (self._said + piece)[-_LONGEST_SAID:]
            self._ended.set()
            with self._answered:
                self._answered.notify_all()

    def _take(self, told: dict[str, Any]) -> None:
        """Put a message where it belongs; answers to nothing that was asked are dropped."""
        number, kind = told.get("n"), told.get("is")
        with self._answered:
            if type(number) is int:
                if self._waits and number == self._number:
                    self._answers[number] = told
                    self._answered.notify_all()
            elif kind == "row":
                self._queue.append(
                    Row(time_of(told.get("t")), time_of(told.get("slept")), row_of(told.get("row"), self.channels))
                )
                self._answered.notify_all()
            elif kind == "over":
                number = told.get("pass")
                self._queue.append(Over(number if type(number) is int else 0, result_of(told.get("result"))))
                self._answered.notify_all()
            elif kind == "beat":
                self.gone = words(told.get("gone"))
            elif kind == "left":
                self.told_last = told
