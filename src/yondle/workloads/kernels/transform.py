"""Transform: complex Fourier transforms there and back, from what fits the second-level cache to what fits none.

Counted as 5·n·log2(n) floating-point operations each (the usual count of a radix-2 transform: J. W. Cooley and J. W.
Tukey, Math. Comp. 19, 1965). The round trip has to come back within eps·log2(n) of where it began, and bit for bit as the
time before.
"""

from __future__ import annotations

import math
import zlib

import numpy as np
import scipy
import scipy.fft
from numpy.typing import NDArray

from yondle.language.saying import say
from yondle.workloads.kernels.random_words import fill_words
from yondle.workloads.kernels.serve import Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

SIZES = (1 << 14, 1 << 17, 1 << 20)
SEED = 0x73_68_65_64
EPSILON = float(np.finfo(np.float64).eps)

Signal = NDArray[np.complex128]


def operations(size: int) -> float:
    """Floating-point operations of one transform."""
    return 5.0 * size * math.log2(size)


def label(size: int) -> str:
    """Name a size."""
    return f"2^{size.bit_length() - 1}"


class Work:
    """One worker's signals. Small ones are transformed more often, so that each size takes a like time."""

    def __init__(self) -> None:
        self._signals = {size: _signal(size) for size in SIZES}
        self._crc: dict[int, int] = {}
        self._spoil = False
        self.timings = Timings()
        self._turn = 0
        for size in SIZES:
            self._there_and_back(size)

    def unit(self) -> tuple[float, str]:
        """Transform one size there and back, the sizes in turn; the work is in 1e9 operations."""
        size = SIZES[self._turn % len(SIZES)]
        self._turn += 1
        times = SIZES[-1] // size
        done = 2 * times * operations(size) / 1e9
        with self.timings.timing(label(size), done):
            for _ in range(times):
                back = self._there_and_back(size)
        return done, self._wrong(size, back)

    def spoil(self) -> None:
        """Flip the lowest bit of one exponent in the next result."""
        self._spoil = True

    def _there_and_back(self, size: int) -> Signal:
        there = scipy.fft.fft(self._signals[size])
        return scipy.fft.ifft(there, overwrite_x=True)

    def _wrong(self, size: int, back: Signal) -> str:
        if self._spoil:
            self._spoil = False
            back.view(np.uint64)[size // 2] ^= np.uint64(1 << 52)
        signal = self._signals[size]
        error = float(np.linalg.norm(back - signal) / np.linalg.norm(signal))
        allowed = EPSILON * math.log2(size)
        if not error <= allowed:
            return say(
                "{label}: error {error:.1e}, {allowed:.1e} is allowed", label=label(size), error=error, allowed=allowed
            )
        crc = zlib.crc32(back.tobytes())
        if self._crc.setdefault(size, crc) != crc:
            return say("{label}: other bits than before", label=label(size))
        return ""


def _signal(size: int) -> Signal:
    words = np.empty(2 * size, np.uint64)
    fill_words(words, np.uint64(SEED))
    values = (words >> np.uint64(11)).astype(np.float64) / float(1 << 52) - 1.0
    return values.view(np.complex128)


def make(place: Place) -> Work:
    """Give a worker its work."""
    return Work()


KERNEL = Kernel(make, {"scipy": scipy.__version__, "numpy": np.__version__})

if __name__ == "__main__":
    serve(KERNEL)
