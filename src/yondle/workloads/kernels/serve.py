"""The child's side of the protocol: warms up, waits for the word, works on pinned threads, reports as JSON lines.

Lines out: {"event": "ready", ...facts}, then every HEARTBEAT_S {"event": "beat", "work": w}, then {"event": "result", ...}
or {"event": "wrong", ...}; {"event": "cannot", "problem": ..., "remedy": ...} where this machine can't run it. Lines in:
{"do": "go", "seconds": s} and {"do": "stop"}; the end of input means stop too. See docs/workload-protocol.md.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from yondle.language.saying import say
from yondle.workloads.kernels.reference import ReferenceClock
from yondle.workloads.kernels.timings import Timings, rates

HEARTBEAT_S = 0.2
REFERENCE_EVERY_S = 0.5
REFERENCE_FROM_S = 1.0
"""A processor settles on the clock of a new load within the first second."""


class CannotRun(Exception):
    """This machine can't run the workload: what is missing, and what to do about it."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem)
        self.problem, self.remedy = problem, remedy


@dataclass(frozen=True, slots=True)
class Place:
    """Where a worker works: which of how many it is, and what all were told."""

    index: int
    of: int
    options: argparse.Namespace


class Work(Protocol):
    """One worker's share. It is made, warmed up and used in the worker's own pinned thread."""

    timings: Timings

    def unit(self) -> tuple[float, str]:
        """Do one unit; give its work, and what was wrong with its result ('' when it was right)."""

    def spoil(self) -> None:
        """Flip one bit, so that the next unit has to be found wrong: shows that the check works."""


Figure = Callable[[Sequence[Any], float, float], tuple[float, dict[str, float]]]
"""Gives score and sub-scores from each worker's Work, their work in all, and the seconds it took."""


def work_over_time(works: Sequence[Work], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """The usual figure: the work of all over the time from the word to the last unit; sub-scores are rates."""
    return work / seconds, rates([each.timings for each in works])


@dataclass(frozen=True, slots=True)
class Kernel:
    """A built-in workload as its child process knows it; `single` ones use one worker however many there are."""

    make: Callable[[Place], Work]
    facts: dict[str, Any]
    figure: Figure = work_over_time
    single: bool = False
    extras: Callable[[Sequence[Any]], dict[str, Any]] = lambda works: {}


@dataclass(slots=True)
class _Worker:
    """One thread's tally."""

    cpu: int
    spoil_at: int
    made: Work | None = None
    trouble: BaseException | None = None
    units: int = 0
    work: float = 0.0
    wrong: int = 0
    first_wrong: str = ""
    ended: float = 0.0
    ran_on: list[int] = field(default_factory=list)
    clocks: list[float] = field(default_factory=list)


def serve(kernel: Kernel) -> None:
    """Run as a workload child until its time is up, it is stopped, or a result is wrong."""
    options = _options()
    if options.nice:
        os.nice(options.nice)
    cpus = options.cpus[:1] if kernel.single else options.cpus
    workers = [_Worker(cpu, options.spoil.get(cpu, 0)) for cpu in cpus]
    crew = _Crew(kernel, options, workers)
    try:
        _work_through(kernel, crew)
    except CannotRun as missing:
        _say("cannot", problem=missing.problem, remedy=missing.remedy)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    finally:
        crew.send_home()


def _work_through(kernel: Kernel, crew: _Crew) -> None:
    """From getting ready to the result; raises BrokenPipeError when nobody listens any more."""
    workers = crew.workers
    crew.get_ready()
    _say("ready", pid=os.getpid(), page_kib=os.sysconf("SC_PAGE_SIZE") // 1024, **_large_pages(), **kernel.facts)
    order = json.loads(sys.stdin.readline() or '{"do": "stop"}')
    if order["do"] != "go":
        return
    threading.Thread(target=_listen, args=(crew.stop,), daemon=True).start()
    began = crew.go(float(order["seconds"]))
    per_second = _beat_until_done(crew, began)
    seconds = max(worker.ended for worker in workers) - began
    trouble = next((w.trouble for w in workers if w.trouble is not None), None)
    if isinstance(trouble, OSError | MemoryError):
        raise CannotRun(
            say("The system didn't let it go on: {trouble}.", trouble=trouble),
            say("Make room on the disk or in memory, or name another folder with 'yondle benchmarks --folder'."),
        )
    if trouble is not None:
        raise trouble
    wrong = [w for w in workers if w.wrong]
    if wrong:
        detail = "; ".join(
            say(
                "processor {cpu}: {wrong} of {units} units, first {first_wrong}",
                cpu=w.cpu,
                wrong=w.wrong,
                units=w.units,
                first_wrong=w.first_wrong,
            )
            for w in wrong
        )
        _say("wrong", detail=detail, processors=[w.cpu for w in wrong], seconds=seconds)
        return
    _say_result(kernel, workers, seconds, per_second)


def _say_result(kernel: Kernel, workers: list[_Worker], seconds: float, per_second: list[float]) -> None:
    works = [w.made for w in workers if w.made is not None]
    score, parts = kernel.figure(works, sum(w.work for w in workers), seconds)
    clocks = [clock for w in workers for clock in w.clocks]
    moved = {"reference_mhz": sum(clocks) / len(clocks), "reference_moved": _moved(workers)} if clocks else {}
    per_worker = [w.work / seconds for w in workers]
    _say(
        "result", score=score, seconds=seconds, units=sum(w.units for w in workers), parts=parts, **moved,
        measured={} if kernel.single else {"workers": sum(1 for w in workers if w.ran_on == [w.cpu])}, per_worker=per_worker,
        per_second=per_second, per_node=_per_node(workers, per_worker), **kernel.extras(works),
    )  # fmt: skip


class _Crew:
    """The worker threads: each makes its work where it will do it, waits for the word, and goes on until the end."""

    def __init__(self, kernel: Kernel, options: argparse.Namespace, workers: list[_Worker]) -> None:
        self.workers = workers
        self.stop = threading.Event()
        self._kernel = kernel
        self._word = threading.Event()
        self._until = 0.0
        self._made = [threading.Event() for _ in workers]
        self.threads = [
            threading.Thread(target=self._work, args=(worker, Place(i, len(workers), options), self._made[i]))
            for i, worker in enumerate(workers)
        ]

    def get_ready(self) -> None:
        """Make and warm up all work; raises CannotRun."""
        for thread in self.threads:
            thread.start()
        for made in self._made:
            made.wait()
        trouble = next((w.trouble for w in self.workers if w.trouble is not None), None)
        if trouble is not None:
            raise trouble

    def go(self, seconds: float) -> float:
        """Give the word; returns when that was."""
        began = time.monotonic()
        self._until = began + seconds
        self._word.set()
        return began

    def send_home(self) -> None:
        """Let the threads end, whatever they are at."""
        self.stop.set()
        self._word.set()
        for thread in self.threads:
            thread.join()

    def _work(self, worker: _Worker, place: Place, made: threading.Event) -> None:
        try:
            os.sched_setaffinity(threading.get_native_id(), {worker.cpu})
            worker.ran_on = sorted(os.sched_getaffinity(threading.get_native_id()))
            work = worker.made = self._kernel.make(place)
            clock = ReferenceClock()
            wrong = work.unit()[1]
            if wrong:
                self._found_wrong(worker, say("{wrong} (while warming up)", wrong=wrong))
            work.timings.forget()
            made.set()
            self._word.wait()
            if not self.stop.is_set():
                self._until_done(worker, work, clock)
        except BaseException as trouble:
            worker.trouble = trouble
            self.stop.set()
        finally:
            worker.ended = time.monotonic()
            made.set()

    def _until_done(self, worker: _Worker, work: Work, clock: ReferenceClock) -> None:
        next_look = time.monotonic() + REFERENCE_FROM_S
        while (now := time.monotonic()) < self._until and not self.stop.is_set():
            if now >= next_look:
                worker.clocks.append(clock.mhz())
                next_look = now + REFERENCE_EVERY_S
            if worker.units + 1 == worker.spoil_at:
                work.spoil()
            amount, wrong = work.unit()
            worker.units += 1
            worker.work += amount
            if wrong:
                self._found_wrong(worker, say("unit {units}: {wrong}", units=worker.units, wrong=wrong))

    def _found_wrong(self, worker: _Worker, words: str) -> None:
        worker.wrong += 1
        worker.first_wrong = worker.first_wrong or words
        self.stop.set()


def _beat_until_done(crew: _Crew, began: float) -> list[float]:
    per_second: list[float] = []
    seen, since = 0.0, began
    while any(thread.is_alive() for thread in crew.threads):
        crew.threads[0].join(HEARTBEAT_S)
        now, work = time.monotonic(), sum(w.work for w in crew.workers)
        _say("beat", work=work)
        if now - since >= 1.0:
            per_second.append((work - seen) / (now - since))
            seen, since = work, now
    return per_second


def _moved(workers: list[_Worker]) -> float:
    """By how much, in %, the clock of any worker moved from the first half of the pass to the second."""
    most = 0.0
    for worker in workers:
        half = len(worker.clocks) // 2
        if half >= 2:
            first, second = sorted(worker.clocks[:half]), sorted(worker.clocks[-half:])
            most = max(most, abs(second[half // 2] / first[half // 2] - 1.0) * 100.0)
    return most


def _per_node(workers: list[_Worker], rates: list[float]) -> dict[str, float]:
    """What the workers of each memory node made in a second; nothing on a machine with a single node."""
    nodes: dict[str, float] = {}
    for worker, rate in zip(workers, rates, strict=True):
        found = [path.name for path in Path(f"/sys/devices/system/cpu/cpu{worker.cpu}").glob("node*")]
        for name in found:
            nodes[name] = nodes.get(name, 0.0) + rate
    return nodes if len(nodes) > 1 else {}


def _large_pages() -> dict[str, float]:
    """Which share of the memory in use lies in large pages, in %."""
    try:
        text = Path("/proc/self/smaps_rollup").read_text("ascii")
        kib = {line.split()[0]: float(line.split()[1]) for line in text.splitlines()[1:]}
        return {"large_pages_percent": round(100.0 * kib["AnonHugePages:"] / kib["Anonymous:"], 1)}
    except (OSError, KeyError, IndexError, ValueError, ZeroDivisionError):
        return {}


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(description=say("A built-in workload of Yondle; speaks JSON lines."))
    parser.add_argument("--cpus", type=_numbers, required=True, help="processor numbers; one worker is pinned to each")
    parser.add_argument("--nice", type=int, default=0, help="by how much to lower the priority (negative raises it)")
    parser.add_argument("--memory-mib", type=int, default=0, help="how much memory a memory load may take in all")
    parser.add_argument("--folder", default="", help="where a storage load keeps its file")
    parser.add_argument("--spoil", type=_spoils, default={}, help="CPU:UNIT[,…] flip a bit before that unit")
    return parser.parse_args()


def _numbers(text: str) -> list[int]:
    return [int(part) for part in text.split(",")]


def _spoils(text: str) -> dict[int, int]:
    return {int(cpu): int(unit) for cpu, _, unit in (part.partition(":") for part in text.split(","))}


def _listen(stop: threading.Event) -> None:
    sys.stdin.readline()
    stop.set()


def _say(event: str, **values: Any) -> None:
    sys.stdout.write(json.dumps({"event": event, **values}) + "\n")
    sys.stdout.flush()
