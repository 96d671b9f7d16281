"""Memory check: moving inversions over as much memory as allowed; every word is verified, errors told by address and bit.

Fill p; going up, verify p and write ~p; going down, verify ~p and write p; verify p. Patterns: all ones, alternating bits,
random words, and each cell's own address (A. J. van de Goor, "Testing Semiconductor Memories", 1991, on march tests).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np

from yondle.language.saying import later, named, say, several
from yondle.workloads.kernels.compiling import compiled
from yondle.workloads.kernels.memory_size import MIB, may_take
from yondle.workloads.kernels.random_words import Words
from yondle.workloads.kernels.serve import CannotRun, Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

WANTED_BYTES = 1024 * MIB
LEAST_BYTES = 16 * MIB
PIECE_WORDS = 4 * MIB
"""A piece of 32 MiB: what is done before it is looked whether the time is up."""

BLOCK_WORDS = 512
"""4 KiB: verified first, then written while it is in the first-level cache."""

ADDRESS, RANDOM = np.uint64(1), np.uint64(2)
ALL = np.uint64(0xFFFF_FFFF_FFFF_FFFF)


@dataclass(frozen=True, slots=True)
class Pattern:
    """What is written: a fixed word, or one made from the cell's number."""

    name: str
    word: int
    kind: int


PATTERNS = (
    Pattern(later("all ones"), 0xFFFF_FFFF_FFFF_FFFF, 0),
    Pattern(later("alternating bits"), 0x5555_5555_5555_5555, 0),
    Pattern(later("random words"), 0x9E37_79B9_7F4A_7C15, int(RANDOM)),
    Pattern(later("own address"), 0, int(ADDRESS)),
)


@dataclass(frozen=True, slots=True)
class Phase:
    """One way over all cells: whether it expects the pattern turned, in which direction, and what it moves a word."""

    name: str
    turned: bool
    down: bool
    writes: bool
    words_moved: int


PHASES = (
    Phase("fill", False, False, True, 1),
    Phase(later("upward"), False, False, True, 2),
    Phase(later("downward"), True, True, True, 2),
    Phase(later("last look"), False, False, False, 1),
)


@compiled(inline="always")
def _expected(number: np.uint64, word: np.uint64, kind: np.uint64) -> np.uint64:
    if kind == ADDRESS:
        return number
    if kind == RANDOM:
        mixed = (number ^ word) * np.uint64(0xBF58476D1CE4E5B9)
        return mixed ^ (mixed >> np.uint64(27))
    return word


@compiled()
def fill(cells: Words, first: int, word: np.uint64, kind: np.uint64) -> None:
    """Write the pattern; `first` is the number of the first cell."""
    for i in range(cells.size):
        cells[i] = _expected(np.uint64(first + i), word, kind)


@compiled()
def _look(block: Words, first: int, word: np.uint64, kind: np.uint64, was: np.uint64) -> np.uint64:
    """Give all bits in which any word of a block differs from the pattern turned by `was`."""
    differed = np.uint64(0)
    for i in range(block.size):
        differed |= block[i] ^ _expected(np.uint64(first + i), word, kind) ^ was
    return differed


@compiled()
def _turn(block: Words, first: int, word: np.uint64, kind: np.uint64, then: np.uint64) -> None:
    for i in range(block.size):
        block[i] = _expected(np.uint64(first + i), word, kind) ^ then


@compiled()
def go_over(
    cells: Words, first: int, word: np.uint64, kind: np.uint64, was: np.uint64, then: np.uint64, down: bool,
    writes: bool, found: Words,
) -> None:  # fmt: skip
    """Verify the pattern turned by `was` and write it turned by `then`, block by block, from either end.

    `found` takes up: how many words differed, the cell of the first, what it held, and all bits that differed.
    """
    blocks = (cells.size + BLOCK_WORDS - 1) // BLOCK_WORDS
    for k in range(blocks):
        b = blocks - 1 - k if down else k
        begin, end = b * BLOCK_WORDS, min(cells.size, (b + 1) * BLOCK_WORDS)
        block = cells[begin:end]
        if _look(block, first + begin, word, kind, was) != np.uint64(0):
            for i in range(block.size):
                bits = block[i] ^ _expected(np.uint64(first + begin + i), word, kind) ^ was
                if bits != np.uint64(0):
                    if found[0] == np.uint64(0):
                        found[1], found[2] = np.uint64(first + begin + i), block[i]
                    found[0] += np.uint64(1)
                    found[3] |= bits
        if writes:
            _turn(block, first + begin, word, kind, then)


class Work:
    """One worker's cells; a unit goes over one piece of them in one phase of one pattern."""

    def __init__(self, words: int, first: int) -> None:
        self._cells = np.zeros(words, np.uint64)
        self._first = first
        self._pieces = [(at, min(words, at + PIECE_WORDS)) for at in range(0, words, PIECE_WORDS)]
        self._at = self._phase = self._pattern = 0
        self._found = np.zeros(4, np.uint64)
        self.timings = Timings()
        self.gone_over = 0
        """How often all cells have been through all patterns."""
        self._spoil = False
        self._warm_up()

    def unit(self) -> tuple[float, str]:
        """Go over the next piece; the work is in GB read and written."""
        phase, pattern = PHASES[self._phase], PATTERNS[self._pattern]
        begin, end = self._pieces[-1 - self._at if phase.down else self._at]
        if self._spoil and phase.name != "fill":
            self._cells[(begin + end) // 2] ^= np.uint64(1 << 37)
            self._spoil = False
        self._go_over(self._cells[begin:end], self._first + begin, pattern, phase)
        wrong = self._wrong(pattern, phase)
        self._next()
        return phase.words_moved * 8 * (end - begin) / 1e9, wrong

    def spoil(self) -> None:
        """Flip one bit of what is looked at next."""
        self._spoil = True

    def _go_over(self, cells: Words, first: int, pattern: Pattern, phase: Phase) -> None:
        word, kind = np.uint64(pattern.word), np.uint64(pattern.kind)
        if phase.name == "fill":
            fill(cells, first, word, kind)
            return
        was, then = np.uint64(ALL if phase.turned else 0), np.uint64(0 if phase.turned else ALL)
        go_over(cells, first, word, kind, was, then, phase.down, phase.writes, self._found)

    def _wrong(self, pattern: Pattern, phase: Phase) -> str:
        count, cell, held, bits = (int(v) for v in self._found)
        if not count:
            return ""
        self._found[:] = 0
        numbers = ", ".join(str(bit) for bit in range(64) if bits >> bit & 1)
        words = several(
            count,
            "{n} word, first at byte {place} (held {held}), bits {numbers}",
            "{n} words, first at byte {place} (held {held}), bits {numbers}",
            place=f"{cell * 8:#x}",
            held=f"{held:016x}",
            numbers=numbers,
        )
        return f"{words}, {named(pattern.name)}, {named(phase.name)}"

    def _next(self) -> None:
        self._at += 1
        if self._at == len(self._pieces):
            self._at = 0
            self._phase += 1
        if self._phase == len(PHASES):
            self._phase = 0
            self._pattern += 1
        if self._pattern == len(PATTERNS):
            self._pattern = 0
            self.gone_over += 1

    def _warm_up(self) -> None:
        few = np.zeros(BLOCK_WORDS, np.uint64)
        for phase in PHASES:
            self._go_over(few, 0, PATTERNS[0], phase)


def _extras(works: Sequence[Work]) -> dict[str, Any]:
    return {"gone_over": min(w.gone_over for w in works)}


def make(place: Place) -> Work:
    """Give a worker its cells; raises CannotRun where there is too little memory."""
    room = may_take(WANTED_BYTES, place.options.memory_mib)
    if room < LEAST_BYTES * place.of:
        raise CannotRun(
            say("There is too little free memory to check."), say("Close other programs, or allow it more.")
        )
    words = room // place.of // 8
    return Work(words, place.index * words)


KERNEL = Kernel(make, {"numba": numba.__version__, "numpy": np.__version__}, extras=_extras)

if __name__ == "__main__":
    serve(KERNEL)
