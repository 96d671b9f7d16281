"""Attacks on the helper that runs as root: whatever is said to it is refused or harmless, and the machine is put back."""

from __future__ import annotations

import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.linux import trees

from yondle.model.errors import KnownError
from yondle.rigs.linux.privilege import LOCAL, PACKAGED, SOURCE, HelperLine, find_way
from yondle.rigs.linux.root.helper import server as helper
from yondle.rigs.linux.root.helper.found import find
from yondle.rigs.linux.smbios import modules_in
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost

HUGE = "sys/kernel/mm/transparent_hugepage/enabled"


def command(root: Path, timeout_s: float = 20.0) -> tuple[str, ...]:
    """The helper as it is, but below another root and owned by whoever runs the tests."""
    code = (
        f"import sys; sys.path.insert(0, {str(SOURCE)!r}); from helper.server import serve; from pathlib import Path;"
        f"serve(Path({str(root)!r}), {os.getuid()}, {timeout_s})"
    )
    return (sys.executable, "-I", "-c", code)


class Client:
    """Talks to a helper and says whatever it likes."""

    def __init__(self, root: Path, timeout_s: float = 20.0) -> None:
        self.process = subprocess.Popen(command(root, timeout_s), stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self._number = 0

    def ask(self, **request: Any) -> dict[str, Any]:
        self._number += 1
        return self.say(json.dumps({"n": self._number, **request}).encode())

    def say(self, line: bytes) -> dict[str, Any]:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(line + b"\n")
        self.process.stdin.flush()
        answer: dict[str, Any] = json.loads(self.process.stdout.readline())
        return answer

    def leave(self) -> None:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.close()
        self.process.wait(10)
        self.process.stdout.close()


@pytest.fixture
def root(tmp_path: Path) -> Path:
    (tmp_path / "run").mkdir()
    return trees.desktop(tmp_path)


@pytest.fixture
def client(root: Path) -> Iterator[Client]:
    client = Client(root)
    yield client
    if client.process.poll() is None:
        client.process.kill()
    for pipe in (client.process.stdin, client.process.stdout):
        if pipe is not None and not pipe.closed:
            try:
                pipe.close()
            except BrokenPipeError:
                continue
    client.process.wait()


def large_pages(root: Path) -> str:
    return (root / HUGE).read_text().strip()


def until(root: Path, wanted: str) -> None:
    limit = time.monotonic() + 10
    while large_pages(root) != wanted:
        assert time.monotonic() < limit, f"still {large_pages(root)}"
        os.sched_yield()


def test_a_value_is_set_read_back_and_put_back_when_the_client_leaves(root: Path, client: Client) -> None:
    assert "large_pages" in client.ask(do="hello")["knobs"]
    assert client.ask(do="set", knob="large_pages", value=2) == {"n": 2, "ok": True, "reads": 2.0}
    assert client.ask(do="set", knob="power_limit_long", value=95.5)["reads"] == 95.5
    assert large_pages(root) == "always"
    client.leave()
    assert large_pages(root) == "madvise"
    assert (root / "sys/class/powercap/package-rapl:0/constraint_0_power_limit_uw").read_text() == "125000000"


def test_the_value_that_was_found_gives_a_fan_back_to_its_own_control(root: Path, client: Client) -> None:
    mode = root / "sys/class/hwmon/hwmon2/pwm2_enable"
    assert client.ask(do="set", knob="fan_board_2", value=60)["reads"] == 60.0
    assert mode.read_text().strip() == "1"
    assert client.ask(do="set", knob="fan_board_2", value=40)["reads"] == 40.0
    assert mode.read_text().strip() == "5"


@pytest.mark.parametrize(
    "knob",
    ["../../etc/passwd", "/etc/shadow", "sys/kernel/mm/transparent_hugepage/enabled", "", "large_pages\x00",
     "large_pages/../turbo", "__class__", 7, None, ["large_pages"], {"knob": "large_pages"}],
)  # fmt: skip
def test_no_path_and_no_unknown_knob_is_taken(root: Path, client: Client, knob: object) -> None:
    answer = client.ask(do="set", knob=knob, value=1)
    assert (answer["ok"], answer["why"]) == (False, "the helper knows no such knob here")


@pytest.mark.parametrize(
    "value",
    ["NaN", "Infinity", "-Infinity", "1e400", "1" + "0" * 400, "-1", "3", "1.5", "true", "null", '"2"', '"2; reboot"',
     "[2]", "{}"],
)  # fmt: skip
def test_no_value_but_a_number_in_its_range_is_taken(root: Path, client: Client, value: str) -> None:
    answer = client.say(f'{{"n": 1, "do": "set", "knob": "large_pages", "value": {value}}}'.encode())
    assert not answer["ok"]
    assert large_pages(root) == "always [madvise] never"
    assert client.ask(do="alive", n=5)["ok"]


def test_a_value_outside_the_kernels_range_or_the_owners_ceiling_is_refused(root: Path) -> None:
    trees.put(root, {"etc/yondle/ceilings.toml": "power_limit_long = [10, 100]"})
    client = Client(root)
    assert client.ask(do="set", knob="power_limit_long", value=100)["ok"]
    assert client.ask(do="set", knob="power_limit_long", value=101)["why"] == "outside 10 to 100"
    assert client.ask(do="set", knob="power_limit_short", value=161)["why"] == "outside 5 to 160"
    assert client.ask(do="set", knob="fan_board_2", value=0)["why"] == "outside 20 to 100"
    client.leave()


@pytest.mark.parametrize(("mode", "text"), [(0o666, "turbo = [0, 0]"), (0o644, "turbo = 3"), (0o644, "turbo = [")])
def test_ceilings_that_others_could_have_written_or_that_cant_be_read_stop_the_helper(
    root: Path, mode: int, text: str
) -> None:
    trees.put(root, {"etc/yondle/ceilings.toml": text})
    (root / "etc/yondle/ceilings.toml").chmod(mode)
    done = subprocess.run(command(root), input=b"", capture_output=True, timeout=20, check=False)
    assert not json.loads(done.stdout)["ok"]


def test_lines_said_twice_or_out_of_order_are_refused(root: Path, client: Client) -> None:
    line = b'{"n": 3, "do": "set", "knob": "large_pages", "value": 2}'
    assert client.say(line)["ok"]
    assert "has to grow" in client.say(line)["why"]
    assert not client.say(b'{"n": 2, "do": "put_back"}')["ok"]
    assert not client.say(b'{"n": true, "do": "put_back"}')["ok"]
    assert not client.say(b'{"do": "put_back"}')["ok"]
    assert large_pages(root) == "always"


def test_files_that_have_become_links_are_not_written_through(root: Path, client: Client) -> None:
    target = root / "victim"
    target.write_text("mine")
    assert client.ask(do="hello")["ok"]
    (root / HUGE).unlink()
    (root / HUGE).symlink_to(target)
    assert "refused" in client.ask(do="set", knob="large_pages", value=2)["why"]
    assert target.read_text() == "mine"


def test_interfaces_that_lead_out_of_the_kernels_tree_are_not_offered(root: Path) -> None:
    outside = root / "outside"
    outside.write_text("always [madvise] never")
    (root / HUGE).unlink()
    (root / HUGE).symlink_to(outside)
    assert "large_pages" not in find(root)


def test_a_second_client_is_turned_away(root: Path, client: Client) -> None:
    assert client.ask(do="hello")["ok"]
    done = subprocess.run(command(root), input=b"", capture_output=True, timeout=20, check=False)
    assert json.loads(done.stdout)["why"] == "another helper is at work"
    assert client.ask(do="set", knob="large_pages", value=0)["ok"]


@pytest.mark.parametrize("ending", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
def test_a_helper_that_is_ended_puts_back_first(root: Path, client: Client, ending: signal.Signals) -> None:
    client.ask(do="set", knob="large_pages", value=2)
    client.process.send_signal(ending)
    client.process.wait(10)
    assert large_pages(root) == "madvise"


def test_silence_puts_back(root: Path) -> None:
    client = Client(root, timeout_s=0.3)
    client.ask(do="set", knob="large_pages", value=2)
    client.process.wait(10)
    assert large_pages(root) == "madvise"
    client.leave()


def test_a_killed_parent_puts_back(root: Path) -> None:
    code = (
        "import subprocess, sys, time\n"
        f"helper = subprocess.Popen({list(command(root))!r}, stdin=subprocess.PIPE, stdout=subprocess.PIPE)\n"
        'helper.stdin.write(b\'{"n": 1, "do": "set", "knob": "large_pages", "value": 2}\\n\')\n'
        "helper.stdin.flush(); helper.stdout.readline(); print('set', flush=True); time.sleep(60)\n"
    )
    parent = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
    assert parent.stdout is not None
    assert parent.stdout.readline() == b"set\n"
    assert large_pages(root) == "always"
    parent.kill()
    parent.wait()
    parent.stdout.close()
    until(root, "madvise")


def test_an_endless_line_and_a_flood_of_rubbish_end_the_talk_and_put_back(root: Path) -> None:
    for rubbish in (b"x" * 100_000, b"rubbish\n" * 1000, b"[" * 4000 + b"\n" + b"{}\n" * 100):
        line = b'{"n": 1, "do": "set", "knob": "large_pages", "value": 2}\n'
        done = subprocess.run(command(root), input=line + rubbish, capture_output=True, timeout=20, check=False)
        assert json.loads(done.stdout.splitlines()[0])["ok"]
        assert done.returncode == 0, done.stderr
        assert large_pages(root) == "madvise"


WORDS = st.sampled_from(["n", "do", "knob", "value", "x"])
ANY_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(WORDS, inner, max_size=5),
    max_leaves=8,
)
ANY_LINE = st.binary(max_size=200) | ANY_JSON.map(lambda value: json.dumps(value).encode())


@settings(max_examples=300, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(line=ANY_LINE)
def test_any_line_gets_an_answer_and_nothing_unknown_is_touched(root: Path, line: bytes) -> None:
    server = helper.Server(root, os.getuid())
    before = large_pages(root)
    answer = server.answer(line)
    assert isinstance(answer["ok"], bool)
    assert answer["ok"] or answer["why"]
    assert large_pages(root) == before


def test_yondles_side_of_the_talk_sets_keeps_alive_and_leaves(root: Path) -> None:
    line = HelperLine(command(root))
    line.close()
    line = HelperLine(command(root))
    assert line.set("large_pages", 2.0) == 2.0
    with pytest.raises(KnownError, match="outside"):
        line.set("power_limit_long", 1e6)
    line.close()
    assert large_pages(root) == "madvise"
    gone = HelperLine((sys.executable, "-c", "raise SystemExit(126)"))
    with pytest.raises(KnownError, match="doesn't answer"):
        gone.set("large_pages", 1.0)
    gone.close()


def test_the_way_to_the_helper_says_what_is_missing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert find_way(uid=0).command[1] == "-I"
    monkeypatch.setenv("PATH", str(tmp_path))
    assert "pkexec" in find_way(uid=1000).missing
    (tmp_path / "pkexec").write_text("#!/bin/sh\n")
    (tmp_path / "pkexec").chmod(0o755)
    packaged, local = (place.below(tmp_path) for place in (PACKAGED, LOCAL))
    both = 1000, (packaged, local)
    assert "yondle helper install" in find_way(*both).missing
    for place in (packaged, local):
        for file in (place.starts, place.policy):
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text("")
    assert "another version" in find_way(*both).missing, "there are no parts of it"
    shutil.copytree(SOURCE, local.folder)
    assert find_way(*both).command == (str(tmp_path / "pkexec"), str(local.starts)), "the package's is another"
    assert "docs/bench.md" in find_way(*both, asks=False).missing, "on a bench nobody can be asked"
    (tmp_path / "sudo").write_text(f'#!/bin/sh\n[ "$*" = "-n -l {local.starts}" ]\n')
    (tmp_path / "sudo").chmod(0o755)
    assert find_way(*both, asks=False).command == (str(tmp_path / "sudo"), "-n", str(local.starts))
    (tmp_path / "sudo").write_text("#!/bin/sh\nexit 1\n")
    assert find_way(*both, asks=False).command == ()
    shutil.copytree(SOURCE, packaged.folder)
    assert find_way(*both).command == (str(tmp_path / "pkexec"), str(packaged.starts))
    for place in (packaged, local):
        with (place.folder / "helper/found.py").open("a") as older:
            older.write("# as it was")
    assert "renew it with  sudo yondle helper install" in find_way(*both).missing


def test_what_only_root_may_read_is_a_fixed_list_read_no_oftener_than_it_changes(root: Path, client: Client) -> None:
    zone = root / "sys/class/powercap/package-rapl:0/energy_uj"
    kit = trees.memory_device(16384, 6000, 5600, "PL-6000").replace(b"DIMM A", b"SECRET")
    trees.put(root, {"dev/kmsg": "6,1,1,-;before"})
    table = root / "sys/firmware/dmi/tables/DMI"
    table.parent.mkdir(parents=True)
    table.write_bytes(b"\x01\x1b" + b"\0" * 25 + b"serial SECRET\0\0" + kit + b"\x7f\x04\0\0\0\0")
    assert client.ask(do="hello")["version"] == 2
    assert client.ask(do="energies")["energies"] == {"package-rapl:0": 1000000.0}
    zone.write_text("5000000")
    asked = [client.ask(do="energies")["energies"]["package-rapl:0"] for _ in range(5)]
    assert asked[0] == 1000000.0, "asked again at once, it gives what it saw last"
    time.sleep(0.06)
    assert client.ask(do="energies")["energies"]["package-rapl:0"] == 5000000.0
    assert client.ask(do="log")["log"] == []
    with (root / "dev/kmsg").open("a") as log:
        log.writelines(f"6,{i},1,-;{'x' * 900}\n" for i in range(200))
    said = client.ask(do="log")["log"]
    assert len(said) <= 64
    assert all(len(line) <= 512 for line in said)
    told = bytes.fromhex(client.ask(do="memory")["memory"])
    assert [module.part for module in modules_in(told)] == ["PL-6000"]
    assert b"SECRET" not in told, "what names a machine stays with root"
    for table_now in (b"", b"\xff" * 70000, b"\x11\x03\0\0", b"\x11\xff" + b"\0" * 20):
        table.write_bytes(table_now)
        assert client.ask(do="memory")["ok"]
    for wrong in ("energy", "kmsg", "../dev/kmsg", "log ", None, 5, ["log"], {"log": 1}):
        assert client.ask(do=wrong)["why"] == "unknown request"
    assert client.ask(do="log", path="/etc/shadow", root="/")["ok"], "what more is said is not heard"


def test_an_ordinary_user_sees_power_errors_and_modules_through_the_helper(root: Path, tmp_path: Path) -> None:
    """Stand-ins of files that only root may read: the rig sees them through the helper from the first pass on."""
    zone, kept = root / "sys/class/powercap/package-rapl:0/energy_uj", tmp_path / "as root"
    shutil.copytree(root, kept)
    zone.unlink()
    zone.mkdir()
    trees.put(kept, {"dev/kmsg": "", "sys/kernel/debug/pump": "flow: 4120 ml"})
    sensor = 'format = "yondle-own 1"\n[sensor.flow]\nname = "Flow"\nfile = "/sys/kernel/debug/pump"\nscale = 1000\n'
    for place in (root, kept):
        trees.put(place, {"etc/yondle/own.d/pump.toml": sensor})
        (place / "etc/yondle/own.d/pump.toml").chmod(0o644)
        (place / "etc/yondle/own.d").chmod(0o755)
    (kept / "sys/firmware/dmi/tables").mkdir(parents=True)
    (kept / "sys/firmware/dmi/tables/DMI").write_bytes(trees.memory_device(16384, 6000, 5600, "PL-6000"))
    times = iter(float(i) for i in range(100))
    line = HelperLine(command(kept))
    rig = ThisRig(NoHost(lambda: 0.0), lambda: next(times), root, line, owner=os.getuid())
    flow = next(i for i, channel in enumerate(rig.declaration.channels) if channel.id == "own_flow")
    power = next(i for i, channel in enumerate(rig.declaration.channels) if channel.id == "power_package_0")
    errors = next(i for i, channel in enumerate(rig.declaration.channels) if channel.id == "kernel_errors")
    before = rig.sample()
    assert (before[power], before[errors], before[flow]) == (None, None, None), "nobody was asked yet"
    assert not line.at_work
    rig.start("whole_numbers", 1.0, rig.declaration.stock)
    assert line.at_work
    rig.sample()
    (kept / "sys/class/powercap/package-rapl:0/energy_uj").write_text("91000000")
    with (kept / "dev/kmsg").open("a") as log:
        log.write("2,9,9,-;mce: [Hardware Error]: CPU 1: Machine Check: 0 Bank 5\n")
    time.sleep(0.06)
    seen = rig.sample()
    assert seen[power] is not None
    assert seen[power] > 0.0
    assert (seen[errors], seen[flow]) == (1.0, 4.12)
    assert rig.facts()["memory modules"] == "1 x 16 GiB at 5600 MT/s, made for 6000 MT/s"
    rig.close()


def test_who_declines_once_is_not_asked_again_and_tests_go_on(root: Path, tmp_path: Path) -> None:
    asked = tmp_path / "asked"
    line = HelperLine(("sh", "-c", f"echo once >> {asked}; exit 126"))
    rig = ThisRig(NoHost(lambda: 0.0), lambda: 0.0, root, line)
    for _ in range(3):
        rig.start("whole_numbers", 1.0, rig.declaration.stock)
        rig.sample()
    assert asked.read_text() == "once\n"
    rig.close()


class NoHost(ChildHost):
    """Starts nothing."""

    def start(self, workload: str, seconds: float, cpus: list[int]) -> Any:
        return None


def test_nobody_else_can_hold_the_helpers_lock(root: Path) -> None:
    folder = root / "run/yondle-helper"
    client = Client(root)
    assert client.ask(do="hello")["ok"]
    assert stat.S_IMODE(folder.stat().st_mode) == 0o700
    assert stat.S_IMODE((folder / "lock").stat().st_mode) == 0o600
    client.leave()
    folder.chmod(0o755)
    loose = Client(root)
    assert "own folder" in loose.say(b'{"n": 1, "do": "hello"}')["why"]
    loose.leave()
