"""A sensor of the tuner's own: a file read when it is asked, or a command that answers in a thread of its own.

A command runs only while somebody reads: at rest nothing is started.
"""

from __future__ import annotations

import os
import re
import signal
import subprocess
import threading
import time
from contextlib import suppress

from yondle.model.errors import KnownError
from yondle.model.sensors import Channel, Reading, quantity_in
from yondle.rigs.own.asking import LARGEST_ANSWER, answer_of, number_in, text_of
from yondle.rigs.own.own_file import SensorEntry
from yondle.rigs.wanted import Wanted

OWN = "own_"
"""What the id of a channel begins with that is the tuner's own."""
LEAST_STALE_S = 2.0
TRIES_AGAIN_S = 2.0


class OwnSensor:
    """One sensor of the tuner's own; `trouble` says why it gave no reading when it was asked last."""

    def __init__(self, id_: str, entry: SensorEntry, pattern: re.Pattern[str]) -> None:
        self._entry, self._pattern = entry, pattern
        self.trouble = ""
        quantity = quantity_in(entry.unit)
        self.channel = Channel(
            OWN + id_, entry.name, entry.unit, quantity, entry.works, entry.digits, about=entry.about
        )
        self._latest: tuple[float, float] | None = None
        self._leaving, self._wanted = threading.Event(), Wanted()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread: threading.Thread | None = None
        if entry.command:
            work = self._listen if entry.goes_on else self._ask
            self._thread = threading.Thread(target=work, name=f"sensor {id_}", daemon=True)
            self._thread.start()

    @property
    def source(self) -> str:
        """Where its readings come from, for people."""
        return self._entry.file or " ".join(self._entry.command)

    def read(self) -> Reading:
        """Give the latest reading; None where there is none, or it is stale."""
        if self._entry.file:
            try:
                return self._told(text_of(self._entry.file))
            except KnownError as error:
                self.trouble = error.problem
                return None
        self._wanted.ask()
        latest, stale_s = self._latest, max(LEAST_STALE_S, 2.5 * self._entry.every_s)
        return latest[1] if latest is not None and time.monotonic() - latest[0] <= stale_s else None

    def close(self) -> None:
        """End what it runs."""
        self._leaving.set()
        self._wanted.leave()
        self._end()
        if self._thread is not None:
            self._thread.join()

    def _told(self, text: str) -> float:
        value = number_in(text, self._pattern, self._entry.scale)
        self.trouble = ""
        return value

    def _ask(self) -> None:
        while not self._leaving.is_set():
            self._wanted.wait()
            if self._leaving.is_set():
                return
            began = time.monotonic()
            try:
                value = self._told(answer_of(self._entry.command, self._entry.at_most_s))
                self._latest = time.monotonic(), value
            except KnownError as error:
                self.trouble = error.problem
            self._leaving.wait(max(0.0, self._entry.every_s - (time.monotonic() - began)))

    def _listen(self) -> None:
        """Hear a command that goes on; one that ends is begun again after a while, and none goes on for nobody."""
        while not self._leaving.is_set():
            self._wanted.wait()
            if self._leaving.is_set():
                return
            try:
                process = self._process = subprocess.Popen(
                    self._entry.command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                    start_new_session=True, env={**os.environ, "LC_ALL": "C"},
                )  # fmt: skip
            except (OSError, ValueError) as error:
                self.trouble = str(error)
            else:
                self._hear(process)
                self._end()
            if self._wanted.lately:
                self._leaving.wait(TRIES_AGAIN_S)

    def _hear(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stdout is not None
        with process.stdout as lines:
            while self._wanted.lately and (line := lines.readline(LARGEST_ANSWER)):
                try:
                    self._latest = time.monotonic(), self._told(line.decode("utf-8", "replace"))
                except KnownError as error:
                    self.trouble = error.problem

    def _end(self) -> None:
        process = self._process
        if process is not None:
            with suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
