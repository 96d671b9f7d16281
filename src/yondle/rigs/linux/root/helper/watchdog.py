"""A watchdog: a timer of the machine's that restarts it unless it is fed (Documentation/watchdog/watchdog-api.rst)."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import struct
from pathlib import Path

from .interfaces import number, read
from .kept import Refused

TIMEOUT_S = 60
"""A frozen machine stands for so long before it restarts."""
_SET_TIMEOUT = 0xC0045706
"""WDIOC_SETTIMEOUT of linux/watchdog.h."""
_SOFTWARE = "Software Watchdog"


class Watchdog:
    """Armed for a plan and fed in it; let go of with the magic character, after which it restarts nothing."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._handle: int | None = None

    def arm(self) -> str:
        """Arm one, hardware before software, and give its name; raises Refused where there is none that could be let go of."""
        if self._handle is not None:
            self.feed()
            return ""
        found = sorted((self._root / "sys/class/watchdog").glob("watchdog*"))
        found.sort(key=lambda each: read(each / "identity") == _SOFTWARE)
        why = "this machine has no watchdog"
        for each in found:
            if number(each / "nowayout"):
                why = "its watchdog can't be let go of again (nowayout)"
                continue
            try:
                handle = os.open(self._root / "dev" / each.name, os.O_WRONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
            except OSError as error:
                busy = error.errno == errno.EBUSY
                why = "its watchdog is in use by another program" if busy else f"its watchdog: {error.strerror}"
                continue
            self._handle = handle
            with contextlib.suppress(OSError):
                fcntl.ioctl(handle, _SET_TIMEOUT, struct.pack("i", TIMEOUT_S))
            return read(each / "identity") or each.name
        raise Refused(why)

    def feed(self) -> None:
        """Tell it that all is well; harmless where none is armed."""
        if self._handle is not None:
            os.write(self._handle, b"\0")

    def let_go(self) -> None:
        """Disarm it; harmless where none is armed."""
        handle, self._handle = self._handle, None
        if handle is not None:
            with contextlib.suppress(OSError):
                os.write(handle, b"V")
            os.close(handle)
