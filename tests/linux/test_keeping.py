"""Profiles kept over restarts: set, watched, counted, and never a machine that goes down at every start."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest
from tests.linux.trees import desktop, put

from yondle.rigs.linux.root.helper import keeper, keeping, kept
from yondle.rigs.linux.root.helper.found import find
from yondle.rigs.linux.root.helper.interfaces import Interface, read
from yondle.rigs.linux.root.helper.kept import LIVED, STATE, incidents, own_lock

CLOCK = "sys/devices/system/cpu/cpufreq/policy{}/scaling_max_freq"
LIMIT = "sys/class/powercap/package-rapl:0/constraint_0_power_limit_uw"
DAILY = {"core_clock_most": 4600.0, "power_limit_long": 95.0}
LOGBOOK = "5f0c1d"


class Down(BaseException):
    """The machine goes down."""


class Bench:
    """A stand-in machine with a clock of its own, which forgets at a restart what the kernel would forget."""

    def __init__(self, root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.root, self.boots = desktop(root), 0
        self.mono, self.asleep = 100.0, 0.0
        self.commands: list[str] = []
        put(root, {"run/systemd/system/there": ""})
        monkeypatch.setattr(keeping, "_system", lambda *words: self.commands.append(" ".join(words)))
        self.stock = {file: file.read_text() for file in sorted((root / "sys").rglob("*")) if file.is_file()}
        self.said: list[str] = []

    def clock(self, which: int) -> float:
        return self.mono + (self.asleep if which == time.CLOCK_BOOTTIME else 0.0)

    def boot(self) -> keeper.Keeper:
        """Restart: another boot, values as the kernel finds them."""
        self.boots += 1
        for file, text in self.stock.items():
            file.write_text(text)
        put(self.root, {"proc/sys/kernel/random/boot_id": f"boot{self.boots}", "dev/kmsg": ""})
        (self.root / keeper.SET_IN).unlink(missing_ok=True)
        self.mono, self.asleep, self.said = 100.0, 0.0, []
        return keeper.Keeper(self.root, os.getuid(), self.clock, self.said.append)

    def started(self) -> keeper.Keeper | None:
        """Restart and wake once; None where nothing is to be kept."""
        one = self.boot()
        if not one.begin():
            return None
        assert one.wake()
        return one

    def passes(self, one: keeper.Keeper, seconds: float, busy: float = 0.0) -> bool:
        """Let time go by in wakes of ten seconds, with the processors busy for a share of it."""
        for _ in range(round(seconds / 10)):
            self.mono += 10.0
            user, _, system, idle, *_ = (read(self.root / "proc/stat") or "").split()[1:]
            told = (
                f"cpu  {int(user) + round(1000 * busy)} 0 {system} {int(idle) + round(1000 * (1 - busy))} 0 0 0 0 0 0"
            )
            put(self.root, {"proc/stat": told})
            if not one.wake():
                return False
        return True

    def keep(self, source: str = "mains", values: Mapping[str, Any] | None = None, **more: Any) -> dict[str, Any]:
        """Ask for a profile to be kept, as root."""
        profile = {"name": "Daily", "logbook": LOGBOOK, "step": 12, "values": DAILY if values is None else values}
        request = {"for": source, "profile": {**profile, **more}, "instead": False}
        return self.ask(["set"], json.dumps({**request, **{k: more[k] for k in ("instead",) if k in more}}))

    def ask(self, words: list[str], line: str = "") -> dict[str, Any]:
        stdin, stdout = sys.stdin, sys.stdout
        sys.stdin, sys.stdout = io.TextIOWrapper(io.BytesIO(line.encode())), io.StringIO()
        try:
            with pytest.raises(SystemExit):
                keeping.main(words, self.root, os.getuid())
            answer: dict[str, Any] = json.loads(sys.stdout.getvalue())
        finally:
            sys.stdin, sys.stdout = stdin, stdout
        return answer

    @property
    def in_force(self) -> dict[str, float | None]:
        return {knob: find(self.root, os.getuid())[knob].value() for knob in DAILY}

    @property
    def at_stock(self) -> bool:
        return all(file.read_text().strip() == text.strip() for file, text in self.stock.items())

    def lived(self) -> list[dict[str, Any]]:
        return [json.loads(file.read_text()) for file in sorted((self.root / STATE / LIVED).glob("*.json"))]


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Bench:
    made = Bench(tmp_path, monkeypatch)
    made.boot()
    return made


def test_a_profile_is_in_force_after_every_start_and_gone_when_the_service_ends(bench: Bench) -> None:
    assert bench.keep()["ok"]
    assert bench.commands == ["enable yondle-keep.service", "restart yondle-keep.service"]
    for _ in range(3):
        one = bench.started()
        assert one is not None, bench.said
        assert bench.in_force == DAILY
        assert bench.passes(one, 1200.0, busy=0.75)
        one.end()
        assert bench.at_stock
    assert [(each["awake_s"], each["load_s"], each["failures"], each["open"]) for each in bench.lived()] == [
        (1200.0, 1200.0, 0, False)
    ] * 3
    assert bench.ask(["off"])["ok"]
    assert bench.started() is None
    assert len(bench.lived()) == 3, "what was lived through stays for the logbook"


def test_a_machine_that_goes_down_soon_after_stays_at_stock_until_somebody_says_again(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    bench.passes(one, 300.0)
    for _ in range(3):
        assert bench.started() is None
        assert bench.at_stock
    told = incidents(bench.root)
    assert [(each["name"], each["step"], each["boot"]) for each in told] == [("Daily", 12, "boot2")]
    assert [each["failures"] for each in bench.lived()] == [1]
    assert bench.ask(["again"])["ok"]
    assert bench.started() is not None
    assert bench.in_force == DAILY


def test_going_down_once_after_it_was_borne_is_counted_and_twice_in_a_week_ends_at_stock(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    bench.passes(one, 700.0)
    one = bench.started()
    assert one is not None, "it had borne the settings: it may have been the mains that failed"
    assert [each["failures"] for each in bench.lived()] == [1, 0]
    bench.passes(one, 700.0)
    assert bench.started() is None
    assert bench.started() is None
    assert bench.at_stock
    assert len(incidents(bench.root)) == 2
    assert "twice within a week" in bench.said[-1]
    assert bench.ask(["again"])["ok"]
    one = bench.started()
    assert one is not None
    bench.passes(one, 700.0)
    assert bench.started() is not None, "what happened before somebody said again doesn't count"


@contextmanager
def _down_at(point: int, monkeypatch: pytest.MonkeyPatch) -> Iterator[list[int]]:
    """Have the machine go down before the point-th thing that is written, renamed, synced or taken away."""
    passed = [0]

    def guarded(does: Callable[..., Any]) -> Callable[..., Any]:
        def do(*given: Any, **named: Any) -> Any:
            passed[0] += 1
            if passed[0] == point:
                raise Down
            return does(*given, **named)

        return do

    with monkeypatch.context() as patched:
        for name in ("write", "fsync", "replace", "unlink"):
            patched.setattr(os, name, guarded(getattr(os, name)))
        patched.setattr(Interface, "put_back", guarded(Interface.put_back))
        yield passed


def _marked(bench: Bench) -> bool:
    return (bench.root / STATE / kept.MARK).exists()


def _live(bench: Bench, one: keeper.Keeper) -> None:
    """One whole life of the service: start, what is borne, sleep, end."""
    if not one.begin():
        return
    one.wake()
    bench.passes(one, 80.0)
    bench.asleep += 3600.0
    bench.passes(one, 80.0)
    one.end()


def test_going_down_at_any_point_never_makes_a_boot_loop_and_nothing_is_told_wrongly(
    bench: Bench, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The count below is of the points there are; each is gone down at, then again and again at the same."""
    monkeypatch.setattr(keeper, "SETTLED_S", 60.0)
    bench.keep()
    one = bench.boot()
    with _down_at(0, monkeypatch) as passed:
        _live(bench, one)
    points = passed[0]
    assert points > 30
    for point in range(1, points + 1):
        bench.ask(["off"])
        (bench.root / STATE / kept.INCIDENTS).unlink(missing_ok=True)
        bench.keep()
        applied = 0
        for _ in range(5):
            one = bench.boot()
            with suppress(Down), _down_at(point, monkeypatch):
                _live(bench, one)
            was_set = not bench.at_stock or any("is in force" in words for words in bench.said)
            applied += was_set and (_marked(bench) or any(each["open"] for each in bench.lived()))
        assert applied <= 2, f"set {applied} times though the machine went down at point {point} each time"
        bench.boot().begin()
        why = [str(each["why"]) for each in incidents(bench.root)]
        assert all("went down" in each for each in why), why
        assert applied <= len(why) <= applied + 1, f"point {point}: {applied} times down, {why}"


@pytest.mark.parametrize(
    "line",
    [
        "4,1,1,-;mce: [Hardware Error]: Machine check: Processor context corrupt",
        "2,1,1,-;thermal thermal_zone0: critical temperature reached, shutting down",
        "4,1,1,-;amdgpu 0000:03:00.0: amdgpu: GPU reset begin!",
    ],
)
def test_a_fault_that_the_kernel_logs_puts_stock_back_at_once(bench: Bench, line: str) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    with open(bench.root / "dev/kmsg", "a") as log:
        log.write(line + "\n")
    assert not bench.passes(one, 10.0)
    assert bench.at_stock
    assert bench.lived()[0]["failures"] == 1
    one.end()
    assert bench.started() is None


def test_only_machines_that_went_down_count_as_the_first_of_two(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    bench.passes(one, 700.0)
    now = kept.wall()
    refused: dict[str, Any] = {"at": now, "why": "refused", "source": "mains"}
    night = {"at": now, "why": "the plan", "name": "/b", "night": True}
    told_already = {"at": now, "why": "the machine went down, or lost its power", "boot": "boot2"}
    many = [*({**refused, "number": number} for number in range(2000)), night, told_already]
    put(bench.root, {f"{STATE}/incidents.jsonl": "\n".join(map(json.dumps, many))})
    one = bench.started()
    assert one is not None, "it went down again while it wrote down that it had gone down"
    assert len(incidents(bench.root)) == len(many)
    bench.passes(one, 700.0)
    assert bench.started() is None, "however long the list, the second time is seen"


def test_a_line_of_the_log_that_tells_of_no_fault_changes_nothing(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    with open(bench.root / "dev/kmsg", "a") as log:
        log.write("6,1,1,-;usb 1-1: reset high-speed USB device\n4,2,2,-;mce: [Hardware Error]: CPU 0 corrected\n")
    assert bench.passes(one, 20.0)
    assert bench.in_force == DAILY


def test_each_power_source_has_its_own_and_sleep_sets_it_anew(bench: Bench) -> None:
    supply = "sys/class/power_supply"
    files = {f"{supply}/AC/type": "Mains", f"{supply}/AC/online": "1", f"{supply}/BAT0/type": "Battery"}
    put(bench.root, files)
    bench.keep()
    bench.keep("battery", {"core_clock_most": 2000.0}, name="Away")
    one = bench.started()
    assert one is not None
    assert bench.in_force == DAILY
    put(bench.root, {f"{supply}/AC/online": "0"})
    bench.passes(one, 10.0)
    assert bench.in_force == {"core_clock_most": 2000.0, "power_limit_long": 125.0}
    (bench.root / LIMIT).write_text("40000000\n")
    (bench.root / CLOCK.format(1)).write_text("4800000\n")
    bench.asleep += 3000.0
    bench.passes(one, 10.0)
    assert read(bench.root / CLOCK.format(1)) == "2000000"
    put(bench.root, {f"{supply}/AC/online": "1"})
    bench.passes(one, 10.0)
    assert bench.in_force == DAILY
    one.end()
    assert {(each["name"], each["source"]) for each in bench.lived()} == {("Daily", "mains"), ("Away", "battery")}


def test_a_yondle_at_work_has_the_machine_for_itself(bench: Bench) -> None:
    import fcntl

    bench.keep()
    one = bench.started()
    assert one is not None
    with open(own_lock(bench.root), "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        (bench.root / LIMIT).write_text("50000000\n")
        with open(bench.root / "dev/kmsg", "a") as log:
            log.write("4,1,1,-;GPU HANG: ecode 9\n")
        assert bench.passes(one, 600.0, busy=1.0)
        assert bench.in_force["power_limit_long"] == 50.0
    bench.passes(one, 10.0)
    assert bench.in_force == DAILY
    one.end()
    assert [(each["load_s"], each["failures"]) for each in bench.lived()] == [(0.0, 0)]


def test_a_machine_that_goes_down_while_a_yondle_tests_says_nothing_of_the_profile(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    put(bench.root, {f"{STATE}/tested.json": '{"boot": "boot2"}'})
    again = bench.started()
    assert again is not None, bench.said
    assert not incidents(bench.root)
    assert [each["failures"] for each in bench.lived()] == [0, 0]
    bench.passes(again, 10.0)
    assert not (bench.root / STATE / "tested.json").exists()
    assert bench.started() is None, "a Yondle that is gone excuses nothing"


def _changed(bench: Bench, change: str) -> None:
    state = bench.root / STATE
    match change:
        case "written by others":
            (state / "kept.json").chmod(0o666)
        case "damaged":
            (state / "kept.json").write_text("{")
        case "another version":
            told = json.loads((state / "kept.json").read_text())
            (state / "kept.json").write_text(json.dumps({**told, "format": "yondle-kept 7"}))
        case "other hardware":
            put(bench.root, {"sys/class/dmi/id/bios_version": "F7"})
        case "such knob":
            for file in (bench.root / "sys/class/powercap").rglob("constraint_0_name"):
                file.write_text("other\n")
                bench.stock[file] = "other\n"
        case "outside":
            put(bench.root, {"etc/yondle/ceilings.toml": "power_limit_long = [10, 90]"})
        case "kernel's command line":
            put(bench.root, {"proc/cmdline": "root=/dev/vda1 yondle.keep=0 quiet"})


@pytest.mark.parametrize(
    "change",
    [
        "written by others", "damaged", "another version", "other hardware", "such knob", "outside",
        "kernel's command line",
    ],
)  # fmt: skip
def test_what_can_not_be_kept_any_more_ends_at_stock_with_a_word(bench: Bench, change: str) -> None:
    bench.keep()
    _changed(bench, change)
    one = bench.started()
    if one is not None:
        bench.passes(one, keeper.MISSING_S + 20.0)
        one.end()
    assert bench.at_stock
    assert change in " ".join(bench.said), bench.said
    assert bench.started() is None or bench.at_stock


def test_nothing_is_set_where_the_mark_can_not_be_written(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    bench.keep()

    def read_only(*_: object) -> None:
        raise OSError(30, "Read-only file system")

    one = bench.boot()
    with monkeypatch.context() as patched:
        patched.setattr(keeper, "durable", read_only)
        assert one.begin()
        assert one.wake()
    assert bench.at_stock
    assert "Read-only" in " ".join(bench.said)


@pytest.mark.parametrize(
    ("values", "why"),
    [
        ({"core_clock_most": 9000.0}, "outside"),
        ({"power_limit_long": float("nan")}, "finite"),
        ({"power_limit_long": True}, "finite"),
        ({"../../etc/passwd": 1.0}, "no knob"),
        ({}, "knobs"),
        ({"core_clock_most": [1]}, "finite"),
    ],
)
def test_a_request_that_is_none_writes_nothing(bench: Bench, values: dict[str, Any], why: str) -> None:
    answer = bench.keep(values=values)
    assert not answer["ok"]
    assert why in answer["why"]
    assert not (bench.root / STATE / "kept.json").exists()
    assert not bench.commands


def test_names_and_logbooks_are_words_and_another_logbooks_profile_stays_unless_said(bench: Bench) -> None:
    for key, value in (("name", "a\nb"), ("name", ""), ("logbook", "../x"), ("step", "12")):
        assert not bench.keep(**{key: value})["ok"]  # type: ignore[arg-type]
    assert bench.keep()["ok"]
    other = bench.keep(logbook="77aa", name="Theirs")
    assert other["why"] == "another logbook keeps 'Daily'"
    request = {
        "for": "both",
        "profile": {"name": "Theirs", "logbook": "77aa", "step": 3, "values": DAILY},
        "instead": True,
    }
    assert bench.ask(["set"], json.dumps(request))["ok"]
    assert bench.ask(["set"], "[" * 5000)["ok"] is False
    (bench.root / "run/systemd/system/there").unlink()
    (bench.root / "run/systemd/system").rmdir()
    assert "systemd" in bench.ask(["off"])["why"]


def test_a_service_that_was_killed_sets_nothing_again_in_that_boot(bench: Bench) -> None:
    bench.keep()
    one = bench.started()
    assert one is not None
    again = keeper.Keeper(bench.root, os.getuid(), bench.clock, bench.said.append)
    assert not again.begin()
    assert "killed" in bench.said[-1]
    keeping.main(["ended"], bench.root, os.getuid())
    assert bench.started() is not None, "that it was killed says nothing of the settings"
    assert not incidents(bench.root)
    assert bench.lived()[0]["why"] == "the service was killed"


def test_the_service_as_it_is_installed_runs_and_ends_in_good_order(tmp_path: Path) -> None:
    """The real process on a stand-in machine: what it costs, and that it puts back what it set."""
    root = desktop(tmp_path)
    put(root, {"run/systemd/system/there": "", "dev/kmsg": ""})
    folder = Path(keeper.__file__).parent.parent
    code = (
        f"import sys; sys.path.insert(0, {str(folder)!r}); from pathlib import Path; from helper import keeper, keeping;"
        f"root = Path({str(root)!r}); keeping._system = lambda *w: None; keeper.WAKE_S = 0.2;"
        f"usual = keeper.Keeper.__init__.__defaults__; keeper.Keeper.__init__.__defaults__ = ({os.getuid()}, *usual[1:]);"
        f"keeping.main(sys.argv[1:], root, {os.getuid()}) if len(sys.argv) > 1 else keeper.live(root)"
    )
    profile = {"name": "Daily", "logbook": LOGBOOK, "step": 12, "values": DAILY}
    request = json.dumps({"for": "both", "profile": profile, "instead": False}) + "\n"
    subprocess.run([sys.executable, "-I", "-c", code, "set"], input=request, text=True, check=True, timeout=60)
    service = subprocess.Popen([sys.executable, "-I", "-c", code], stdout=subprocess.PIPE, text=True)
    assert service.stdout is not None
    assert "'Daily' is in force on mains" in service.stdout.readline()
    status = Path(f"/proc/{service.pid}/status").read_text()
    resident_kib = int(status.partition("VmRSS:")[2].split()[0])
    assert resident_kib < 40_000
    service.terminate()
    assert service.wait(20) == 0
    service.stdout.close()
    assert read(root / LIMIT) == "125000000"
    assert not (root / STATE / "mark.json").exists()
