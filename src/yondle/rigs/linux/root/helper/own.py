"""Knobs that an administrator has installed: files named in /etc/yondle/own.d, which only root may write.

The format is that of docs/own-file.md, of which the helper takes knobs with a file. A file that others than root could have
written is left out whole. Nothing is run: a knob with commands is for the tuner's own rights, not for root's.
"""

from __future__ import annotations

import os
import re
import stat
import tomllib
from collections.abc import Iterator
from pathlib import Path

from .interfaces import Interface, LeftOut, Why, finite

FOLDER = Path("etc/yondle/own.d")
NUMBER = r"([-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)"
LARGEST_FILE = 262144
MOST_KNOBS = 30


class Own(Interface):
    """A knob by a file; `entry` is what its description says besides."""

    def __init__(self, knob: str, entry: dict[str, object], root: Path) -> None:
        self.entry = entry
        file, choices = entry.get("file"), _words(entry, "choices")
        if not isinstance(file, str) or not file.startswith("/") or "\0" in file:
            raise ValueError("it names no file from / on")
        low, high = (0.0, len(choices) - 1.0) if choices else (_number(entry, "low"), _number(entry, "high"))
        scale, words = _number(entry, "scale", 1.0), _words(entry, "words") or choices
        if not low < high or scale <= 0.0 or len(words) != len(choices):
            raise ValueError("its range, its scale or its words make no sense")
        self._pattern = re.compile(str(entry.get("pattern", NUMBER)), re.MULTILINE)
        if self._pattern.groups != 1:
            raise ValueError("its pattern has to have one group")
        super().__init__(knob, (root / file.lstrip("/"),), low, high, scale, choices, words)

    def _value_of(self, text: str) -> float | None:
        if self.choices:
            return super()._value_of(text)
        found = {match.group(1) for match in self._pattern.finditer(text)}
        number = finite(found.pop()) if len(found) == 1 else None
        return None if number is None else round(number / self.scale, 9)

    def set(self, value: float) -> None:
        """Set a value that has been checked."""
        number = value * self.scale
        if not self.choices and abs(number - round(number)) > 1e-9:
            self._write(f"{number:.9f}".rstrip("0"))
        else:
            super().set(value)


def own(root: Path, owner: int) -> Iterator[Interface | LeftOut]:
    """Find the knobs an administrator has installed; `owner` is who has to own the files and their folder."""
    folder = root / FOLDER
    try:
        about = folder.lstat()
    except OSError:
        return
    if not stat.S_ISDIR(about.st_mode) or about.st_uid != owner or about.st_mode & 0o022:
        return
    many = 0
    for file in sorted(folder.glob("*.toml")):
        for name, entry in _knobs_in(file, owner):
            many += 1
            if many > MOST_KNOBS:
                return
            try:
                yield Own(f"own_{name}", entry, root)
            except (ValueError, OverflowError, RecursionError, re.error) as why:
                yield LeftOut(f"own_{name}", file, Why.WRONG, str(why))


def _knobs_in(file: Path, owner: int) -> Iterator[tuple[str, dict[str, object]]]:
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
    except OSError:
        return
    with open(handle, "rb") as opened:
        about = os.fstat(handle)
        regular = stat.S_ISREG(about.st_mode) and about.st_size <= LARGEST_FILE
        if about.st_uid != owner or about.st_mode & 0o022 or not regular:
            return
        try:
            table = tomllib.loads(opened.read().decode("utf-8"))
        except (ValueError, RecursionError):
            return
    knobs = table.get("knob") if table.get("format") == "yondle-own 1" else None
    for name, entry in knobs.items() if isinstance(knobs, dict) else ():
        if re.fullmatch(r"[a-z][a-z0-9_]{0,39}", name) and isinstance(entry, dict):
            yield name, entry


def _words(entry: dict[str, object], name: str) -> tuple[str, ...]:
    found = entry.get(name, [])
    if not isinstance(found, list) or not all(isinstance(word, str) and "\0" not in word for word in found):
        raise ValueError(f"{name} is no list of words")
    return tuple(found)


def _number(entry: dict[str, object], name: str, otherwise: float | None = None) -> float:
    found = entry.get(name, otherwise)
    number = finite(str(found)) if isinstance(found, int | float) and not isinstance(found, bool) else None
    if number is None:
        raise ValueError(f"{name} is no number")
    return number
