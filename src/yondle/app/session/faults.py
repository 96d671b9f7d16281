"""Faults on purpose, for the crash tests: kill the program at a chosen record. Off unless YONDLE_FAULT is set."""

from __future__ import annotations

import os
import re
import signal
from typing import NoReturn

from yondle.engine.ports import Recorder
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.events import Durable

VARIABLE = "YONDLE_FAULT"


def kill_self() -> NoReturn:
    """End this process the way a power cut does: at once, with nothing run after it."""
    os.kill(os.getpid(), signal.SIGKILL)
    raise SystemExit("unreachable: SIGKILL can't be ignored")


class KillingRecorder:
    """Hands records on and kills the program before or after the n-th of them."""

    def __init__(self, recorder: Recorder, when: str, nth: int) -> None:
        self._recorder = recorder
        self._when = when
        self._left = nth

    def take(self, record: Durable) -> None:
        """Take a record, or die over it."""
        self._left -= 1
        if self._left == 0 and self._when == "before":
            kill_self()
        self._recorder.take(record)
        if self._left == 0 and self._when == "after":
            kill_self()


def with_faults(recorder: Recorder, wanted: str | None) -> Recorder:
    """Wrap a recorder with the fault asked for, 'kill before 17' or 'kill after 17'."""
    if not wanted:
        return recorder
    match = re.fullmatch(r"kill (before|after) (\d+)", wanted)
    if match is None:
        raise KnownError(
            say("{variable} is set to '{wanted}'.", variable=VARIABLE, wanted=wanted),
            say("Unset it, or set it to 'kill before N' or 'kill after N'."),
        )
    return KillingRecorder(recorder, match[1], int(match[2]))
