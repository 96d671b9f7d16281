"""Each built-in workload's kernel against a reference that does the like, in one run, on one processor."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from typing import Any

from benchmarks.measuring import Line

SCRIPT = """
import json, os, time
cpu = max(os.sched_getaffinity(0))
everything = os.sched_getaffinity(0)
os.sched_setaffinity(0, {cpu})
from yondle.workloads.kernels import bandwidth, latency, memory_check, transform, wide_arithmetic, whole_numbers
import numpy as np
import scipy.fft

def best(work, times=8):
    work()
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)

out = {}
unit = wide_arithmetic.Work()
square = np.random.default_rng(1).random((1024, 1024))
ours = theirs = float("inf")
for _ in range(6):
    ours = min(ours, best(unit.run, 4))
    theirs = min(theirs, best(lambda: square @ square, 2))
out["wide"] = [unit.unit()[1] == "", wide_arithmetic.GFLOP_PER_UNIT / ours, 2 * 1024**3 / 1e9 / theirs]

words = 32 << 20
a, b, c = (np.zeros(words) for _ in range(3))
ia, ib = a.view(np.int64), b.view(np.int64)
gb = words * 8 / 1e9
out["read"] = [gb / best(lambda: bandwidth.read(ib)), gb / best(lambda: ib.sum())]
out["write"] = [gb / best(lambda: bandwidth.write(ia, 7)), gb / best(lambda: ia.fill(7))]
out["copy"] = [2 * gb / best(lambda: bandwidth.copy(ia, ib)), 2 * gb / best(lambda: np.copyto(ia, ib))]
cells = np.zeros(words, np.uint64)
found = np.zeros(4, np.uint64)
zero, ones = np.uint64(0), memory_check.ALL
def inversion():
    memory_check.fill(cells, 0, ones, zero)
    memory_check.go_over(cells, 0, ones, zero, zero, ones, False, True, found)
    memory_check.go_over(cells, 0, ones, zero, ones, zero, True, True, found)
    memory_check.go_over(cells, 0, ones, zero, zero, ones, False, False, found)
out["inversions"] = [6 * gb / best(inversion, 4), out["copy"][0]]

chains = latency.Chains(0).by_size
ns = {}
for size, chain in chains.items():
    nodes = size // latency.NODE_BYTES
    hops = max(1, latency.LEAST_HOPS // nodes) * nodes
    ns[size] = best(lambda: latency._follow(chain, np.uint64(0), hops), 3) / hops * 1e9
out["latency"] = ns

keys = np.empty(whole_numbers.KEYS, np.uint64)
whole_numbers.fill_words(keys, np.uint64(whole_numbers.SEED))
order, stack = keys.copy(), np.empty(128, np.int64)
def own_sort():
    order[:] = keys
    whole_numbers._sort(order, stack)
out["sort"] = [len(keys) / 1e6 / best(own_sort), len(keys) / 1e6 / best(lambda: np.sort(keys, kind="stable"))]

work = transform.Work()
size = 1 << 17
signal = work._signals[size]
gflop = 2 * transform.operations(size) / 1e9
out["transform"] = [gflop / best(lambda: work._there_and_back(size)), gflop / best(lambda: np.fft.ifft(np.fft.fft(signal)))]
out["page"] = open("/sys/kernel/mm/transparent_hugepage/enabled").read().strip()
print(json.dumps(out))
"""

CREW = """
import json, subprocess, sys, time
def run(module, cpus, seconds):
    child = subprocess.Popen([sys.executable, "-m", f"yondle.workloads.kernels.{module}", "--cpus", cpus],
                             stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    for line in child.stdout:
        message = json.loads(line)
        if message["event"] == "ready":
            child.stdin.write(json.dumps({"do": "go", "seconds": seconds}) + "\\n"); child.stdin.flush()
        elif message["event"] in ("result", "wrong", "cannot"):
            child.wait()
            return message
import os
cpus = sorted(os.sched_getaffinity(0))
out = {}
for module in ("wide_arithmetic", "whole_numbers", "compression", "transform", "bandwidth"):
    one = many = 0.0
    for _ in range(3):
        one = max(one, run(module, str(cpus[0]), 2.0)["score"])
        many = max(many, run(module, ",".join(map(str, cpus)), 2.0)["score"])
    out[module] = [one, many]
out["processors"] = len(cpus)
print(json.dumps(out))
"""


def lines() -> Iterator[Line]:
    """Measure and give the lines; libraries run with the settings they would choose themselves, on one thread."""
    found = _run(SCRIPT)
    right, ours, theirs = found["wide"]
    checked = "every checksum right" if right else "WRONG CHECKSUM"
    yield Line(
        f"wide arithmetic, one worker ({checked})",
        f"{ours:.1f} GFLOP/s",
        f"1024 x 1024 matrix product, one thread: {theirs:.1f} GFLOP/s",
        f"{ours / theirs:.2f} x",
        "at least 0.6 x",
    )
    for what, against, aim in (
        ("read", "the array library's sum", "at least 0.9 x"),
        ("write", "the array library's fill", "at least 0.8 x"),
        ("copy", "the array library's copy", "at least 0.9 x"),
        ("inversions", "our own copy", "at least 0.8 x"),
    ):
        ours, theirs = found[what]
        name = "memory check, moving inversions" if what == "inversions" else f"bandwidth, {what}"
        yield Line(name, f"{ours:.1f} GB/s", f"{against}: {theirs:.1f} GB/s", f"{ours / theirs:.2f} x", aim)
    ns = {int(size): value for size, value in found["latency"].items()}
    small, second, large = ns[16 << 10], ns[512 << 10], ns[max(ns)]
    curve = ", ".join(f"{_size(size)} {value:.1f}" for size, value in ns.items())
    yield Line("latency by working set, ns", curve, f"pages: {found['page']}", "", "")
    yield Line(
        "latency of 512 KiB",
        f"{second:.1f} ns",
        f"of 16 KiB: {small:.1f} ns",
        f"{second / small:.1f} x",
        "at least 2 x",
    )
    yield Line(
        f"latency of {_size(max(ns))}", f"{large:.1f} ns", f"of 512 KiB: {second:.1f} ns", f"{large / second:.1f} x",
        "at least 10 x",
    )  # fmt: skip
    for what, name, unit, against in (
        ("sort", "whole numbers, the sort", "Mkeys/s", "the array library's stable sort"),
        ("transform", "transform, 2^17 there and back", "GFLOP/s", "the array library's transform"),
    ):
        ours, theirs = found[what]
        yield Line(name, f"{ours:.2f} {unit}", f"{against}: {theirs:.2f} {unit}", f"{ours / theirs:.2f} x", "")
    crew = _run(CREW)
    count = crew.pop("processors")
    for module, (one, many) in crew.items():
        yield Line(
            f"{module.replace('_', ' ')}, {count} workers", f"{many:.1f}", f"one worker: {one:.1f}", f"{many / one:.2f} x",
            f"at least {0.9 * count:.1f} x on {count} idle cores",
        )  # fmt: skip


def _run(script: str) -> dict[str, Any]:
    environment = {k: v for k, v in os.environ.items() if not k.startswith("OPENBLAS_")}
    environment["OPENBLAS_NUM_THREADS"] = "1"
    done = subprocess.run([sys.executable, "-c", script], env=environment, capture_output=True, text=True, check=True)
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def _size(size: int) -> str:
    return f"{size >> 20} MiB" if size >= 1 << 20 else f"{size >> 10} KiB"
