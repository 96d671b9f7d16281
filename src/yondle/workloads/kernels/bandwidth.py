"""Bandwidth: memory read, written, copied and combined (a = b + s·c), over arrays far larger than the caches.

Bytes are counted as the program asks for them: 8 a word read, 8 written, 16 copied, 24 combined. What the caches fetch
besides, before they write, isn't counted. Whole numbers are read and written, so that the sums are exact in any order.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager

import numba
import numpy as np
from numpy.typing import NDArray

from yondle.language.saying import say
from yondle.workloads.kernels.compiling import compiled
from yondle.workloads.kernels.memory_size import MIB, last_level_cache, may_take
from yondle.workloads.kernels.serve import CannotRun, Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings, rates

CACHES = 8
"""Each array is this many times the last-level cache."""

LEAST_BYTES = 64 * MIB
SAMPLE_EVERY = 509
FACTOR = 3.0
WORDS_MOVED = {"read": 1, "write": 1, "copy": 2, "combine": 3}

Integers = NDArray[np.int64]
Doubles = NDArray[np.float64]


@compiled()
def read(a: Integers) -> int:
    """Add all words up."""
    total = np.int64(0)
    for i in range(a.size):
        total += a[i]
    return int(total)


@compiled()
def write(a: Integers, value: int) -> None:
    """Put one value into all words."""
    for i in range(a.size):
        a[i] = value


@compiled()
def copy(a: Integers, b: Integers) -> None:
    """Copy b to a."""
    for i in range(a.size):
        a[i] = b[i]


@compiled()
def combine(a: Doubles, b: Doubles, c: Doubles, factor: float) -> None:
    """Put b + factor·c into a."""
    for i in range(a.size):
        a[i] = b[i] + factor * c[i]


class Work:
    """One worker's part of three arrays, which it is the first to touch: they lie in its own memory node."""

    def __init__(self, words: int) -> None:
        self._a, self._b, self._c = (np.empty(words, np.float64) for _ in range(3))
        self._whole = (self._a.view(np.int64), self._b.view(np.int64), self._c.view(np.int64))
        self._round = 0
        self._spoil = False
        self.timings = Timings()
        for array in (self._a, self._b, self._c):
            array[:] = 1.0

    def unit(self) -> tuple[float, str]:
        """Read, write, copy and combine once; the work is in GB."""
        self._round += 1
        value = 0x3FF0_0000_0000_0000 + self._round * 0x1_0001
        a, b, c = self._whole
        with self._timing("write"):
            write(b, value)
        wrong = _differing(b, value, "write")
        if self._spoil:
            self._spoil = False
            b[b.size // 2] ^= 1 << 20
        with self._timing("read"):
            total = read(b)
        if total != _wrapped(value * b.size):
            wrong = wrong or say(
                "read: sum {total} instead of {wrapped}", total=total, wrapped=_wrapped(value * b.size)
            )
        with self._timing("copy"):
            copy(c, b)
        wrong = wrong or _differing(c, value, "copy")
        with self._timing("combine"):
            combine(self._a, self._b, self._c, FACTOR)
        one = np.int64(value).view(np.float64)
        wrong = wrong or _differing(a, int((one + FACTOR * one).view(np.int64)), "combine")
        return sum(WORDS_MOVED.values()) * 8 * a.size / 1e9, wrong

    def spoil(self) -> None:
        """Flip one bit of what was written."""
        self._spoil = True

    def _timing(self, part: str) -> AbstractContextManager[None]:
        return self.timings.timing(part, WORDS_MOVED[part] * 8 * self._a.size / 1e9)


def _differing(a: Integers, value: int, part: str) -> str:
    at = np.flatnonzero(a[::SAMPLE_EVERY] != value)
    if not at.size:
        return ""
    word = int(at[0]) * SAMPLE_EVERY
    return say(
        "{part}: word {word} is {a:016x} instead of {value:016x}", part=part, word=word, a=int(a[word]), value=value
    )


def _wrapped(total: int) -> int:
    return (total + (1 << 63)) % (1 << 64) - (1 << 63)


def _figure(works: Sequence[Work], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """Bytes over the time they were moved in: looking them over afterwards doesn't count."""
    spent = max(each.timings.whole_s for each in works)
    return work / spent if spent else 0.0, rates([each.timings for each in works])


def make(place: Place) -> Work:
    """Give a worker its part of the arrays; raises CannotRun where there is too little memory."""
    array = max(LEAST_BYTES, CACHES * last_level_cache())
    room = may_take(3 * array, place.options.memory_mib) // 3
    if room < LEAST_BYTES:
        raise CannotRun(say("There is too little free memory to measure its bandwidth."), say("Close other programs."))
    return Work(room // place.of // 8)


KERNEL = Kernel(
    make, {"numba": numba.__version__, "numpy": np.__version__, "cache_mib": last_level_cache() / MIB}, _figure
)

if __name__ == "__main__":
    serve(KERNEL)
