"""What sampling costs: processor time for 64 channels, and whether a benchmark runs slower while it goes on."""

from __future__ import annotations

import json
import math
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from benchmarks.measuring import Line, median_ms
from yondle.engine.watcher import BlockGatherer, Guard, PassSummary
from yondle.logbook.samples import pack
from yondle.model.sensors import Reading
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost, ChildRun

SENSORS = 50
"""With use, clock, memory and load these make 64 channels or so."""

SECONDS, PAIRS, DEATHS = 8.0, 12, 5


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        rig = ThisRig(ChildHost(time.monotonic), time.monotonic, _tree(Path(folder)))
        count = len(rig.declaration.channels)
        for hertz, aim in ((10, "under 0.5 %"), (50, "under 2 %")):
            share = _cost(rig, hertz)
            yield Line(f"sampling {count} channels at {hertz} Hz", f"{100 * share:.2f} % of a core", "", "", aim)
        yield _pairs(rig)
        rig.close()
    yield _told()


def _tree(root: Path) -> Path:
    """The machine's own /proc, and as many temperatures as a large machine has."""
    (root / "proc").symlink_to("/proc")
    chip = root / "sys/class/hwmon/hwmon0"
    chip.mkdir(parents=True)
    (chip / "name").write_text("chip\n")
    for i in range(SENSORS):
        (chip / f"temp{i + 1}_input").write_text(f"{40_000 + 100 * i}\n")
    return root


def _watch(rig: ThisRig) -> Callable[[float], None]:
    """What a test does with each sample, from reading to the packed block."""
    gatherer, guard = BlockGatherer(rig.declaration), Guard(rig.declaration)
    summary = PassSummary(rig.declaration, ())

    def take(now: float) -> None:
        row: tuple[Reading, ...] = rig.sample()
        guard.look(now, row)
        summary.add(row)
        block = gatherer.add(now, row, 1.5)
        if block is not None:
            pack(block)

    return take


def _cost(rig: ThisRig, hertz: int) -> float:
    """Share of a core that sampling takes at a rate, by the thread's own processor time."""
    take, interval = _watch(rig), 1.0 / hertz
    began, used = time.monotonic(), time.thread_time()
    next_ = began
    while time.monotonic() - began < SECONDS:
        take(time.monotonic())
        next_ += interval
        time.sleep(max(0.0, next_ - time.monotonic()))
    return (time.thread_time() - used) / (time.monotonic() - began)


def _pairs(rig: ThisRig) -> Line:
    """Whole numbers on all processors, with and without sampling in turn; the mean difference of logs with its margin."""
    logs = []
    for i in range(PAIRS):
        with_, without = (_score(rig, sampled) for sampled in ((True, False) if i % 2 else (False, True)))
        if not i % 2:
            with_, without = without, with_
        logs.append(math.log(with_ / without))
    mean, spread = statistics.mean(logs), statistics.stdev(logs)
    margin = 2.2 * spread / math.sqrt(PAIRS)
    return Line(
        f"whole numbers while sampled at 10 Hz, {PAIRS} interleaved pairs",
        f"{100 * mean:+.2f} % ± {100 * margin:.2f}",
        "the same without sampling",
        "",
        "within its margin",
    )


def _told() -> Line:
    """How soon it is known that a workload has died, from the kill to the call that ends the wait for the next sample."""
    times = []
    cpu = str(min(os.sched_getaffinity(0)))
    command = [sys.executable, "-m", "yondle.workloads.kernels.whole_numbers", "--cpus", cpu]
    for _ in range(DEATHS):
        told = threading.Event()
        run = ChildRun(command, 30.0, time.monotonic, told.set)
        time.sleep(3.0)
        began = time.perf_counter()
        os.kill(run.pid, signal.SIGSEGV)
        told.wait()
        times.append(time.perf_counter() - began)
        run.stop()
    return Line("a workload that dies is known after", median_ms(times), "", "", "under 50 ms")


def _score(rig: ThisRig, sampled: bool) -> float:
    stop = threading.Event()
    thread = threading.Thread(target=_sample_until, args=(rig, stop))
    if sampled:
        thread.start()
    cpus = ",".join(map(str, sorted(os.sched_getaffinity(0))))
    child = subprocess.Popen(
        [sys.executable, "-m", "yondle.workloads.kernels.whole_numbers", "--cpus", cpus],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert child.stdin is not None
    assert child.stdout is not None
    score = 0.0
    for line in child.stdout:
        message = json.loads(line)
        if message["event"] == "ready":
            child.stdin.write('{"do": "go", "seconds": 3}\n')
            child.stdin.flush()
        elif message["event"] == "result":
            score = float(message["score"])
            break
    child.communicate()
    stop.set()
    if sampled:
        thread.join()
    return score


def _sample_until(rig: ThisRig, stop: threading.Event) -> None:
    take = _watch(rig)
    while not stop.wait(0.1):
        take(time.monotonic())
