"""Brings a plan back after the machine went down in it, without a login: what the tuner allowed for this plan, and no more.

`night.json` says whose plan it is, what starts it, and how often it may come back. The plan runs with its owner's rights; what it
may set it sets through a helper that is started for it. A plan that comes to its end, or back too often, takes the file away.
"""

from __future__ import annotations

import contextlib
import os
import pwd
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

from .interfaces import read
from .kept import INCIDENTS, NIGHT, STATE, Refused, add_line, believed, durable, forget, wall

LONGEST_COMMAND, MOST_STARTS = 20, 1000
HOUR_S = 3600.0
HELPER = "YONDLE_HELPER"
"""The variable that tells a plan by which two open files it reaches its helper: one to read, one to write."""


def night_of(told: object, uid: int) -> dict[str, object]:
    """Give a night as it is kept; raises Refused for what is none. `uid` is who asks, and whose rights the plan gets."""
    if not isinstance(told, dict) or set(told) != {"command", "book", "an_hour", "in_all"}:
        raise Refused("a night has a command, a book, and how often it may come back in an hour and in all")
    command, bounds = told["command"], (told["an_hour"], told["in_all"])
    if not isinstance(command, list) or not 0 < len(command) <= LONGEST_COMMAND:
        raise Refused("a command is a list of words")
    if not all(isinstance(word, str) and len(word) <= 4096 and "\0" not in word for word in (*command, told["book"])):
        raise Refused("a command is a list of words")
    if not command[0].startswith("/"):
        raise Refused("a command is named from / on")
    if not all(type(each) is int and 0 < each <= MOST_STARTS for each in bounds):
        raise Refused(f"a plan may come back 1 to {MOST_STARTS} times")
    return {"uid": uid, "starts": [], **told}


def go_on(root: Path, owner: int = 0) -> None:
    """Bring the plan back, and wait for its end; the service runs this at every start. One that was killed comes back, too."""
    file = root / STATE / NIGHT
    boot = read(root / "proc/sys/kernel/random/boot_id") or ""
    try:
        night = believed(file, owner)
        if night is None:
            return
        starts = _starts(night)
        if starts and starts[-1][0] == boot:
            _over(root, "what brings the plan back was ended in this boot", night)
            return
        code: int | None = -1
        while code is not None and code < 0:
            now = time.time()
            starts.append((boot, now))
            lately = sum(abs(now - at) < HOUR_S for _, at in starts)
            if lately > int(str(night["an_hour"])) or len(starts) > int(str(night["in_all"])):
                why = f"the machine, or the program, went down {len(starts)} times in this plan, {lately} of them within an hour"
                _over(root, why, night)
                return
            durable(file, {**night, "starts": starts})
            code = _run(night)
        if code is not None:
            _over(root, "" if code == 0 else f"the plan ended with code {code}", night)
    except (Refused, OSError, KeyError, TypeError, ValueError) as why:
        print(f"the plan doesn't come back: {why}", flush=True)


def _run(night: dict[str, object]) -> int | None:
    """Run the plan with its owner's rights; gives its exit code, None where the machine shuts down."""
    who = pwd.getpwuid(int(str(night["uid"])))
    command = night["command"]
    assert isinstance(command, list)
    ended: list[int] = []
    before = signal.signal(signal.SIGTERM, lambda *_: ended.append(1))
    (for_helper, to_helper), (from_helper, of_helper) = os.pipe(), os.pipe()
    helper: subprocess.Popen[bytes] | None = None
    try:
        plan = subprocess.Popen(
            command, user=who.pw_uid, group=who.pw_gid, extra_groups=os.getgrouplist(who.pw_name, who.pw_gid),
            cwd=who.pw_dir if os.path.isdir(who.pw_dir) else "/", pass_fds=(from_helper, to_helper),
            stdin=subprocess.DEVNULL, env=_environment(who, (from_helper, to_helper)),
        )  # fmt: skip
        os.close(to_helper)
        os.close(from_helper)
        while plan.poll() is None:
            if ended and ended[0] == 1:
                plan.send_signal(signal.SIGINT)
                ended[0] = 2
            if helper is None and select.select([for_helper], [], [], 1.0)[0]:
                helper = _helper(for_helper, of_helper)
            elif helper is not None:
                with contextlib.suppress(subprocess.TimeoutExpired):
                    plan.wait(1.0)
        if helper is not None:
            with contextlib.suppress(subprocess.TimeoutExpired):
                helper.wait(30.0)
    finally:
        if helper is not None:
            helper.terminate()
            helper.wait()
        signal.signal(signal.SIGTERM, before)
    return None if ended else plan.returncode


def _helper(reads: int, writes: int) -> subprocess.Popen[bytes]:
    """Start the helper with the first that is asked of it: it doesn't wait long for somebody who says nothing."""
    made = subprocess.Popen(
        [sys.executable, "-IB", str(Path(__file__).parent.parent)], stdin=reads, stdout=writes, start_new_session=True
    )
    os.close(reads)
    os.close(writes)
    return made


def _environment(who: pwd.struct_passwd, handles: tuple[int, int]) -> dict[str, str]:
    return {
        "HOME": who.pw_dir, "USER": who.pw_name, "LOGNAME": who.pw_name, "SHELL": who.pw_shell, "LANG": "C.UTF-8",
        "PATH": "/usr/local/bin:/usr/bin:/bin", HELPER: f"{handles[0]},{handles[1]}",
    }  # fmt: skip


def _starts(night: dict[str, object]) -> list[tuple[str, float]]:
    told = night.get("starts")
    return [(str(boot), float(at)) for boot, at in told] if isinstance(told, list) else []


def _over(root: Path, why: str, night: dict[str, object]) -> None:
    """End the night; what is told of it is told to everybody."""
    if why:
        add_line(root / STATE / INCIDENTS, {"at": wall(), "why": why, "name": str(night.get("book")), "night": True})
        print(f"the plan doesn't come back: {why}", flush=True)
    forget(root / STATE / NIGHT)
