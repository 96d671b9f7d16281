"""Wide arithmetic: chains of fused multiply-adds that live in the first-level cache, checked bit for bit.

One round takes 8 independent chains through 16 alternating steps x <- c·x ± d over 1,024 doubles, and folds all it
loads and all it makes into a checksum by rotation, exclusive-or and addition. A wrong bit in what was stored changes it;
of errors made inside a chain only those of the last bit or two can be rounded away before its end, since the map
contracts. Fused operations round once (IEEE 754-2008, 5.4.1), so the checksum is the same on every processor; plain
a*b+c would not be. The values stay far from denormal numbers, which are slow.
"""

from __future__ import annotations

import zlib
from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.extending import intrinsic
from numpy.typing import NDArray

from yondle.language.saying import say
from yondle.workloads.kernels import vector_bits
from yondle.workloads.kernels.compiling import compiled
from yondle.workloads.kernels.serve import Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

DOUBLES = 1024
CHAINS = 8
STEPS = 16
ROUNDS = 4096
GFLOP_PER_UNIT = 2 * STEPS * DOUBLES * ROUNDS / 1e9
EXPECTED_CRC = 3460328490
_LANE = DOUBLES // CHAINS


@intrinsic
def _fma(typing_context: Any, a: Any, b: Any, c: Any) -> Any:
    """x·y + z with one rounding, as LLVM's llvm.fma.f64."""

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        double = ir.DoubleType()
        three = ir.FunctionType(double, [double, double, double])
        function = builder.module.declare_intrinsic("llvm.fma", [double], three)
        return builder.call(function, args)

    return types.float64(types.float64, types.float64, types.float64), generate


@intrinsic
def _bits(typing_context: Any, x: Any) -> Any:
    """The 64 bits of a double as an unsigned number."""

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.bitcast(args[0], ir.IntType(64))

    return types.uint64(types.float64), generate


@njit(inline="always")
def _sixteen(x: float, c: float, d: float) -> float:
    for _ in range(STEPS // 2):
        x = _fma(c, x, d)
        x = _fma(c, x, -d)
    return x


@njit(inline="always")
def _round(
    source: NDArray[np.float64], target: NDArray[np.float64], folded: NDArray[np.uint64], c: float, d: float
) -> None:
    for j in range(_LANE):
        s0 = source[j]
        s1 = source[j + _LANE]
        s2 = source[j + 2 * _LANE]
        s3 = source[j + 3 * _LANE]
        s4 = source[j + 4 * _LANE]
        s5 = source[j + 5 * _LANE]
        s6 = source[j + 6 * _LANE]
        s7 = source[j + 7 * _LANE]
        loaded = _bits(s0) ^ _bits(s1) ^ _bits(s2) ^ _bits(s3) ^ _bits(s4) ^ _bits(s5) ^ _bits(s6) ^ _bits(s7)
        x0 = _sixteen(s0, c, d)
        x1 = _sixteen(s1, c, d)
        x2 = _sixteen(s2, c, d)
        x3 = _sixteen(s3, c, d)
        x4 = _sixteen(s4, c, d)
        x5 = _sixteen(s5, c, d)
        x6 = _sixteen(s6, c, d)
        x7 = _sixteen(s7, c, d)
        target[j] = x0
        target[j + _LANE] = x1
        target[j + 2 * _LANE] = x2
        target[j + 3 * _LANE] = x3
        target[j + 4 * _LANE] = x4
        target[j + 5 * _LANE] = x5
        target[j + 6 * _LANE] = x6
        target[j + 7 * _LANE] = x7
        made = _bits(x0) ^ _bits(x1) ^ _bits(x2) ^ _bits(x3) ^ _bits(x4) ^ _bits(x5) ^ _bits(x6) ^ _bits(x7)
        turned = (folded[j] << np.uint64(1)) | (folded[j] >> np.uint64(63))
        aside = (loaded << np.uint64(13)) | (loaded >> np.uint64(51))
        folded[j] = (turned ^ aside) + made


@compiled(fastmath=False)
def _rounds(
    a: NDArray[np.float64], b: NDArray[np.float64], folded: NDArray[np.uint64], rounds: int, c: float, d: float
) -> None:
    for _ in range(rounds // 2):
        _round(a, b, folded, c, d)
        _round(b, a, folded, c, d)


class Work:
    """One worker's buffers."""

    def __init__(self) -> None:
        self._start = np.linspace(-1.0, 1.0, DOUBLES) * 0.1
        self._a = np.empty(DOUBLES)
        self._b = np.empty(DOUBLES)
        self._folded = np.zeros(_LANE, np.uint64)
        self._spoil = False
        self.timings = Timings()

    def run(self, rounds: int = ROUNDS) -> int:
        """Do one unit of work from the same start values; gives the checksum of every result in it."""
        self._a[:] = self._start
        self._folded[:] = 0
        if self._spoil:
            self._a.view(np.uint64)[DOUBLES // 2] ^= np.uint64(1 << 51)
            self._spoil = False
        _rounds(self._a, self._b, self._folded, rounds, 0.99, 1e-3)
        return zlib.crc32(self._folded.tobytes())

    def unit(self) -> tuple[float, str]:
        """Do one unit; its work is in 1e9 floating-point operations."""
        crc = self.run()
        return GFLOP_PER_UNIT, "" if crc == EXPECTED_CRC else say(
            "checksum {crc:08x} instead of {expected_crc:08x}", crc=crc, expected_crc=EXPECTED_CRC
        )

    def spoil(self) -> None:
        """Flip one bit of a start value."""
        self._spoil = True


def make(place: Place) -> Work:
    """Give a worker its work."""
    return Work()


KERNEL = Kernel(make, {"vector_bits": vector_bits(), "numba": numba.__version__, "numpy": np.__version__})

if __name__ == "__main__":
    serve(KERNEL)
