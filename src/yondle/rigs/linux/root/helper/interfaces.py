"""How one value of the kernel is read, set and put back: numbers in files, words to choose from, fans, processors on line."""

from __future__ import annotations

import math
import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum
from pathlib import Path

POWER_AT_LEAST_W = 5.0
"""No part is left with less."""
MOST_PROCESSORS = 8192
FAN_AT_LEAST = 20.0
"""No fan is turned below this level in %: the helper can't know what it cools."""


class Why(Enum):
    """Why something that is there is not offered."""

    ONE_CHOICE = "one choice"
    NO_RANGE = "no range"
    NOT_PUT_BACK = "could not be put back"
    SWITCHED_OFF = "switched off elsewhere"
    ONLY_MANUAL = "only at level manual"
    NOT_WHAT_IS_SET = "shows what is, not what is set"
    HAS_NONE = "the processor has none"
    NOT_READ = "can't be read"
    WRONG = "described wrongly"
    DIFFERS = "its parts are at different values"
    LEADS_OUT = "leads out of the kernel's tree"
    BY_LIBRARY = "reached by its maker's library alone"
    NOT_TOLD = "can be set, but nothing tells what is set"


@dataclass(frozen=True)
class LeftOut:
    """Something that is there and not offered: what it would be, where, why, and what it says."""

    knob: str
    file: Path
    why: Why
    says: str = ""


class Interface:
    """One thing that can be set: numbers `scale` times as large in its files, or a choice of words (`scale` 1).

    What was found is a legal value, whatever the range.
    """

    def __init__(
        self,
        knob: str,
        files: Iterable[Path],
        low: float,
        high: float,
        scale: float = 1.0,
        choices: tuple[str, ...] = (),
        words: tuple[str, ...] = (),
    ) -> None:
        self.knob, self.files, self.low, self.high, self.scale = knob, tuple(files), low, high, scale
        self.choices = choices
        self._words = words or choices
        self._found = [(file, text) for file in self.files if (text := read(file)) is not None]
        self.at_start = self.value()

    def value(self) -> float | None:
        """Read the value in force; None where it can't be read, or where its files differ."""
        values = {self._value_of(text) for file in self.files if (text := read(file)) is not None}
        return values.pop() if len(values) == 1 else None

    def set(self, value: float) -> None:
        """Set a value that has been checked."""
        self._write(self._words[round(value)] if self.choices else str(round(value * self.scale)))

    def _write(self, text: str) -> None:
        for file in self.files:
            write(file, text)

    def put_back(self) -> None:
        """Write what was found at the start."""
        for file, text in self._found:
            write(file, bracketed(text))

    def _value_of(self, text: str) -> float | None:
        word = bracketed(text)
        if self.choices:
            return float(self._words.index(word)) if word in self._words else None
        found = finite(word)
        return None if found is None else round(found / self.scale, 6)


class Clipped(Interface):
    """A number in several files, each of which takes no more and no less than its own ends: the clocks of cores that differ."""

    def __init__(self, knob: str, files: dict[Path, tuple[float, float]], scale: float, highest: bool) -> None:
        self._ends, self._highest = files, highest
        super().__init__(
            knob, files, min(low for low, _ in files.values()), max(high for _, high in files.values()), scale
        )

    def value(self) -> float | None:
        """Read the value that every file has, as far as it takes it."""
        now = {file: self._value_of(text) for file in self.files if (text := read(file)) is not None}
        known = [v for v in now.values() if v is not None]
        if not known or len(known) < len(now):
            return None
        value = max(known) if self._highest else min(known)
        return value if all(v == self._clipped(file, value) for file, v in now.items()) else None

    def set(self, value: float) -> None:
        """Write to every file what it takes of a value."""
        for file in self.files:
            write(file, str(round(self._clipped(file, value) * self.scale)))

    def _clipped(self, file: Path, value: float) -> float:
        low, high = self._ends[file]
        return min(max(value, low), high)


class Online(Interface):
    """How many processors are on line; those that can't be taken off line stay, the last go first.

    Processors that are off line since second threads are switched off don't count as taken off.
    """

    def __init__(self, knob: str, files: tuple[Path, ...], fixed: int, threads: Path, seconds: frozenset[Path]) -> None:
        self._threads, self._seconds = threads, seconds
        super().__init__(knob, files, float(fixed), float(fixed + len(files)))

    def value(self) -> float | None:
        """Count those on line."""
        return self.low + sum(1 for file in self.files if read(file) == "1" or self._excused(file))

    def set(self, value: float) -> None:
        """Take processors on or off line, one after the other."""
        for i, file in enumerate(self.files):
            if not self._excused(file):
                write(file, "1" if i < round(value - self.low) else "0")

    def put_back(self) -> None:
        """Write what was found, where the switch of second threads lets it be written."""
        for file, text in self._found:
            if not self._excused(file):
                write(file, text)

    def _excused(self, file: Path) -> bool:
        return file in self._seconds and read(self._threads) == "off"


class Fan(Interface):
    """A fan's level in %; it has to be taken from its own control first, and is given back to it.

    As long as its own control has it, it is as it was found, however fast it turns.
    """

    def __init__(self, knob: str, level: Path, enable: Path) -> None:
        self._enable = enable
        self._mode = read(enable) or "2"
        super().__init__(knob, (level,), FAN_AT_LEAST, 100.0, 2.55)

    def value(self) -> float | None:
        """Read its level; while its own control has it, that in which it was found."""
        started = getattr(self, "at_start", None)
        own = self._mode not in ("0", "1") and read(self._enable) == self._mode
        return started if started is not None and own else super().value()

    def _value_of(self, text: str) -> float | None:
        found = super()._value_of(text)
        return None if found is None else float(round(found))

    def set(self, value: float) -> None:
        """Take the fan over and set its level."""
        write(self._enable, "1")
        super().set(value)

    def put_back(self) -> None:
        """Give the fan its level and its control back."""
        super().put_back()
        write(self._enable, self._mode)


def read(file: Path) -> str | None:
    """Read a small text file; None where that can't be."""
    try:
        with open(file, encoding="utf-8", errors="replace") as opened:
            return opened.read(65536).strip()
    except OSError:
        return None


def number(file: Path) -> float | None:
    """Read the number in a file; None where there is none."""
    return finite(read(file) or "")


def finite(word: str) -> float | None:
    """Give the number that a word is; None for what is none, or none that ends."""
    try:
        found = float(word)
    except ValueError:
        return None
    return found if math.isfinite(found) else None


def write(file: Path, text: str) -> None:
    """Write into a file that is there already and is no link; raises OSError."""
    handle = os.open(file, os.O_WRONLY | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        os.write(handle, text.encode())
    finally:
        os.close(handle)


def there(files: Iterable[Path]) -> tuple[Path, ...]:
    """Give the files that can be read."""
    return tuple(file for file in files if read(file) is not None)


def bracketed(text: str) -> str:
    """Of a row of words, the one in brackets; else the text itself."""
    found = re.search(r"\[(\S+)\]", text)
    return found.group(1) if found else text


def slug(name: str) -> str:
    """Make an identifier of a name."""
    return re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")


def cpus_in(text: str) -> set[int]:
    """Read a list of processors as the kernel writes it, 0-7,16; what is none is left out."""
    found: set[int] = set()
    for part in text.split(","):
        first, _, last = part.strip().partition("-")
        if first.isdecimal() and (last.isdecimal() or not last) and int(last or first) - int(first) < MOST_PROCESSORS:
            found |= set(range(int(first), int(last or first) + 1))
    return found
