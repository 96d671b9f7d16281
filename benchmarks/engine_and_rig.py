"""Journal against a bare fsync, the virtual machine against real time, the engine on top of it."""

from __future__ import annotations

import os
import statistics
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from benchmarks.measuring import Line, median_ms, ms, seconds_of
from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.model.events import ApplyOpened, BlockRecorded
from yondle.model.sensors import SampleBlock
from yondle.rigs.simulated.rig import SimulatedRig
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory(dir=Path.cwd()) as folder:
        yield from _journal(Path(folder))
        yield _engine(Path(folder))
    yield from _rig()


def _journal(folder: Path) -> Iterator[Line]:
    session = create_logbook(folder / "journal.yondle", choose_rig("heron"))
    session.do(RunBaseline(2))
    setup, book = session.snapshot.in_force, session.logbook
    bare = (folder / "bare").open("wb", buffering=0)

    def fsync() -> None:
        bare.write(b"x" * 4096)
        os.fsync(bare.fileno())

    channels = tuple(c.id for c in session.declaration.channels)
    rows = tuple(tuple(float(i + j) for j in range(len(channels))) for i in range(40))
    block = SampleBlock(channels, tuple(float(i) for i in range(40)), rows)
    fsyncs, intents, blocks = [], [], []
    for _ in range(300):
        fsyncs += seconds_of(fsync, 1)
        intents += seconds_of(lambda: book.take(ApplyOpened(1, setup)), 1)
        blocks += seconds_of(lambda: book.take(BlockRecorded(1, 1, block)), 1)
    bare.close()
    session.close()
    one = statistics.median(fsyncs)
    for what, times in (("durable journal record", intents), ("durable block of 40 samples", blocks)):
        ratio = statistics.median(times) / one
        yield Line(
            what, median_ms(times), f"4 KiB write and fsync on the same disk: {median_ms(fsyncs)}", f"{ratio:.1f} x"
        )


def _engine(folder: Path) -> Line:
    session = create_logbook(folder / "engine.yondle", choose_rig("heron"))
    began, virtual = time.perf_counter(), session.machine.clock.now()
    session.do(RunBaseline())
    real = time.perf_counter() - began
    speed = (session.machine.clock.now() - virtual) / real
    session.close()
    return Line(
        "whole engine with journal, free-running", f"{speed:,.0f} virtual s per s", "real time", f"{speed:,.0f} x"
    )


def _rig() -> Iterator[Line]:
    for sampled, words in (
        (False, "rig alone, under load"),
        (True, "rig with all its sensors read every virtual second"),
    ):
        rig = SimulatedRig(parse_rig_file(*rig_text("heron")))
        rig.start("stacking", 1e9, rig.read_back())

        def hour(rig: SimulatedRig = rig, sampled: bool = sampled) -> None:
            for _ in range(3600):
                rig.world.advance(1.0)
                if sampled:
                    rig.sample()

        best = min(seconds_of(hour, 7))
        aim = "at least 20,000 x" if not sampled else ""
        yield Line(words, f"{ms(best)} for an hour", "real time", f"{3600 / best:,.0f} x", aim)
