"""The bench's side: does what a notebook asks over two open files, streams samples, and puts everything back at the end.

One thread, so that a bench under test isn't disturbed: it sleeps until there is a line to read or a sample to take. It opens no
port, takes knob names and numbers and never a path, and ends when its line does.
"""

from __future__ import annotations

import os
import select
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, Protocol

from yondle.language.saying import kept, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Setup
from yondle.model.rigs import KnobReply, RigDeclaration
from yondle.model.sensors import Reading
from yondle.model.workloads import PassResult
from yondle.rigs.bench.protocol import (
    FORMAT,
    LONGEST_REQUEST,
    MOST_KNOBS,
    Lines,
    NotUnderstoodError,
    line,
    message,
    numbers_of,
    plain,
    result_told,
    row_line,
)

SILENT_S = 20.0
"""A notebook that says nothing for so long is gone: what it set is put back."""
BEATS_S, BEATS_AT_REST_S = 1.0, 5.0
EARLY_S = 0.0005
"""A wait may end this much too early, and would begin again for nothing."""
MOST_UNSENT, MOST_ROWS_UNSENT = 1 << 22, 1 << 18
"""Bytes that may wait for a slow line; beyond the second no more samples are added."""
LONGEST_PASS_S = 86400.0


class Run(Protocol):
    """A pass under way."""

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""

    def stop(self) -> None:
        """End it now."""


class BenchMachine(Protocol):
    """What the agent works with: the machine it runs on."""

    @property
    def declaration(self) -> RigDeclaration:
        """What it has."""

    @property
    def missing(self) -> str:
        """Why what only root may set isn't offered; nothing where it is."""

    def boot_id(self) -> str:
        """Name the present boot."""

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """Describe what was kept of a crash."""

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask for knob values."""

    def read_back(self) -> Setup:
        """Read the values in force."""

    def gone_back(self) -> str:
        """Say why values may have gone back."""

    def sample(self) -> tuple[Reading, ...]:
        """Read all channels."""

    def start(self, workload: str, seconds: float, setup: Setup) -> Run:
        """Start a pass."""

    def facts(self) -> dict[str, str | float]:
        """Give the conditions."""

    def guarded(self, guarded: bool) -> None:
        """Have a watchdog restart it where it freezes, or not; raises KnownError where there is none."""

    def close(self) -> tuple[Change, ...]:
        """Put everything back."""


Machines = Callable[[Mapping[str, Any]], BenchMachine]
"""Makes the machine ready for what a notebook begins with."""


class Agent:
    """Serves one notebook until it leaves."""

    def __init__(
        self,
        machines: Machines,
        reads: int,
        writes: int,
        taken: Callable[[str], Mapping[str, Any]] = lambda session: {},
        clock: Callable[[], float] = lambda: time.clock_gettime(time.CLOCK_BOOTTIME),
    ) -> None:
        """`taken` is told the name of the session that begins, and gives what goes with the answer."""
        self._machines, self._reads, self._writes = machines, reads, writes
        self._taken, self._clock = taken, clock
        self._lines = Lines(LONGEST_REQUEST)
        self._unsent = bytearray()
        self._machine: BenchMachine | None = None
        self._run: Run | None = None
        self._pass = 0
        self._every_s = 0.0
        self._next_row = 0.0
        now = clock()
        self._heard = self._beat = self._sent = now
        self._leaves = ""
        self._news, self._rings = os.pipe()
        for each in (reads, writes, self._news, self._rings):
            os.set_blocking(each, False)

    def wake(self) -> None:
        """Have it look after the pass now, from any thread."""
        with suppress(OSError):
            os.write(self._rings, b".")

    def leave(self, why: str) -> None:
        """Have it put everything back and end, from a signal."""
        self._leaves = self._leaves or why
        self.wake()

    def serve(self) -> str:
        """Serve until the line ends, or nothing is heard; gives why, once everything is put back."""
        try:
            while not self._leaves:
                self._wait()
                now = self._clock()
                if not self._leaves:
                    self._look_after(now)
                self._send()
        finally:
            changes = self.let_go()
        self._tell({"is": "left", "why": self._leaves, "changes": changes})
        os.set_blocking(self._writes, True)
        self._send()
        return self._leaves

    def _wait(self) -> None:
        """Sleep until there is something to do."""
        now = self._clock()
        until = min(self._beat + self._beats_s, self._heard + SILENT_S)
        if self._every_s:
            until = min(until, self._next_row)
        writes = [self._writes] if self._unsent else []
        ready, _, _ = select.select([self._reads, self._news], writes, [], max(0.0, until - now + EARLY_S))
        if self._news in ready:
            os.read(self._news, 4096)
        if self._reads in ready:
            self._hear()

    def _hear(self) -> None:
        try:
            piece = os.read(self._reads, LONGEST_REQUEST)
        except BlockingIOError:
            return
        except OSError as error:
            self._leaves = f"the line broke ({error.strerror})"
            return
        if not piece:
            self._leaves = "the line ended"
            return
        self._heard = self._clock()
        try:
            for each in self._lines.take(piece):
                self.answer(each)
        except NotUnderstoodError as error:
            self._leaves = f"what was asked isn't understood: {error}"

    def _look_after(self, now: float) -> None:
        if now - self._heard >= SILENT_S:
            self._leaves = f"nothing was heard for {SILENT_S:g} s"
            return
        machine = self._machine
        if machine is not None and self._every_s and now >= self._next_row:
            self._next_row = max(self._next_row + self._every_s, now + self._every_s / 2)
            if len(self._unsent) < MOST_ROWS_UNSENT:
                self._add(row_line(self._clock(), self._slept(), machine.sample()))
        if self._run is not None:
            result = self._run.poll()
            if result is not None:
                self._tell({"is": "over", "pass": self._pass, "result": result_told(result)})
                self._end_pass()
        if now - self._beat >= self._beats_s:
            self._beat = now
            gone = self._machine.gone_back() if self._machine is not None else ""
            self._tell({"is": "beat", "t": self._time(), **({"gone": kept(gone)} if gone else {})})

    @property
    def _beats_s(self) -> float:
        return BEATS_S if self._every_s or self._run is not None else BEATS_AT_REST_S

    def answer(self, told: bytes) -> None:
        """Answer a line; raises NotUnderstoodError for one that is no request at all."""
        asked = message(told)
        do, number = asked.get("do"), asked.get("n")
        if do == "beat":
            return
        if type(number) is not int:
            raise NotUnderstoodError("a request has no number")
        answer: dict[str, Any] = {"n": number}
        try:
            answer |= {"ok": True, **self._do(str(do), asked)}
        except KnownError as error:
            answer |= {"ok": False, "why": kept(error.problem), "remedy": kept(error.remedy)}
        except NotUnderstoodError as error:
            answer |= {"ok": False, "why": str(error), "remedy": ""}
        self._tell(answer)

    def _do(self, do: str, asked: Mapping[str, Any]) -> dict[str, Any]:
        if do == "begin":
            return self._begin(asked)
        if do == "leave":
            self._leaves = "the notebook left"
            return {}
        machine = self._machine
        if machine is None:
            raise NotUnderstoodError("nothing has begun")
        match do:
            case "apply":
                return {"replies": plain_replies(machine.apply(numbers_of(asked.get("values"), MOST_KNOBS)))}
            case "read":
                return {"values": dict(machine.read_back())}
            case "facts":
                return {"facts": plain(machine.facts())}
            case "signs":
                ago_s = numbers_of({"s": asked.get("ago_s")})["s"]
                return {"signs": list(machine.crash_signs(time.time() - ago_s))}
            case "clock":
                return {"t": self._time(), "wall": time.time(), "slept": self._slept()}
            case "stream":
                return self._stream(numbers_of({"s": asked.get("every_s")})["s"])
            case "start":
                return self._start(machine, asked)
            case "stop":
                self._end_pass()
                return {}
            case "guard":
                machine.guarded(asked.get("on") is True)
                return {}
            case _:
                raise NotUnderstoodError("nobody can do that here")

    def _begin(self, asked: Mapping[str, Any]) -> dict[str, Any]:
        if self._machine is not None:
            raise NotUnderstoodError("it has begun")
        if asked.get("format") != FORMAT:
            raise KnownError(
                say("The Yondle on the bench speaks '{format}', another protocol than this one.", format=FORMAT),
                say("Install the same version there as here."),
            )
        session = asked.get("session")
        if not isinstance(session, str) or not session.isalnum() or len(session) > 64:
            raise NotUnderstoodError("a session has no name")
        about = self._taken(session)
        machine = self._machine = self._machines(asked)
        return {
            "format": FORMAT, "boot": machine.boot_id(), "declaration": plain(machine.declaration), "wall": time.time(),
            "t": self._time(), "slept": self._slept(), "missing": kept(machine.missing), **about,
        }  # fmt: skip

    def _stream(self, every_s: float) -> dict[str, Any]:
        if every_s and not 0.02 <= every_s <= 10.0:
            raise NotUnderstoodError("samples come every 0.02 to 10 s")
        self._every_s, self._next_row = every_s, self._clock()
        return {}

    def _start(self, machine: BenchMachine, asked: Mapping[str, Any]) -> dict[str, Any]:
        if self._run is not None:
            raise NotUnderstoodError("a pass is under way")
        seconds = numbers_of({"s": asked.get("seconds")})["s"]
        if not 0.0 < seconds <= LONGEST_PASS_S:
            raise NotUnderstoodError("a pass lasts up to a day")
        workload = asked.get("workload")
        known = {each.id for each in machine.declaration.workloads if not each.by_hand}
        if not isinstance(workload, str) or workload not in known:
            raise NotUnderstoodError("there is no such workload here")
        self._run = machine.start(workload, seconds, machine.read_back())
        self._pass += 1
        return {"pass": self._pass}

    def _end_pass(self) -> None:
        run, self._run = self._run, None
        if run is not None:
            run.stop()

    def let_go(self) -> list[dict[str, Any]]:
        """End the pass, and have everything put back; gives what was."""
        self._end_pass()
        machine, self._machine = self._machine, None
        for each in (self._news, self._rings):
            os.close(each)
        self._rings = -1
        return [plain(change) for change in machine.close()] if machine is not None else []

    def _time(self) -> float:
        return round(self._clock(), 4)

    def _slept(self) -> float:
        return round(time.clock_gettime(time.CLOCK_BOOTTIME) - time.clock_gettime(time.CLOCK_MONOTONIC), 3)

    def _tell(self, told: Mapping[str, Any]) -> None:
        self._add(line(told))

    def _add(self, told: bytes) -> None:
        if not self._unsent:
            self._sent = self._clock()
        self._unsent += told

    def _send(self) -> None:
        """Send what the line takes; one that takes nothing for too long is dead."""
        while self._unsent:
            try:
                sent = os.write(self._writes, self._unsent[: 1 << 16])
            except BlockingIOError:
                break
            except OSError as error:
                self._leaves = self._leaves or f"the line broke ({error.strerror})"
                self._unsent.clear()
                return
            del self._unsent[:sent]
            self._sent = self._clock()
        if len(self._unsent) > MOST_UNSENT or (self._unsent and self._clock() - self._sent > SILENT_S):
            self._leaves = self._leaves or "the line takes nothing any more"
            self._unsent.clear()


def plain_replies(replies: tuple[KnobReply, ...]) -> list[dict[str, Any]]:
    """Tell how values were answered, with words that can be said again in another language."""
    return [{**plain(each), "message": kept(each.message)} for each in replies]
