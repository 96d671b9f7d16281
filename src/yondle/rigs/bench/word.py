"""What an agent leaves word of on its bench: that it is at work, for whom, and how it ended. One at a time."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from yondle.language.saying import say
from yondle.model.errors import KnownError

ENDS_WITHIN_S = 30.0
_LONGEST = 1 << 14


class Word:
    """A file that only one agent of a user holds at a time, and what the one before it wrote there."""

    def __init__(self, file: Path, boot: str) -> None:
        self._boot = boot
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._file = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        self.before = self._read()
        self._mine = False

    def take(self, session: str) -> None:
        """Have the bench for a session, and end an agent of the same one, whose line is dead: first it is asked to.

        Raises KnownError while another session has it.
        """
        until = time.monotonic() + ENDS_WITHIN_S
        while not self._locked():
            there = self._read()
            pid = there.get("pid")
            if there.get("session") != session or there.get("boot") != self._boot or type(pid) is not int:
                raise KnownError(
                    say("Another Yondle works on this bench already."),
                    say("Close the logbook that has it, or wait until it is done."),
                )
            if time.monotonic() > until:
                raise KnownError(
                    say("The agent before this one doesn't end."),
                    say("Log in on the bench and end it: kill {pid}", pid=pid),
                )
            late = time.monotonic() > until - ENDS_WITHIN_S / 2
            for each in (signal.SIGKILL,) if late else (signal.SIGTERM, signal.SIGCONT):
                with suppress(OSError):
                    os.kill(pid, each)
            time.sleep(0.2)
        self.before = self._read()
        self._mine = True
        self._write({"session": session, "pid": os.getpid(), "boot": self._boot, "ended": ""})

    def end(self, why: str) -> None:
        """Leave word of how it ended, with everything put back."""
        if self._mine:
            self._write({**self._read(), "ended": why})
        os.close(self._file)

    def _locked(self) -> bool:
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        return True

    def _read(self) -> dict[str, Any]:
        try:
            told = json.loads(os.pread(self._file, _LONGEST, 0))
        except ValueError:
            return {}
        return told if isinstance(told, dict) else {}

    def _write(self, told: dict[str, Any]) -> None:
        text = json.dumps(told).encode()
        os.pwrite(self._file, text, 0)
        os.ftruncate(self._file, len(text))
        os.fsync(self._file)
