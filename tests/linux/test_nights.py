"""Plans that come back after a crash: who allows it, with whose rights, how often; and the watchdog of a frozen machine."""

from __future__ import annotations

import errno
import json
import os
import pwd
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from platformdirs import user_config_path
from tests.fakes import KeeperInMind, WatchdogInMind
from tests.linux.test_helper import Client
from tests.linux.trees import desktop, put

from yondle.app.plans.nights import Bounds, over_restarts
from yondle.app.session.session import Session
from yondle.app.system import kept_tells
from yondle.cli.keep_command import kept_lines
from yondle.model.errors import KnownError
from yondle.rigs.linux import guarding
from yondle.rigs.linux.guarding import PlanGuard
from yondle.rigs.linux.keeping import kept_now
from yondle.rigs.linux.root.helper import kept, nights
from yondle.rigs.linux.root.helper.kept import STATE, incidents
from yondle.rigs.linux.root.helper.nights import go_on, night_of
from yondle.rigs.linux.root.helper.watchdog import Watchdog
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost

DOG = "sys/class/watchdog/watchdog0"
LINE = """
import os
from yondle.rigs.linux.privilege import HelperLine, find_way
line = HelperLine(find_way(uid=1000).command)
import time
from yondle.model.errors import KnownError
time.sleep(2.0)
print("begun", line.begin(), line.ended == "", type(line._process).__name__)
line._process.stdin.close()
for _ in range(2):
    try:
        line.set("no_such_knob", 1.0)
    except KnownError as error:
        print(str(error.problem).split(",")[-1].strip())
line.close()
"""


@pytest.fixture
def root(tmp_path: Path) -> Path:
    desktop(tmp_path)
    return put(
        tmp_path, {"run/there": "", f"{DOG}/identity": "i6300ESB timer", f"{DOG}/nowayout": "0", "dev/watchdog0": ""}
    )


def night(root: Path, command: list[str], uid: int | None = None, an_hour: int = 3, in_all: int = 5) -> None:
    told = {"command": command, "book": "/b.yondle", "an_hour": an_hour, "in_all": in_all}
    put(root, {f"{STATE}/night.json": json.dumps(night_of(told, os.getuid() if uid is None else uid))})


def boot(root: Path, name: str) -> None:
    put(root, {"proc/sys/kernel/random/boot_id": name})
    go_on(root, os.getuid())


def test_a_watchdog_is_armed_only_where_somebody_allowed_it_and_let_go_of_at_the_end(root: Path) -> None:
    client = Client(root)
    assert "nobody has allowed" in client.ask(do="guard")["why"]
    night(root, ["/bin/true"])
    assert client.ask(do="guard") == {"n": 2, "ok": True, "guarded": "i6300ESB timer"}
    assert client.ask(do="feed")["ok"]
    assert (root / "dev/watchdog0").read_bytes() == b"\0", "fed"
    client.leave()
    assert (root / "dev/watchdog0").read_bytes() == b"\0V", "the magic character"
    put(root, {f"{DOG}/nowayout": "1"})
    client = Client(root)
    assert "nowayout" in client.ask(do="guard")["why"]
    (root / STATE / "night.json").rename(root / STATE / "night")
    put(root, {"etc/yondle/bench.json": "{}"})
    assert "nowayout" in client.ask(do="guard")["why"], "allowed by an administrator's file, for a bench"
    (root / "etc/yondle/bench.json").chmod(0o666)
    assert "could have been written by others" in client.ask(do="guard")["why"]
    (root / STATE / "night").rename(root / STATE / "night.json")
    (root / "etc/yondle/bench.json").unlink()
    assert client.ask(do="night_over")["ok"]
    assert not (root / STATE / "night.json").exists()
    client.leave()


def test_a_watchdog_that_somebody_else_has_is_left_alone(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    taken = Watchdog(root)
    with monkeypatch.context() as patched:
        patched.setattr(os, "open", lambda *_: (_ for _ in ()).throw(OSError(errno.EBUSY, "busy")))
        with pytest.raises(kept.Refused, match="in use by another program"):
            taken.arm()
    (root / DOG / "nowayout").unlink()
    put(
        root,
        {f"{DOG}/identity": "Software Watchdog", "sys/class/watchdog/watchdog1/identity": "board", "dev/watchdog1": ""},
    )
    both = Watchdog(root)
    assert both.arm() == "board", "hardware before software"
    both.let_go()
    assert (root / "dev/watchdog0").read_bytes() == b"\n"
    with pytest.raises(kept.Refused, match="has no watchdog"):
        Watchdog(root / "elsewhere").arm()


def test_a_guard_is_fed_between_passes_and_in_one_only_while_somebody_looks(
    root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(guarding, "FEEDS_EVERY_S", 0.02)
    told: list[str] = []
    host = ChildHost(lambda: 0.0)
    guard = PlanGuard(WatchdogInMind(told))
    rig = ThisRig(host, lambda: 0.0, root, guard=guard)

    class Run:
        def poll(self) -> Any:
            return None

        def stop(self) -> None:
            told.append("stopped")

    def feeds(within_s: float) -> int:
        before = len(told)
        time.sleep(within_s)
        return len(told) - before

    host.start = lambda *_: Run()  # type: ignore[method-assign,assignment,return-value]
    run = rig.start("spin", 10.0, rig.read_back())
    run.poll()
    run.stop()
    assert told == ["stopped"], "no plan is under way that may come back"
    told.clear()
    with guard.watching():
        assert told == ["guard"], "before the first value is set"
        assert feeds(0.3) >= 3, "whatever is done between passes"
        run = rig.start("spin", 10.0, rig.read_back())
        feeds(0.1)
        assert feeds(0.2) == 0, "a pass that nobody looks at any more"
        run.poll()
        assert feeds(0.2) == 1
        run.stop()
        assert feeds(0.3) >= 3
    assert told[-1] == "unguard"
    assert feeds(0.1) == 0
    rig.close()


@pytest.mark.skipif(os.getuid() != 0, reason="only root gives rights away")
def test_a_plan_comes_back_with_its_owners_rights_and_a_helper_of_its_own(
    root: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    nobody = pwd.getpwnam("nobody")
    night(root, ["/bin/sh", "-c", "id -u; id -G"], nobody.pw_uid)
    boot(root, "b1")
    assert capfd.readouterr().out.split() == [str(nobody.pw_uid), str(nobody.pw_gid)]
    assert not (root / STATE / "night.json").exists(), "it came to its end"
    night(root, [sys.executable, "-c", LINE])
    boot(root, "b2")
    said = capfd.readouterr().out.splitlines()
    assert said[0] == "begun True True GivenHelper"
    assert said[-1] == "and there is no other.", said
    assert not incidents(root)


@pytest.mark.skipif(os.getuid() != 0, reason="only root gives rights away")
def test_it_comes_back_no_oftener_than_it_may_and_an_end_in_error_is_told(
    root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    came: list[Mapping[str, object]] = []

    def goes_down(told: Mapping[str, object]) -> None:
        came.append(told)

    with monkeypatch.context() as patched:
        patched.setattr(nights, "_run", goes_down)
        night(root, ["/bin/true"])
        for number in range(6):
            boot(root, f"b{number}")
        assert len(came) == 3, "three times an hour"
        assert "went down 4 times in this plan, 4 of them within an hour" in str(incidents(root)[-1]["why"])
        assert str(incidents(root)[-1]["why"]).startswith("the machine, or the program")
        night(root, ["/bin/true"])
        boot(root, "c1")
        boot(root, "c1")
        assert len(came) == 4, "once in a boot"
        assert not (root / STATE / "night.json").exists()
    night(root, ["/bin/sh", "-c", f"echo came >> {root}/came; kill -9 $$"])
    boot(root, "c9")
    assert (root / "came").read_text().split() == ["came"] * 3, "one that was killed comes back, as often as it may"
    assert "went down 4 times" in str(incidents(root)[-1]["why"])
    night(root, ["/bin/false"])
    boot(root, "d1")
    assert incidents(root)[-1]["why"] == "the plan ended with code 1"
    put(root, {f"{STATE}/night.json": "{"})
    boot(root, "d2")
    (root / STATE / "night.json").chmod(0o666)
    boot(root, "d3")


@pytest.mark.parametrize(
    "change",
    [
        {"command": []}, {"command": ["sh"]}, {"command": ["/bin/sh", 3]}, {"command": "/bin/sh"}, {"an_hour": 0},
        {"in_all": 10**6}, {"an_hour": True}, {"book": None}, {"more": 1}, {"command": ["/bin/sh", "a\0b"]},
    ],
)  # fmt: skip
def test_a_request_for_a_night_that_is_none_is_refused(change: dict[str, Any]) -> None:
    with pytest.raises(kept.Refused):
        night_of({"command": ["/bin/true"], "book": "/b", "an_hour": 1, "in_all": 1, **change}, 0)


def test_a_simulated_rig_and_a_machine_without_a_way_back_begin_no_night(session: Session, tmp_path: Path) -> None:
    with pytest.raises(KnownError, match="simulated rig"), over_restarts(session, Bounds()):
        pass
    here = SimpleNamespace(
        logbook=SimpleNamespace(path=tmp_path / "b.yondle"),
        machine=SimpleNamespace(bench=None, guard=None, keeper=(keeper := KeeperInMind())),
    )
    with pytest.raises(KnownError, match="Nothing can bring a plan back"), over_restarts(here, Bounds()):  # type: ignore[arg-type]
        pass
    assert not keeper.told, "nobody is asked for nothing"


def test_what_came_back_and_what_went_wrong_is_told_once_after_a_login(
    root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    said: list[str] = []
    monkeypatch.setattr(kept_tells, "notify", lambda title, words: said.append(words))
    night(root, ["/bin/true"])
    assert not kept_tells.tell_now(kept_now(root, os.getuid()))
    with monkeypatch.context() as patched:
        patched.setattr(nights, "_run", lambda told: None)
        boot(root, "b1")
    assert kept_tells.tell_now(kept_now(root, os.getuid()))
    assert not kept_tells.tell_now(kept_now(root, os.getuid())), "once"
    assert said == ["The plan of /b.yondle goes on; it came back 1 time so far."]
    assert kept_lines(kept_now(root, os.getuid()))[1].startswith("The plan of /b.yondle goes on by itself")
    put(root, {f"{STATE}/stopped.json": json.dumps({"why": "the machine went down twice within a week"})})
    line = {"at": "2026-11-29T02:10:00+01:00", "why": "the machine went down, or lost its power", "name": "Daily"}
    put(root, {f"{STATE}/incidents.jsonl": json.dumps(line)})
    assert kept_tells.tell_now(kept_now(root, os.getuid()))
    assert said[-1].startswith("Daily: the machine went down, or lost its power. This machine stays at stock")
    assert kept_tells.tell_at_login()
    entry = user_config_path() / "autostart" / kept_tells.NAME
    assert "keep --notify" in entry.read_text()
    (root / STATE / "night.json").unlink()
    (root / STATE / "stopped.json").unlink()
    kept_tells.tell_now(kept_now(root, os.getuid()))
    assert not entry.exists(), "nothing is kept any more"
