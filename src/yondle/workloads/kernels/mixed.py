"""Mixed load: arithmetic, whole numbers, compression and memory in turn, so that the load on the machine never settles.

A setting that holds under an even load often fails where it swings: every worker changes its kind of work several times a
second, each at its own time.
"""

from __future__ import annotations

import time
from typing import Any

import numba
import numpy as np

from yondle.language.saying import say
from yondle.workloads.kernels import compression, memory_check, vector_bits, whole_numbers, wide_arithmetic
from yondle.workloads.kernels.serve import Kernel, Place, Work, serve
from yondle.workloads.kernels.timings import Timings

TURN_S = 0.15
MEMORY_WORDS = memory_check.PIECE_WORDS


class Mixed:
    """One worker's work of all kinds; its score is turns, which says nothing but that it goes on."""

    def __init__(self, place: Place) -> None:
        self._works: list[tuple[str, Work]] = [
            (say("wide arithmetic"), wide_arithmetic.make(place)),
            (say("whole numbers"), whole_numbers.make(place)),
            ("memory", memory_check.Work(MEMORY_WORDS, place.index * MEMORY_WORDS)),
            ("compression", compression.make_quick(place)),
        ]
        self._turn = place.index
        self.timings = Timings()

    def unit(self) -> tuple[float, str]:
        """Do one kind of work for a short while."""
        name, work = self._works[self._turn % len(self._works)]
        self._turn += 1
        until = time.monotonic() + TURN_S
        while time.monotonic() < until:
            wrong = work.unit()[1]
            if wrong:
                return 0.0, f"{name}: {wrong}"
        return 1.0, ""

    def spoil(self) -> None:
        """Flip a bit in each kind of work."""
        for _, work in self._works:
            work.spoil()


FACTS: dict[str, Any] = {"vector_bits": vector_bits(), "numba": numba.__version__, "numpy": np.__version__}
KERNEL = Kernel(Mixed, FACTS)

if __name__ == "__main__":
    serve(KERNEL)
