"""Runs every benchmark and prints one table in Markdown."""

from __future__ import annotations

import os
import platform

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from benchmarks import (
    across,
    curves,
    engine_and_rig,
    estimating,
    keeping,
    kernel,
    next_move,
    own_cost,
    record,
    start,
    traces,
    window,
)


def main() -> None:
    """Print the table."""
    cores = len(os.sched_getaffinity(0))
    print(f"Python {platform.python_version()}, {platform.machine()}, {cores} cores\n")
    print("| what | figure | against, in the same run | ratio | aim |")
    print("| --- | --- | --- | --- | --- |")
    for lines in (
        engine_and_rig.lines,
        start.lines,
        window.lines,
        curves.lines,
        traces.lines,
        record.lines,
        estimating.lines,
        kernel.lines,
        next_move.lines,
        own_cost.lines,
        keeping.lines,
        across.lines,
    ):
        for line in lines():
            print(f"| {line.what} | {line.figure} | {line.against} | {line.ratio} | {line.aim} |", flush=True)


if __name__ == "__main__":
    main()
