"""A clock reference: a short chain of dependent whole-number operations, whose time tells how fast the processor runs.

Each link is a 64-bit multiplication and an exclusive-or, and needs the one before. On common x86-64 cores that is 3 + 1
cycles, so that the figure is the clock in MHz; on other cores it is proportional to it. What counts is whether it moved.
"""

from __future__ import annotations

import time

import numpy as np

from yondle.workloads.kernels.compiling import compiled

LINKS = 100_000
CYCLES_PER_LINK = 4
TRIES = 3
"""The quickest of a few: one that was interrupted tells nothing about the clock."""


@compiled()
def _chain(links: int, x: np.uint64) -> np.uint64:
    factor, mask = np.uint64(0x2545F4914F6CDD1D), np.uint64(0x9E3779B97F4A7C15)
    for _ in range(links):
        x = (x * factor) ^ mask
    return x


class ReferenceClock:
    """Measures the clock of the processor it is called on; takes about half a millisecond."""

    def __init__(self) -> None:
        self._x = np.uint64(time.monotonic_ns() | 1)
        self.mhz()

    def mhz(self) -> float:
        """Give the clock in MHz."""
        best = float("inf")
        for _ in range(TRIES):
            began = time.perf_counter()
            self._x = np.uint64(_chain(LINKS, self._x))
            best = min(best, time.perf_counter() - began)
        return LINKS * CYCLES_PER_LINK / best / 1e6
