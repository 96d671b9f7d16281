"""Stopping a test from another program: a small file beside the logbook, looked at while a test runs.

Whoever may write the logbook's folder may stop its tests, no one else: the file is believed only from the user the
test belongs to, and from root. It holds one word of WORDS and is taken away by whoever heeds it.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from yondle.engine.requests import Request
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.logbook.store import must_be_there, writer_of
from yondle.model.errors import KnownError

WORDS = {"stop": Request.STOP, "emergency": Request.HALT}
LOOKED_AT_S = 0.2
HEEDED_WITHIN_S = 3.0
"""A program that runs a test looks every LOOKED_AT_S; one that hasn't by then runs none."""


def stop_file(logbook: Path) -> Path:
    """Where another program puts down that the test of a logbook has to stop."""
    return logbook.with_name(logbook.name + ".stop")


class StopsFromOutside:
    """What other programs ask of the tests of a logbook; `now` gives the seconds of a real clock."""

    def __init__(self, logbook: Path, now: Callable[[], float]) -> None:
        self._file = stop_file(logbook)
        self._now = now
        self._looked_at = now()

    def look(self) -> Request | None:
        """Give what is asked, once."""
        now = self._now()
        if now - self._looked_at < LOOKED_AT_S:
            return None
        self._looked_at = now
        try:
            about = self._file.lstat()
        except OSError:
            return None
        asked = _word(self._file) if about.st_uid in (os.getuid(), 0) else ""
        self.forget()
        return WORDS.get(asked)

    def forget(self) -> None:
        """Take away what was asked of a test that is over."""
        try:
            self._file.unlink(missing_ok=True)
        except OSError:
            return


def ask_to_stop(logbook: Path, emergency: bool, wait: Callable[[float], None]) -> None:
    """Have the program that holds a logbook stop what it tests; returns once it has heard.

    Raises KnownError where no program holds it, and where the one that does runs no test.
    """
    must_be_there(logbook)
    if writer_of(logbook) is None:
        raise KnownError(
            say("{path} is open in no program, so nothing runs.", path=logbook), say("Nothing has to be stopped.")
        )
    file = stop_file(logbook)
    write_whole(file, "emergency" if emergency else "stop")
    left = HEEDED_WITHIN_S
    while file.exists() and left > 0:
        wait(LOOKED_AT_S)
        left -= LOOKED_AT_S
    if file.exists():
        file.unlink(missing_ok=True)
        raise KnownError(
            say("{path} is open, but no test of it runs.", path=logbook), say("Nothing has to be stopped.")
        )


def _word(file: Path) -> str:
    try:
        with open(os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC), encoding="ascii", errors="replace") as f:
            return f.read(20).strip()
    except OSError:
        return ""
