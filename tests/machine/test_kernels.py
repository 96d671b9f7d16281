"""The built-in workloads as the program runs them: right results, a flipped bit always found, and named by processor."""

from __future__ import annotations

import argparse
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from yondle.model.pacing import pacing
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.workloads.catalogue import BUILT_IN
from yondle.workloads.host import ChildHost, ChildRun, WorkloadSettings
from yondle.workloads.kernels import (
    bandwidth,
    compression,
    latency,
    memory_check,
    storage,
    transform,
    whole_numbers,
    wide_arithmetic,
)
from yondle.workloads.kernels.serve import Place, Work

CPUS = sorted(os.sched_getaffinity(0))
MEMORY_MIB = 256


def place(tmp_path: Path) -> Place:
    return Place(0, 1, argparse.Namespace(memory_mib=MEMORY_MIB, folder=str(tmp_path)))


def finished(run: ChildRun, within_s: float = 120.0) -> PassResult:
    limit = time.monotonic() + within_s
    try:
        while (result := run.poll()) is None:
            assert time.monotonic() < limit, "the pass never ended"
            time.sleep(0.005)
        return result
    finally:
        run.stop()


def spoiled(module: str, spoil: str, cpus: list[int], folder: Path) -> PassResult:
    command = [
        sys.executable, "-m", f"yondle.workloads.kernels.{module}", "--cpus", ",".join(map(str, cpus)),
        f"--memory-mib={MEMORY_MIB}", f"--folder={folder}", f"--spoil={spoil}",
    ]  # fmt: skip
    return finished(ChildRun(command, 20.0, time.monotonic))


@pytest.mark.parametrize("workload", [each.workload.id for each in BUILT_IN])
def test_every_workload_runs_verifies_itself_and_gives_its_figures(workload: str, tmp_path: Path) -> None:
    declared = next(each.workload for each in BUILT_IN if each.workload.id == workload)
    host = ChildHost(time.monotonic, settings=WorkloadSettings(nice=1, memory_mib=MEMORY_MIB, folder=str(tmp_path)))
    run = host.start(workload, 0.5, CPUS)
    assert isinstance(run, ChildRun)
    result = finished(run)
    if result.failure == Failure.NOT_RUN.value:
        pytest.skip(result.detail)
    assert result.ok, result.detail
    assert result.score is not None
    assert result.score > 0
    parts = set(result.measured.parts)
    assert parts <= {metric.name for metric in declared.parts}
    if workload in ("compression", "bandwidth", "storage_random"):
        assert parts == {metric.name for metric in declared.parts}
    if workload == "frames":
        assert len(result.frame_times_ms) == result.measured.told["units"]


@pytest.mark.parametrize("workload", ["wide_arithmetic", "memory_check", "frames", "storage", "mixed"])
def test_a_flipped_bit_ends_the_pass_and_names_the_processor(workload: str, tmp_path: Path) -> None:
    single = workload in ("frames", "storage")
    culprit = CPUS[0] if single else CPUS[-1]
    result = spoiled(workload, f"{culprit}:2", CPUS, tmp_path)
    if result.failure == Failure.NOT_RUN.value:
        pytest.skip(result.detail)
    assert result.failure == Failure.WRONG_RESULTS.value, result
    assert f"processor {culprit}:" in result.detail


WORKS: dict[str, Callable[[Place], Work]] = {
    "wide": wide_arithmetic.make,
    "whole": whole_numbers.make,
    "compression": compression.make_quick,
    "dense": compression.make_dense,
    "transform": transform.make,
    "bandwidth": bandwidth.make,
    "latency": lambda place: latency.Work(latency.Chains(8), place),
    "memory": memory_check.make,
    "storage": lambda place: storage.Sequential(Path(place.options.folder)),
    "storage random": lambda place: storage.Random(Path(place.options.folder)),
}


@pytest.mark.parametrize("name", WORKS)
def test_a_sound_unit_is_never_called_wrong_and_a_spoiled_one_always(name: str, tmp_path: Path) -> None:
    work = WORKS[name](place(tmp_path))
    for _ in range(12):
        assert work.unit()[1] == ""
    work.spoil()
    assert any(work.unit()[1] for _ in range(80))


def test_memory_errors_are_told_by_address_and_bit_for_any_bit() -> None:
    words = memory_check.BLOCK_WORDS * 3
    for bit in range(64):
        work = memory_check.Work(words, first=1000)
        assert work.unit()[1] == ""
        at = (bit * 37) % words
        work._cells[at] ^= np.uint64(1 << bit)
        wrong = work.unit()[1]
        assert f"1 word, first at byte {(1000 + at) * 8:#x}" in wrong
        assert wrong.endswith(f"bits {bit}, all ones, upward")


def test_the_chain_is_one_cycle_through_all_nodes() -> None:
    nodes = 16 * 1024 // latency.NODE_BYTES
    chain = latency.Chains(1).by_size[16 * 1024]
    at, seen = 0, set()
    for _ in range(nodes):
        seen.add(at)
        at = int(chain[at])
    assert at == 0
    assert len(seen) == nodes


def test_the_sort_of_whole_numbers_sorts_and_its_hash_is_a_plain_models() -> None:
    keys = np.random.default_rng(3).integers(0, 50, 3000).astype(np.uint64)
    ordered = keys.copy()
    whole_numbers._sort(ordered, np.empty(128, np.int64))
    assert (ordered == np.sort(keys)).all()


def test_lows_are_the_mean_rate_of_the_slowest_frames() -> None:
    times = [0.010] * 990 + [0.020] * 9 + [0.050]
    paced = pacing(times, per_second=1.0)
    assert paced.low_1 == pytest.approx(10 / (9 * 0.020 + 0.050))
    assert paced.low_01 == pytest.approx(20.0)
    assert paced.late == pytest.approx(0.01)


def test_a_workload_that_cannot_run_here_says_what_to_do(tmp_path: Path) -> None:
    host = ChildHost(time.monotonic, settings=WorkloadSettings(folder=str(tmp_path / "nowhere")))
    run = host.start("storage", 1.0, CPUS)
    assert isinstance(run, ChildRun)
    result = finished(run)
    assert result.failure == Failure.NOT_RUN.value
    assert "Choose another folder" in result.detail


def test_a_workload_that_dies_in_a_pass_gives_the_word_by_itself() -> None:
    told = threading.Event()
    command = [sys.executable, "-m", "yondle.workloads.kernels.whole_numbers", "--cpus", str(CPUS[0])]
    run = ChildRun(command, 30.0, time.monotonic, told.set)
    while run._went is None:
        time.sleep(0.01)
    os.kill(run.pid, signal.SIGSEGV)
    assert told.wait(20)
    assert "segmentation fault" in finished(run).detail


def test_without_the_library_that_draws_frames_could_not_be_run() -> None:
    code = (
        "import sys, runpy; sys.modules['moderngl'] = None; sys.argv = ['frames', '--cpus', '0'];"
        "runpy.run_module('yondle.workloads.kernels.frames', run_name='__main__')"
    )
    done = subprocess.run([sys.executable, "-c", code], input="", capture_output=True, text=True, check=True)
    told = json.loads(done.stdout)
    assert told["event"] == "cannot"
    assert "moderngl" in told["problem"]
