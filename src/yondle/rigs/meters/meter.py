"""Outside meters: what is set and what is drawn, as an instrument sees it and the machine's own sensors don't.

Two kinds. A *line* meter prints a number per line over a serial device, as any small board can be made to. A *SCPI* meter
is asked in the open standard of bench instruments (SCPI-1999, IEEE 488.2), over TCP or a serial device. Each is read in
a thread of its own, so that a slow or silent one never holds up the sampling; while nobody reads it none is
looked for, or asked.
"""

from __future__ import annotations

import math
import re
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import serial

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Subsystem
from yondle.model.sensors import METER, Channel, Quantity, Reading
from yondle.rigs.wanted import Wanted

STALE_AFTER_S = 3.0
"""A reading older than this is no reading."""

ANSWERS_WITHIN_S = 2.0
TRIES_AGAIN_AFTER_S = 2.0
LONGEST_LINE = 200
DEFAULT_BAUD = 115_200
DEFAULT_PORT = 5025
"""The port bench instruments listen on for SCPI over plain TCP (IANA: scpi-raw)."""

UNITS: dict[str, Quantity] = {
    "V": Quantity.VOLTAGE, "A": Quantity.OTHER, "W": Quantity.POWER, "°C": Quantity.TEMPERATURE,
    "dBA": Quantity.OTHER,
}  # fmt: skip
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")


@dataclass(frozen=True, slots=True)
class MeterPlan:
    """A meter as the tuner described it: where it is, what it measures, and how it is asked.

    `address` is a serial device, or host or host:port for a SCPI meter over TCP. `ask` is the SCPI query; without one the
    meter speaks by itself, a line a reading, and `field` says which number of the line counts, from 1. `follows` names the
    knob whose value it measures.
    """

    name: str
    address: str
    unit: str
    ask: str = ""
    field: int = 1
    factor: float = 1.0
    baud: int = DEFAULT_BAUD
    follows: str = ""

    def __post_init__(self) -> None:
        if self.unit not in UNITS:
            raise KnownError(
                say("A meter in '{unit}' isn't known.", unit=self.unit),
                say("Its unit is one of {units}.", units=", ".join(UNITS)),
            )
        if not self.name.strip() or len(self.name) > 40:
            raise KnownError(
                say("A meter has a name of 1 to 40 characters."), say("Name what it measures, such as 'wall power'.")
            )
        if self.ask and ("\n" in self.ask or not self.ask.isascii() or not self.ask.strip().endswith("?")):
            raise KnownError(
                say("'{ask}' is no SCPI query.", ask=self.ask), say("A query ends with '?', such as MEAS:VOLT:DC?")
            )
        if not self.ask and not self.serial:
            raise KnownError(say("A meter on the network is asked."), say("Give its SCPI query, such as MEAS:POW?"))
        if not 1 <= self.field <= 20 or not math.isfinite(self.factor) or self.factor == 0:
            raise KnownError(say("The field counts from 1 to 20, and the factor isn't 0."), say("Correct it."))

    @property
    def serial(self) -> bool:
        """Tell whether it is reached over a serial device rather than the network."""
        return self.address.startswith("/")

    def channel(self) -> Channel:
        """Give the channel its readings go to."""
        id_ = METER + re.sub(r"[^a-z0-9]+", "_", self.name.lower()).strip("_")
        about = say("outside meter at {address}", address=self.address)
        digits = 3 if self.unit == "V" else 1
        return Channel(id_, self.name, self.unit, UNITS[self.unit], Subsystem.WHOLE, digits, self.follows, about)


class Talk(Protocol):
    """An open line to a meter."""

    def line(self) -> bytes:
        """Give the next line it says; b'' when it says nothing in time."""

    def say(self, text: str) -> None:
        """Say a line to it."""

    def close(self) -> None:
        """Hang up."""


class _SerialTalk:
    def __init__(self, plan: MeterPlan) -> None:
        self._port = serial.Serial(plan.address, plan.baud, timeout=ANSWERS_WITHIN_S, write_timeout=ANSWERS_WITHIN_S)

    def line(self) -> bytes:
        said: bytes = self._port.read_until(b"\n", LONGEST_LINE)
        return said

    def say(self, text: str) -> None:
        self._port.write(text.encode("ascii") + b"\n")

    def close(self) -> None:
        self._port.close()


class _NetworkTalk:
    def __init__(self, plan: MeterPlan) -> None:
        host, _, port = plan.address.partition(":")
        self._socket = socket.create_connection((host, int(port or DEFAULT_PORT)), ANSWERS_WITHIN_S)
        self._file = self._socket.makefile("rb")

    def line(self) -> bytes:
        return self._file.readline(LONGEST_LINE)

    def say(self, text: str) -> None:
        self._socket.sendall(text.encode("ascii") + b"\n")

    def close(self) -> None:
        self._file.close()
        self._socket.close()


def open_talk(plan: MeterPlan) -> Talk:
    """Open the line to a meter; raises OSError."""
    return _SerialTalk(plan) if plan.serial else _NetworkTalk(plan)


def parse_line(line: bytes, field: int) -> float | None:
    """Read the number of a line; None where there is none, as in the half line at the start."""
    found = _NUMBER.findall(line.decode("ascii", "replace"))
    if len(found) < field:
        return None
    value = float(found[field - 1])
    return value if math.isfinite(value) and abs(value) < 9e37 else None


class Meter:
    """Reads one meter over and over; `read` gives the latest reading, None when it has fallen silent."""

    def __init__(
        self, plan: MeterPlan, interval_s: float = 0.1, open_: Callable[[MeterPlan], Talk] = open_talk
    ) -> None:
        self.plan = plan
        self.trouble = ""
        self._interval_s = interval_s
        self._open = open_
        self._latest: tuple[float, float] | None = None
        self._leaving, self._wanted = threading.Event(), Wanted()
        self._thread = threading.Thread(target=self._run, name=f"meter {plan.name}", daemon=True)
        self._thread.start()

    def read(self) -> Reading:
        """Give the latest reading."""
        self._wanted.ask()
        latest = self._latest
        if latest is None or time.monotonic() - latest[0] > STALE_AFTER_S:
            return None
        return latest[1]

    def close(self) -> None:
        """Hang up."""
        self._leaving.set()
        self._wanted.leave()
        self._thread.join()

    def _run(self) -> None:
        while not self._leaving.is_set():
            self._wanted.wait()
            if self._leaving.is_set():
                return
            try:
                talk = self._open(self.plan)
            except (OSError, ValueError) as error:
                self.trouble = str(error)
                self._leaving.wait(TRIES_AGAIN_AFTER_S)
                continue
            self.trouble = ""
            try:
                self._listen(talk)
            except (OSError, ValueError) as error:
                self.trouble = str(error)
                self._leaving.wait(TRIES_AGAIN_AFTER_S)
            finally:
                talk.close()

    def _listen(self, talk: Talk) -> None:
        if not self.plan.ask:
            talk.line()
        while not self._leaving.is_set():
            if self.plan.ask:
                self._wanted.wait()
                if self._leaving.is_set():
                    return
                talk.say(self.plan.ask)
            line = talk.line()
            if not line:
                raise TimeoutError(say("it says nothing"))
            if not line.endswith(b"\n"):
                continue
            value = parse_line(line, self.plan.field)
            if value is not None:
                self._latest = (time.monotonic(), value * self.plan.factor)
            if self.plan.ask:
                self._leaving.wait(self._interval_s)
