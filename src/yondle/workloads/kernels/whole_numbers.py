"""Whole numbers: branchy integer work on keys - a hash table, a sort and searches - with a running hash as its check.

One unit makes 65,536 random keys, puts them into an open-addressing table of 2^18 slots and looks them all up, sorts them
(quicksort with the median of three, insertion below 17) and finds each by bisection. All it does goes into a 64-bit hash.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from yondle.language.saying import say
from yondle.workloads.kernels.compiling import compiled
from yondle.workloads.kernels.random_words import Words, fill_words
from yondle.workloads.kernels.serve import Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

KEYS = 65_536
SLOTS = 1 << 18
SEED = 0x59_6F_6E_64_6C_65
EXPECTED = 0x9F20BF735AA1D39C
_INSERTION_BELOW = 17
_DEEPEST = 128


@compiled(inline="always")
def _mixed(hash_: np.uint64, word: np.uint64) -> np.uint64:
    hash_ = (hash_ ^ word) * np.uint64(0x9E3779B97F4A7C15)
    return hash_ ^ (hash_ >> np.uint64(29))


@compiled()
def _put(keys: Words, table: Words) -> int:
    """Put keys into the table by linear probing; gives the probes it took. 0 is an empty slot."""
    mask = np.uint64(table.size - 1)
    probes = 0
    for i in range(keys.size):
        slot = (keys[i] * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(46) & mask
        while table[slot] != np.uint64(0) and table[slot] != keys[i]:
            slot = (slot + np.uint64(1)) & mask
            probes += 1
        table[slot] = keys[i]
    return probes


@compiled()
def _look_up(keys: Words, table: Words, hash_: np.uint64) -> np.uint64:
    mask = np.uint64(table.size - 1)
    for i in range(keys.size):
        slot = (keys[i] * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(46) & mask
        while table[slot] != keys[i]:
            if table[slot] == np.uint64(0):
                return np.uint64(0)
            slot = (slot + np.uint64(1)) & mask
        hash_ = _mixed(hash_, slot)
    return hash_


@compiled()
def _sort(a: Words, stack: NDArray[np.int64]) -> None:
    """Quicksort in place; the larger part waits on the stack, so that it stays short."""
    low, high, depth = np.int64(0), np.int64(a.size - 1), 0
    while True:
        while high - low >= _INSERTION_BELOW:
            middle = (low + high) // 2
            if a[middle] < a[low]:
                a[middle], a[low] = a[low], a[middle]
            if a[high] < a[low]:
                a[high], a[low] = a[low], a[high]
            if a[high] < a[middle]:
                a[high], a[middle] = a[middle], a[high]
            pivot = a[middle]
            i, j = low, high
            while i <= j:
                while a[i] < pivot:
                    i += 1
                while pivot < a[j]:
                    j -= 1
                if i <= j:
                    a[i], a[j] = a[j], a[i]
                    i += 1
                    j -= 1
            if j - low > high - i:
                stack[depth], stack[depth + 1] = low, j
                low = i
            else:
                stack[depth], stack[depth + 1] = i, high
                high = j
            depth += 2
        for k in range(low + 1, high + 1):
            held = a[k]
            m = k - 1
            while m >= low and a[m] > held:
                a[m + 1] = a[m]
                m -= 1
            a[m + 1] = held
        if depth == 0:
            return
        depth -= 2
        low, high = stack[depth], stack[depth + 1]


@compiled()
def _search(keys: Words, ordered: Words, hash_: np.uint64) -> np.uint64:
    for i in range(keys.size):
        low, high = 0, ordered.size
        while low < high:
            middle = (low + high) // 2
            if ordered[middle] < keys[i]:
                low = middle + 1
            else:
                high = middle
        hash_ = _mixed(hash_, np.uint64(low))
    return hash_


class Work:
    """One worker's keys and table."""

    def __init__(self) -> None:
        self._keys = np.empty(KEYS, np.uint64)
        self._ordered = np.empty(KEYS, np.uint64)
        self._table = np.empty(SLOTS, np.uint64)
        self._stack = np.empty(_DEEPEST, np.int64)
        self._spoil = False
        self.timings = Timings()

    def run(self) -> int:
        """Do one unit and give its hash."""
        fill_words(self._keys, np.uint64(SEED))
        self._table[:] = 0
        hash_ = np.uint64(_put(self._keys, self._table))
        if self._spoil:
            self._table[np.flatnonzero(self._table)[KEYS // 2]] ^= np.uint64(1 << 17)
            self._spoil = False
        hash_ = np.uint64(_look_up(self._keys, self._table, hash_))
        self._ordered[:] = self._keys
        _sort(self._ordered, self._stack)
        return int(_search(self._keys, self._ordered, hash_))

    def unit(self) -> tuple[float, str]:
        """Do one unit; its work is in millions of keys."""
        found = self.run()
        return KEYS / 1e6, "" if found == EXPECTED else say(
            "hash {found:016x} instead of {expected:016x}", found=found, expected=EXPECTED
        )

    def spoil(self) -> None:
        """Flip one bit of a key in the table."""
        self._spoil = True


def make(place: Place) -> Work:
    """Give a worker its work."""
    return Work()


FACTS: dict[str, Any] = {"numba": numba.__version__, "numpy": np.__version__}
KERNEL = Kernel(make, FACTS)

if __name__ == "__main__":
    serve(KERNEL)
