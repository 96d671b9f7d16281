"""The real benchmark's kernel against the matrix product of the array library, one thread each."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator

from benchmarks.measuring import Line

SCRIPT = """
import json, time
from yondle.workloads.kernels import wide_arithmetic as kernel
import numpy as np

unit = kernel.Unit()
right = unit.run() == kernel.EXPECTED_CRC
a = np.random.default_rng(1).random((1024, 1024))
a @ a
ours, theirs = 0.0, 0.0
for _ in range(12):
    began = time.perf_counter()
    for _ in range(20):
        right = right and unit.run() == kernel.EXPECTED_CRC
    ours = max(ours, 20 * kernel.GFLOP_PER_UNIT / (time.perf_counter() - began))
    began = time.perf_counter()
    a @ a
    theirs = max(theirs, 2 * 1024**3 / 1e9 / (time.perf_counter() - began))
print(json.dumps([right, ours, theirs]))
"""


def lines() -> Iterator[Line]:
    """Measure and give the line; the library runs with the settings it would choose itself, on one thread."""
    environment = {k: v for k, v in os.environ.items() if not k.startswith("OPENBLAS_")}
    environment["OPENBLAS_NUM_THREADS"] = "1"
    done = subprocess.run([sys.executable, "-c", SCRIPT], env=environment, capture_output=True, text=True, check=True)
    right, ours, theirs = json.loads(done.stdout)
    checked = "every checksum right" if right else "WRONG CHECKSUM"
    yield Line(
        f"wide arithmetic, one worker ({checked})",
        f"{ours:.1f} GFLOP/s",
        f"1024 x 1024 matrix product, one thread: {theirs:.1f} GFLOP/s",
        f"{ours / theirs:.2f} x",
        "at least 0.6 x",
    )
