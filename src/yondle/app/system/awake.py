"""Keeps the machine from falling asleep while a test runs, by a program most have for it (systemd-inhibit)."""

from __future__ import annotations

import shutil
import subprocess

from yondle.language.saying import say
from yondle.model.events import AttemptClosed, Record, StepOpened

_INHIBIT = "systemd-inhibit"
"""Holds as long as what it runs does: `cat` ends when its input is closed, so also when Yondle dies."""
_END_WITHIN_S = 5.0
LONG_S = 60.0
"""A test that took less is over while one looks."""


class KeepsAwake:
    """Hears a session's records; from a step's opening until its attempt is closed the machine stays awake."""

    def __init__(self) -> None:
        self._holding: subprocess.Popen[bytes] | None = None

    def take(self, record: Record) -> None:
        """Begin with the first test, end with its closing."""
        if isinstance(record, StepOpened):
            self._hold()
        elif isinstance(record, AttemptClosed):
            self.let_go()

    def let_go(self) -> None:
        """Let the machine sleep again."""
        if self._holding is not None:
            assert self._holding.stdin is not None
            self._holding.stdin.close()
            try:
                self._holding.wait(_END_WITHIN_S)
            except subprocess.TimeoutExpired:
                self._holding.kill()
                self._holding.wait()
            self._holding = None

    def _hold(self) -> None:
        program = shutil.which(_INHIBIT)
        if program is not None and self._holding is None:
            why = say("A setting is on trial")
            command = (program, "--what=sleep:idle", "--who=Yondle", f"--why={why}", "--mode=block", "cat")
            quiet = subprocess.DEVNULL
            self._holding = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=quiet, stderr=quiet)
