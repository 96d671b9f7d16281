"""Outside meters through their stand-ins: a pseudo-terminal that prints lines, and a SCPI instrument on the loopback."""

from __future__ import annotations

import os
import pty
import socket
import threading
import time
import tty
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest

from yondle.model.errors import KnownError
from yondle.rigs.meters.meter import Meter, MeterPlan, parse_line
from yondle.rigs.wanted import Wanted


def until(ready: Callable[[], bool]) -> None:
    limit = time.monotonic() + 10
    while not ready():
        assert time.monotonic() < limit
        time.sleep(0.01)


@contextmanager
def reading(plan: MeterPlan) -> Iterator[Meter]:
    meter = Meter(plan, interval_s=0.01)
    try:
        yield meter
    finally:
        meter.close()


@pytest.fixture
def serial_line() -> Iterator[tuple[int, str]]:
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    yield ours, os.ttyname(theirs)
    os.close(ours)
    os.close(theirs)


def says(line: int, words: bytes) -> bool:
    """Say a line as a board does, over and over."""
    os.write(line, words)
    return True


class Instrument:
    """A bench instrument on the loopback: answers each query from its table."""

    def __init__(self, answers: dict[str, str]) -> None:
        self.answers = answers
        self.asked: list[str] = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._thread = threading.Thread(target=self._serve)
        self._thread.start()

    def _serve(self) -> None:
        while True:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            with client, client.makefile("rb") as lines:
                for line in lines:
                    self.asked.append(line.decode().strip())
                    client.sendall((self.answers[self.asked[-1]] + "\n").encode())

    def close(self) -> None:
        self._server.shutdown(socket.SHUT_RDWR)
        self._server.close()
        self._thread.join()


def test_a_line_meter_gives_the_number_of_its_latest_line(serial_line: tuple[int, str]) -> None:
    ours, name = serial_line
    with reading(MeterPlan("wall power", name, "W", field=2)) as meter:
        until(lambda: says(ours, b"U=230.1 P=64.5\n") and meter.read() == 64.5)
        until(lambda: says(ours, b"U=230.0 P=71\nno number here\n") and meter.read() == 71.0)


def test_a_scpi_meter_is_asked_over_the_network_and_scaled(monkeypatch: pytest.MonkeyPatch) -> None:
    instrument = Instrument({"MEAS:VOLT:DC?": "+1.2345E+00"})
    try:
        plan = MeterPlan("core voltage", f"127.0.0.1:{instrument.port}", "V", ask="MEAS:VOLT:DC?", factor=2.0)
        with reading(plan) as meter:
            until(lambda: meter.read() is not None)
            assert meter.read() == pytest.approx(2.469)
            assert set(instrument.asked) == {"MEAS:VOLT:DC?"}
            monkeypatch.setattr("yondle.rigs.meters.meter.STALE_AFTER_S", -1.0)
            assert meter.read() is None, "a reading that is too old is none"
    finally:
        instrument.close()


def test_a_scpi_meter_is_asked_over_a_serial_line_too(serial_line: tuple[int, str]) -> None:
    ours, name = serial_line
    with reading(MeterPlan("rail", name, "V", ask="MEAS:VOLT?")) as meter:
        assert meter.read() is None, "and from now on it is asked"
        until(lambda: os.read(ours, 100).endswith(b"MEAS:VOLT?\n") and says(ours, b"1.05\n") and meter.read() == 1.05)


def test_a_meter_that_nobody_reads_is_not_asked(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Wanted.__init__, "__defaults__", (0.2,))
    instrument = Instrument({"MEAS:POW?": "64"})
    try:
        with reading(MeterPlan("wall", f"127.0.0.1:{instrument.port}", "W", ask="MEAS:POW?")) as meter:
            until(lambda: meter.read() == 64.0)
            time.sleep(0.4)
            asked = len(instrument.asked)
            time.sleep(0.4)
            assert len(instrument.asked) == asked
            until(lambda: meter.read() == 64.0 and len(instrument.asked) > asked)
    finally:
        instrument.close()


def test_a_meter_that_is_not_there_is_no_reading_and_says_why(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("yondle.rigs.meters.meter.TRIES_AGAIN_AFTER_S", 0.02)
    with reading(MeterPlan("gone", "/dev/no-such-meter", "W")) as meter:
        until(lambda: meter.read() is None and "no-such-meter" in meter.trouble)


def test_lines_without_a_number_and_overflows_are_no_readings() -> None:
    assert parse_line(b"hello\n", 1) is None
    assert parse_line(b"9.9E37\n", 1) is None, "what SCPI says for no measurement"
    assert parse_line(b"1e999\n", 1) is None
    assert parse_line(b"-0.5 A\n", 1) == -0.5


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        ({"unit": "furlong"}, "isn't known"),
        ({"name": " "}, "has a name"),
        ({"ask": "MEAS:VOLT"}, "no SCPI query"),
        ({"address": "10.0.0.5"}, "is asked"),
        ({"factor": 0.0}, "factor"),
    ],
)
def test_a_meter_that_cannot_be_is_refused(wrong: dict[str, object], says: str) -> None:
    with pytest.raises(KnownError, match=says):
        MeterPlan(**{"name": "wall power", "address": "/dev/ttyUSB0", "unit": "W", **wrong})  # type: ignore[arg-type]
