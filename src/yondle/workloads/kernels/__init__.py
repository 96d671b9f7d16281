"""The built-in kernels; each module runs by `python -m` and speaks the JSON lines of serve.py.

The instruction set they are compiled for is chosen here, since a package comes before its modules and numba reads it once.

Compilers prefer 256-bit vectors on processors that have 512-bit ones, for the sake of their clocks. A load that is to
work the widest units there are must not.
"""

from __future__ import annotations

import os

import llvmlite.binding as llvm

# A worker works on its own processor: libraries mustn't start threads behind its back.
for _library in ("OPENBLAS", "OMP", "MKL", "BLIS"):
    os.environ[f"{_library}_NUM_THREADS"] = "1"

_features = llvm.get_host_cpu_features()
os.environ.setdefault("NUMBA_CPU_NAME", llvm.get_host_cpu_name())
os.environ.setdefault("NUMBA_CPU_FEATURES", _features.flatten() + ",-prefer-256-bit")


def vector_bits() -> int:
    """Width in bits of the widest vectors compiled code uses here."""
    if _features.get("avx512f"):
        return 512
    return 256 if _features.get("avx") else 128
