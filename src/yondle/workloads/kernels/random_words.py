"""Random 64-bit words that are the same on every machine: xorshift64*.

S. Vigna, "An experimental exploration of Marsaglia's xorshift generators, scrambled", ACM TOMS 42(4), 2016.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yondle.workloads.kernels.compiling import compiled

Words = NDArray[np.uint64]


@compiled()
def next_state(x: np.uint64) -> np.uint64:
    """Advance the state of the generator; it is never 0."""
    x ^= x >> np.uint64(12)
    x ^= x << np.uint64(25)
    x ^= x >> np.uint64(27)
    return x


@compiled()
def word_of(x: np.uint64) -> np.uint64:
    """Give the word that a state stands for."""
    return x * np.uint64(0x2545F4914F6CDD1D)


@compiled()
def fill_words(out: Words, seed: np.uint64) -> np.uint64:
    """Fill an array with random words; gives the state after them."""
    x = seed
    for i in range(out.size):
        x = next_state(x)
        out[i] = word_of(x)
    return x
