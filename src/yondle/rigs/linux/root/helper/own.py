"""Knobs and sensors that an administrator has installed: files named in /etc/yondle/own.d, which only root may write.

The format is that of docs/own-file.md, of which the helper takes what has a file. A file that others than root could have
written is left out whole. Nothing is run: what has commands is for the tuner's own rights, not for root's.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from .interfaces import Interface, LeftOut, Why, finite

FOLDER = Path("etc/yondle/own.d")
NUMBER = r"([-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)"
LARGEST_FILE = 262144
LARGEST_ANSWER = 65536
MOST_OF_A_KIND = 30
Entry = dict[str, object]


class Own(Interface):
    """A knob by a file; `entry` is what its description says besides."""

    def __init__(self, knob: str, entry: Entry, root: Path) -> None:
        self.entry = entry
        file, choices = _file(entry, root), _words(entry, "choices")
        low, high = (0.0, len(choices) - 1.0) if choices else (_number(entry, "low"), _number(entry, "high"))
        scale, words = _number(entry, "scale", 1.0), _words(entry, "words") or choices
        if not low < high or scale <= 0.0 or len(words) != len(choices):
            raise ValueError("its range, its scale or its words make no sense")
        self._pattern = _pattern(entry)
        super().__init__(knob, (file,), low, high, scale, choices, words)

    def _value_of(self, text: str) -> float | None:
        if self.choices:
            return super()._value_of(text)
        number = _number_in(text, self._pattern)
        return None if number is None else round(number / self.scale, 9)

    def set(self, value: float) -> None:
        """Set a value that has been checked."""
        number = value * self.scale
        if not self.choices and abs(number - round(number)) > 1e-9:
            self._write(f"{number:.9f}".rstrip("0"))
        else:
            super().set(value)


class OwnSensor:
    """A sensor by a file; `entry` is what its description says besides."""

    def __init__(self, name: str, entry: Entry, root: Path) -> None:
        self.name, self.entry = name, entry
        self.file, self._scale, self._pattern = _file(entry, root), _number(entry, "scale", 1.0), _pattern(entry)
        if self._scale <= 0.0:
            raise ValueError("its scale makes no sense")

    def value(self) -> float | None:
        """Read it; None where there is no number, or several that differ, and of what is no file."""
        try:
            handle = os.open(self.file, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
            try:
                regular = stat.S_ISREG(os.fstat(handle).st_mode)
                text = os.read(handle, LARGEST_ANSWER).decode("utf-8", "replace") if regular else ""
            finally:
                os.close(handle)
        except OSError:
            return None
        number = _number_in(text, self._pattern)
        return None if number is None else round(number / self._scale, 9)


def own(root: Path, owner: int) -> Iterator[Interface | LeftOut]:
    """Find the knobs an administrator has installed; `owner` is who has to own the files and their folder."""
    for name, entry, file in _entries(root, owner, "knob"):
        try:
            yield Own(f"own_{name}", entry, root)
        except (ValueError, OverflowError, RecursionError, re.error) as why:
            yield LeftOut(f"own_{name}", file, Why.WRONG, str(why))


def own_sensors(root: Path, owner: int) -> list[OwnSensor | LeftOut]:
    """Find the sensors an administrator has installed; one that is described wrongly with what is wrong."""
    found: list[OwnSensor | LeftOut] = []
    for name, entry, file in _entries(root, owner, "sensor"):
        try:
            found.append(OwnSensor(f"own_{name}", entry, root))
        except (ValueError, OverflowError, RecursionError, re.error) as why:
            found.append(LeftOut(f"own_{name}", file, Why.WRONG, str(why)))
    return found


def _entries(root: Path, owner: int, kind: str) -> Iterator[tuple[str, Entry, Path]]:
    """Give what is described of a kind, by name, with the file it stands in; no more than there may be."""
    folder = root / FOLDER
    try:
        about = folder.lstat()
    except OSError:
        return
    if not stat.S_ISDIR(about.st_mode) or about.st_uid != owner or about.st_mode & 0o022:
        return
    each = ((name, entry, file) for file in sorted(folder.glob("*.toml")) for name, entry in _of(file, owner, kind))
    yield from islice(each, MOST_OF_A_KIND)


def _of(file: Path, owner: int, kind: str) -> Iterator[tuple[str, Entry]]:
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
    except OSError:
        return
    with open(handle, "rb") as opened:
        about = os.fstat(handle)
        regular = stat.S_ISREG(about.st_mode) and about.st_size <= LARGEST_FILE
        if about.st_uid != owner or about.st_mode & 0o022 or not regular:
            return
        import tomllib

        try:
            table = tomllib.loads(opened.read().decode("utf-8"))
        except (ValueError, RecursionError):
            return
    told = table.get(kind) if table.get("format") == "yondle-own 1" else None
    for name, entry in told.items() if isinstance(told, dict) else ():
        if re.fullmatch(r"[a-z][a-z0-9_]{0,39}", name) and isinstance(entry, dict):
            yield name, entry


def _file(entry: Entry, root: Path) -> Path:
    file = entry.get("file")
    if not isinstance(file, str) or not file.startswith("/") or "\0" in file:
        raise ValueError("it names no file from / on")
    return root / file.lstrip("/")


def _pattern(entry: Entry) -> re.Pattern[str]:
    pattern = re.compile(str(entry.get("pattern", NUMBER)), re.MULTILINE)
    if pattern.groups != 1:
        raise ValueError("its pattern has to have one group")
    return pattern


def _number_in(text: str, pattern: re.Pattern[str]) -> float | None:
    found = {match.group(1) for match in pattern.finditer(text)}
    return finite(found.pop()) if len(found) == 1 else None


def _words(entry: Entry, name: str) -> tuple[str, ...]:
    found = entry.get(name, [])
    if not isinstance(found, list) or not all(isinstance(word, str) and "\0" not in word for word in found):
        raise ValueError(f"{name} is no list of words")
    return tuple(found)


def _number(entry: Entry, name: str, otherwise: float | None = None) -> float:
    found = entry.get(name, otherwise)
    number = finite(str(found)) if isinstance(found, int | float) and not isinstance(found, bool) else None
    if number is None:
        raise ValueError(f"{name} is no number")
    return number
