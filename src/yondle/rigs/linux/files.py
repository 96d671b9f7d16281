"""The kernel's small text files, read often and cheaply: each is kept open and read again from its beginning."""

from __future__ import annotations

import math
import os
import time
from collections.abc import Iterator
from pathlib import Path

_LONGEST = 65536
_SHORT = 64
_LOOK_AGAIN_S = 2.0
"""How long a file that has gone is left alone: devices come back, but not between two samples."""


class Source:
    """One file that may go and come back, as parts are plugged in and drivers loaded."""

    def __init__(self, path: Path, longest: int = _SHORT) -> None:
        self._name = str(path)
        self._longest = longest
        self._handle: int | None = None
        self._not_before = 0.0

    def text(self) -> str | None:
        """Read the file; None while it isn't there or gives nothing."""
        said = self._bytes()
        return None if said is None else said.decode("utf-8", "replace")

    def number(self) -> float | None:
        """Read the number in the file."""
        said = self._bytes()
        return None if said is None else _finite(said)

    def _bytes(self) -> bytes | None:
        handle = self._handle
        try:
            if handle is None:
                if self._not_before and time.monotonic() < self._not_before:
                    return None
                handle = self._handle = os.open(self._name, os.O_RDONLY | os.O_CLOEXEC)
            return os.pread(handle, self._longest, 0)
        except OSError:
            self.close()
            self._not_before = time.monotonic() + _LOOK_AGAIN_S
            return None

    @property
    def handle(self) -> int | None:
        """The open file's descriptor, None while it isn't open."""
        return self._handle

    def close(self) -> None:
        """Let go of the file."""
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None


class Bank:
    """Many files of one number each, read together: `read` gives each number over its scale, None where there is none.

    Those that could be read are read in one tight loop; one that fails is read by itself from then on.
    """

    def __init__(self, sources: list[tuple[Source, float]]) -> None:
        self._sources = sources
        self._sound: list[int] = []
        self._open: list[tuple[int, float]] = []
        self._ailing = list(range(len(sources)))

    def read(self) -> list[float | None]:
        """Read every source once, scaled; None where one can't be read now, which is tried by itself the next time."""
        values: list[float | None] = [None] * len(self._sources)
        try:
            sound = [float(os.pread(handle, _SHORT, 0)) / scale for handle, scale in self._open]
            if not all(map(math.isfinite, sound)):
                raise ValueError
        except (OSError, ValueError):
            self._sound, self._open, self._ailing = [], [], list(range(len(self._sources)))
        else:
            for i, value in zip(self._sound, sound, strict=True):
                values[i] = value
        if self._ailing:
            self._look_after(values)
        return values

    def _look_after(self, values: list[float | None]) -> None:
        still = []
        for i in self._ailing:
            source, scale = self._sources[i]
            number = source.number()
            if number is None or source.handle is None:
                still.append(i)
            else:
                values[i] = number / scale
                self._sound.append(i)
                self._open.append((source.handle, scale))
        self._ailing = still


class Tree:
    """The folder all the kernel's files are found under: '/' in use, a stand-in in tests. Keeps track of open sources."""

    def __init__(self, root: Path = Path("/")) -> None:
        self.root = root
        self._sources: list[Source] = []

    def source(self, path: Path | str, long: bool = False) -> Source:
        """Give a file that will be read often."""
        source = Source(self.root / path, _LONGEST if long else _SHORT)
        self._sources.append(source)
        return source

    def text(self, path: Path | str) -> str:
        """Read a file once; '' where that can't be."""
        try:
            with open(self.root / path, encoding="utf-8", errors="replace") as opened:
                return opened.read(_LONGEST).strip()
        except OSError:
            return ""

    def number(self, path: Path | str) -> float | None:
        """Read the number in a file once."""
        return _finite(self.text(path))

    def found(self, pattern: str) -> Iterator[Path]:
        """Find files and folders by a pattern, in the order people count in."""
        yield from sorted(self.root.glob(pattern), key=lambda path: (len(path.name), path.name))

    def close(self) -> None:
        """Let go of every file."""
        for source in self._sources:
            source.close()


def _finite(text: str | bytes) -> float | None:
    """Give the number that a text is; None for what is none, or none that ends."""
    try:
        number = float(text)
    except ValueError:
        return None
    return number if math.isfinite(number) else None
