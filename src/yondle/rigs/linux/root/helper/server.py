"""The talk with whoever started the helper, and what it promises: nothing but numbers for known names, all put back.

It speaks JSON lines: {"n": 7, "do": "set", "knob": "large_pages", "value": 2} in, {"n": 7, "ok": true, "reads": 2.0} or
{"n": 7, "ok": false, "why": "..."} out; `n` has to grow. It knows the interfaces of `found.py` and no others, takes knob names
and numbers and never a path, and holds every value against the kernel's range and the ceilings in /etc/yondle/ceilings.toml,
which only root may write. What it found at its start it puts back when told to, when its input closes, when it is ended,
and when it has heard nothing for TIMEOUT_S.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import select
import signal
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path

from . import VERSION
from .found import find
from .interfaces import Interface, read
from .kept import BENCH, KEPT, NIGHT, STATE, TESTED, Refused, believed, ceilings, checked, durable, forget, own_lock
from .looks import Looks
from .watchdog import Watchdog

TIMEOUT_S = 15.0
LONGEST_LINE = 4096
BAD_LINES_AT_MOST = 32
ENDINGS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)


class Server:
    """Answers one client until it leaves, then puts everything back."""

    def __init__(self, root: Path, owner: int) -> None:
        self._root, self._owner = root, owner
        self._interfaces = find(root, owner)
        self._looks = Looks(root, owner)
        self._ceilings = ceilings(root, owner)
        self._watchdog = Watchdog(root)
        self._touched: list[str] = []
        self._last = 0
        self._tell_keeper()

    def answer(self, line: bytes) -> dict[str, object]:
        """Answer one line; whatever is wrong with it is an answer too."""
        number: object = None
        try:
            request = json.loads(line, parse_constant=_no_constant)
            if not isinstance(request, dict):
                raise Refused("a request is an object")
            number = request.get("n")
            if type(number) is not int or not self._last < number < 1 << 53:
                number = None
                raise Refused("the number of a request has to grow")
            self._last = number
            return {"n": number, "ok": True, **self._do(request)}
        except Refused as why:
            return {"n": number, "ok": False, "why": str(why)}
        except (ValueError, OverflowError, RecursionError):
            return {"n": number, "ok": False, "why": "that is no request"}
        except OSError as error:
            return {"n": number, "ok": False, "why": f"it was refused: {error.strerror}"}

    def put_back(self) -> list[str]:
        """Put back what was found, the last set first; gives what could not be."""
        self._watchdog.let_go()
        left = []
        for knob in reversed(self._touched):
            try:
                self._interfaces[knob].put_back()
            except OSError:
                left.append(knob)
        self._touched = left[::-1]
        return left

    def _do(self, request: dict[str, object]) -> dict[str, object]:
        match request.get("do"):
            case "hello":
                return {"version": VERSION, "timeout_s": TIMEOUT_S, "knobs": sorted(self._interfaces)}
            case "alive":
                return {}
            case "read":
                return {"reads": self._interface(request).value()}
            case "energies":
                return {"energies": self._looks.energies()}
            case "log":
                return {"log": self._looks.log()}
            case "own":
                return {"own": self._looks.own()}
            case "memory":
                return {"memory": self._looks.memory()}
            case "set":
                return self._set(self._interface(request), request.get("value"))
            case "put_back":
                return {"left": self.put_back()}
            case "guard":
                allows = (self._root / STATE / NIGHT, self._root / BENCH)
                if all(believed(each, self._owner) is None for each in allows):
                    raise Refused("nobody has allowed that this machine is restarted")
                return {"guarded": self._watchdog.arm()}
            case "feed":
                self._watchdog.feed()
                return {}
            case "unguard":
                self._watchdog.let_go()
                return {}
            case "night_over":
                forget(self._root / STATE / NIGHT)
                return {}
            case _:
                raise Refused("unknown request")

    def _tell_keeper(self) -> None:
        """Leave word that a Yondle is at work: what happens from now on is none of a kept profile's doing."""
        if (self._root / STATE / KEPT).exists():
            with contextlib.suppress(OSError):
                durable(self._root / STATE / TESTED, {"boot": read(self._root / "proc/sys/kernel/random/boot_id")})

    def _interface(self, request: dict[str, object]) -> Interface:
        knob = request.get("knob")
        if not isinstance(knob, str) or knob not in self._interfaces:
            raise Refused("the helper knows no such knob here")
        return self._interfaces[knob]

    def _set(self, interface: Interface, value: object) -> dict[str, object]:
        value = checked(interface, value, self._ceilings)
        if interface.knob not in self._touched:
            self._touched.append(interface.knob)
        if value == interface.at_start:
            interface.put_back()
        else:
            interface.set(value)
        return {"reads": interface.value()}


def _no_constant(name: str) -> float:
    raise Refused(f"{name} is no number")


def serve(root: Path, owner: int = 0, timeout_s: float = TIMEOUT_S, out: Callable[[str], None] | None = None) -> None:
    """Serve the standard input until it ends or falls silent; then put everything back."""
    say = out or _say
    try:
        held = own_lock(root)
    except OSError as why:
        say(json.dumps({"n": None, "ok": False, "why": f"its lock can't be had: {why}"}))
        return
    with open(held, "w", encoding="ascii") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            server = Server(root, owner)
        except (BlockingIOError, Refused, tomllib.TOMLDecodeError) as why:
            words = "another helper is at work" if isinstance(why, BlockingIOError) else str(why)
            say(json.dumps({"n": None, "ok": False, "why": words}))
            return
        for kind in ENDINGS:
            signal.signal(kind, lambda *_: sys.exit(0))
        try:
            _answer_lines(server, timeout_s, say)
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        finally:
            for kind in ENDINGS:
                signal.signal(kind, signal.SIG_IGN)
            server.put_back()


def _answer_lines(server: Server, timeout_s: float, say: Callable[[str], None]) -> None:
    waiting = b""
    bad = 0
    while bad < BAD_LINES_AT_MOST:
        if not select.select([0], [], [], timeout_s)[0]:
            return
        piece = os.read(0, LONGEST_LINE)
        if not piece:
            return
        *lines, waiting = (waiting + piece).split(b"\n")
        for line in lines:
            answer = server.answer(line)
            bad += answer["n"] is None
            say(json.dumps(answer))
        if len(waiting) > LONGEST_LINE:
            return


def _say(line: str) -> None:
    os.write(1, (line + "\n").encode())
