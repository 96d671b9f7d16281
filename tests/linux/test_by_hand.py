"""Knobs set by hand on this machine: waiting across a restart, the answer after it, and coming back after login."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from yondle.app.machine.machines import Machine, choose_rig, make_machine
from yondle.app.session.limits import TellConditions
from yondle.app.session.proposing import Propose
from yondle.app.session.readiness import CheckReady, not_ready
from yondle.app.session.returning import DropWaiting, GoOnWaiting, ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.app.system.autostart import entry_path
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.sensors import Reading
from yondle.model.steps import StartAnswer
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import PassResult
from yondle.rigs.linux.conditions import Conditions

KNOBS = """
format = "yondle-by-hand 1"
constants = { memory_channels = 2 }
[knobs.memory_rate]
name = "Memory rate"
unit = "MT/s"
subsystem = "memory"
low = 4800
high = 6400
step = 200
stock = 5600
risk = "up"
[knobs.cas]
name = "CAS latency"
subsystem = "memory"
low = 28
high = 48
step = 2
stock = 40
[knobs.fast_start]
name = "Fast start"
choices = ["off", "on"]
stock = 0
"""


class _QuickRun:
    """A pass that is over at the first look: what is tested here is the waiting, not the benchmark."""

    def poll(self) -> PassResult:
        return PassResult(True, 100.0, 1.0)

    def stop(self) -> None:
        pass


class _QuickRig:
    """This machine with a boot identity that a test can change, and passes that take no time."""

    def __init__(self, rig: Any, boot: str) -> None:
        self._rig = rig
        self._boot = boot

    def __getattr__(self, name: str) -> Any:
        return getattr(self._rig, name)

    def boot_id(self) -> str:
        return self._boot

    def start(self, *_: object) -> _QuickRun:
        return _QuickRun()

    def sample(self) -> tuple[Reading, ...]:
        return tuple(None for _ in self._rig.declaration.channels)


class _QuickClock:
    """A clock that doesn't wait."""

    block_s = 1.0

    def __init__(self, clock: Any) -> None:
        self._clock = clock
        self._now = 0.0

    def __getattr__(self, name: str) -> Any:
        return getattr(self._clock, name)

    def now(self) -> float:
        return self._now

    def wait(self, seconds: float) -> None:
        self._now += seconds


def opened(path: Path, boot: str) -> Session:
    logbook = Logbook(path)
    machine = make_machine(choose_from(logbook), None, None)
    quick: Machine = replace(machine, rig=_QuickRig(machine.rig, boot), clock=_QuickClock(machine.clock))
    return Session(logbook, quick)


def choose_from(logbook: Logbook) -> Any:
    from yondle.app.machine.machines import RigChoice

    return RigChoice(*logbook.rig())


@pytest.fixture
def book(tmp_path: Path) -> Path:
    knobs = tmp_path / "knobs.toml"
    knobs.write_text(KNOBS)
    path = tmp_path / "this.yondle"
    choice = choose_rig("this", by_hand=knobs)
    Logbook.create(path, choice.kind, choice.name, choice.definition).close()
    return path


def test_a_step_waits_over_the_restart_and_yondle_comes_back_after_login(book: Path) -> None:
    session = opened(book, "boot 1")
    session.do(RunBaseline(2))
    session.do(Propose("memory_rate", 6000))
    record = session.do(TryProposal(2))
    assert record.outcome is None
    assert record.derived["first_word_latency"] == pytest.approx(2000 * 40 / 6000)
    assert session.snapshot.waiting is not None
    entry = entry_path().read_text()
    assert f"open {book}" in entry
    assert "Type=Application" in entry
    with pytest.raises(KnownError, match="hasn't restarted"):
        session.do(GoOnWaiting())
    session.close()

    session = opened(book, "boot 1")
    assert session.snapshot.waiting is not None
    assert not session.snapshot.waiting.restarted
    session.close()
    session = opened(book, "boot 2")
    assert session.snapshot.resumed == (), "a restart that was waited for is no crash"
    assert session.snapshot.waiting is not None
    assert session.snapshot.waiting.restarted
    done = session.do(GoOnWaiting(StartAnswer()))
    assert done is not None
    assert done.verdict is Verdict.HELD
    assert session.snapshot.in_force["memory_rate"] == 6000.0
    assert not entry_path().exists()
    session.close()
    session = opened(book, "boot 3")
    assert session.snapshot.in_force["memory_rate"] == 6000.0, "a firmware value outlives a restart"
    assert session.snapshot.waiting is None
    session.close()


def test_one_dropped_after_the_restart_is_put_back_by_hand_since_it_may_be_in_force(book: Path) -> None:
    session = opened(book, "boot 1")
    session.do(RunBaseline(2))
    session.do(Propose("memory_rate", 6000))
    session.do(TryProposal(2))
    session.close()
    session = opened(book, "boot 2")
    assert session.do(DropWaiting()) is not None
    assert session.snapshot.waiting is not None
    assert (session.snapshot.waiting.step, session.snapshot.waiting.values) == (None, {"memory_rate": 5600.0})
    session.close()
    session = opened(book, "boot 3")
    assert session.do(GoOnWaiting(StartAnswer())) is None
    assert session.snapshot.in_force == session.declaration.stock
    session.close()


def test_one_that_did_not_start_is_named_and_the_rest_is_asked_back(book: Path) -> None:
    session = opened(book, "boot 1")
    session.do(RunBaseline(2))
    session.do(Propose("memory_rate", 5800))
    session.do(TryProposal(2))
    session.close()
    session = opened(book, "boot 2")
    session.do(GoOnWaiting(StartAnswer()))
    session.do(Propose("cas", 30))
    session.do(TryProposal(2))
    session.close()
    session = opened(book, "boot 4")
    done = session.do(GoOnWaiting(StartAnswer(Failure.STOPPED_IN_START, "memory training", "3A")))
    assert done is not None
    assert done.outcome is not None
    assert (done.outcome.failure, done.outcome.code) == (Failure.STOPPED_IN_START, "3A")
    assert "memory training" in done.outcome.reason
    assert done.outcome.pointer.subsystem == "memory"
    assert session.snapshot.waiting is not None, "the reset took 5 800 MT/s, too"
    assert session.snapshot.waiting.step is None
    assert session.snapshot.waiting.values == {"memory_rate": 5800.0}
    session.close()


@pytest.mark.parametrize(
    ("before", "after", "says"),
    [
        ("high = 6400", "high = 4000", "high must be above low"),
        ("stock = 5600", "stock = 5700", "stock must lie on the grid"),
        ('subsystem = "memory"', 'subsystem = "soul"', "subsystem"),
        ("yondle-by-hand 1", "yondle-by-hand 9", "format"),
        ("[knobs.cas]", "[knobs.CAS!]", "knobs"),
    ],
)
def test_a_faulty_description_is_refused_with_the_place(tmp_path: Path, before: str, after: str, says: str) -> None:
    path = tmp_path / "knobs.toml"
    path.write_text(KNOBS.replace(before, after, 1))
    with pytest.raises(KnownError) as refusal:
        choose_rig("this", by_hand=path)
    assert says in str(refusal.value)


def test_conditions_are_taken_from_the_kernel_where_it_tells_them(tmp_path: Path) -> None:
    assert Conditions(tmp_path).facts() == {}
    for name, text in (
        ("class/dmi/id/board_name", "Slipway\n"),
        ("class/dmi/id/bios_version", "2.14\n"),
        ("class/dmi/id/bios_date", "2026-03-01\n"),
        ("class/power_supply/BAT0/type", "Battery\n"),
        ("class/power_supply/BAT0/status", "Discharging\n"),
        ("class/power_supply/AC/type", "Mains\n"),
        ("class/power_supply/AC/online", "0\n"),
        ("devices/system/cpu/cpufreq/policy0/scaling_governor", "powersave\n"),
    ):
        file = tmp_path / "sys" / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
    expected = {"board": "Slipway", "firmware": "2.14 2026-03-01", "power source": "battery", "governor": "powersave"}
    assert Conditions(tmp_path).facts() == expected
    (tmp_path / "sys/class/power_supply/BAT0/status").write_text("Charging\n")
    (tmp_path / "sys/class/power_supply/AC/online").write_text("1\n")
    assert Conditions(tmp_path).facts()["power source"] == "mains"


def test_what_is_not_ready_is_told_with_what_to_do_and_recorded(book: Path) -> None:
    session = opened(book, "boot 1")
    session.do(TellConditions({"power source": "battery"}))
    session.do(TellConditions({"cooler": "Tarn 140"}))
    assert session.snapshot.not_told == ("room temperature in °C", "sample of each part")
    missing = not_ready(session.do(CheckReady()).items)
    assert any(words.startswith("power source: battery") for words in missing)
    record = session.do(RunBaseline(2, missing))
    kept = record.attempts[0].conditions
    assert "power source: battery" in str(kept["not ready, started anyway"])
    assert kept["cooler"] == "Tarn 140"
    session.close()


def test_a_switch_that_takes_effect_at_once_waits_for_a_word_and_no_restart(tmp_path: Path) -> None:
    """The side of the case, off or on: nothing is entered in firmware setup, and Yondle needn't come back after a login."""
    knobs = tmp_path / "knobs.toml"
    knobs.write_text(
        'format = "yondle-by-hand 1"\n[knobs.side]\nname = "Side of the case"\nsubsystem = "cooling"\n'
        'choices = ["on", "off"]\nstock = 0\ntakes_effect = "at once"\n'
    )
    path = tmp_path / "this.yondle"
    choice = choose_rig("this", by_hand=knobs)
    Logbook.create(path, choice.kind, choice.name, choice.definition).close()
    session = opened(path, "boot-1")
    session.do(RunBaseline(2))
    session.do(Propose("side", 1.0))
    session.do(TryProposal(2))
    assert session.snapshot.waiting is not None
    assert not session.snapshot.waiting.restarts
    assert not entry_path().exists()
    session.close()
    session = opened(path, "boot-1")
    record = session.do(GoOnWaiting())
    assert record is not None
    assert record.verdict is Verdict.HELD, record.outcome
    assert session.snapshot.in_force["side"] == 1.0
    session.do(ReturnTo(1))
    assert session.snapshot.waiting is not None, "putting it back takes a hand, too"
    assert session.snapshot.waiting.values == {"side": 0.0}
    assert session.do(GoOnWaiting()) is None
    assert (session.snapshot.waiting, session.snapshot.in_force["side"]) == (None, 0.0)
    session.close()
