"""The child's side of the protocol: warms up, waits for the word, works on pinned threads, reports as JSON lines.

Lines out: {"event": "ready", ...facts}, then every HEARTBEAT_S {"event": "beat", "units": n}, then {"event": "result", ...}
or {"event": "wrong", ...}. Lines in: {"do": "go", "seconds": s} and {"do": "stop"}; the end of input means stop too.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

HEARTBEAT_S = 0.2


@dataclass(slots=True)
class _Worker:
    """One thread's tally."""

    cpu: int
    units: int = 0
    wrong: int = 0
    first_wrong: int | None = None
    ran_on: list[int] = field(default_factory=list)


def serve(
    make_unit: Callable[[], Callable[[], int]], expected: int, work_per_unit: float, facts: dict[str, Any]
) -> None:
    """Run as a workload child: `make_unit` gives a worker its unit of work, which returns a checksum to be `expected`.

    The figure is the work of all workers over the time from the word to the last unit, in units of `work_per_unit`.
    """
    parser = argparse.ArgumentParser()
    parser.add_argument("--cpus", required=True, help="comma-separated processor numbers, one worker pinned to each")
    cpus = [int(part) for part in parser.parse_args().cpus.split(",")]
    unit = make_unit()
    unit()
    _say("ready", pid=os.getpid(), **facts)
    order = json.loads(sys.stdin.readline() or '{"do": "stop"}')
    if order["do"] != "go":
        return
    stop = threading.Event()
    threading.Thread(target=_listen, args=(stop,), daemon=True).start()
    workers = [_Worker(cpu) for cpu in cpus]
    began = time.monotonic()
    until = began + float(order["seconds"])
    threads = [threading.Thread(target=_work, args=(worker, make_unit(), expected, until, stop)) for worker in workers]
    for thread in threads:
        thread.start()
    per_second = _beat_until_done(threads, workers, began, work_per_unit)
    seconds = time.monotonic() - began
    wrong = [w for w in workers if w.wrong]
    if wrong:
        detail = ", ".join(f"processor {w.cpu}: {w.wrong} of {w.units} units (first {w.first_wrong})" for w in wrong)
        _say("wrong", detail=detail, seconds=seconds)
        return
    total = sum(w.units for w in workers)
    pinned = sum(1 for w in workers if w.ran_on == [w.cpu])
    _say(
        "result", score=total * work_per_unit / seconds, seconds=seconds, units=total, measured={"workers": pinned},
        per_worker=[w.units * work_per_unit / seconds for w in workers], per_second=per_second,
    )  # fmt: skip


def _work(worker: _Worker, unit: Callable[[], int], expected: int, until: float, stop: threading.Event) -> None:
    os.sched_setaffinity(threading.get_native_id(), {worker.cpu})
    worker.ran_on = sorted(os.sched_getaffinity(threading.get_native_id()))
    while time.monotonic() < until and not stop.is_set():
        checksum = unit()
        worker.units += 1
        if checksum != expected:
            worker.wrong += 1
            if worker.first_wrong is None:
                worker.first_wrong = worker.units
            stop.set()


def _beat_until_done(
    threads: list[threading.Thread], workers: list[_Worker], began: float, work_per_unit: float
) -> list[float]:
    per_second: list[float] = []
    seen, since = 0, began
    while any(thread.is_alive() for thread in threads):
        threads[0].join(HEARTBEAT_S)
        now, units = time.monotonic(), sum(w.units for w in workers)
        _say("beat", units=units)
        if now - since >= 1.0:
            per_second.append((units - seen) * work_per_unit / (now - since))
            seen, since = units, now
    return per_second


def _listen(stop: threading.Event) -> None:
    sys.stdin.readline()
    stop.set()


def _say(event: str, **values: Any) -> None:
    sys.stdout.write(json.dumps({"event": event, **values}) + "\n")
    sys.stdout.flush()
