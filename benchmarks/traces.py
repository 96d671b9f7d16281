"""Traces with ten million readings: reading them from the logbook, and panning and zooming them."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from itertools import cycle
from pathlib import Path

import numpy as np

from benchmarks.measuring import Line, median_ms, seconds_of
from benchmarks.window import Shown
from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.model.events import BlockRecorded
from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Quantity, SampleBlock
from yondle.views.traces.traces import Panel, Trace, trace_of

READINGS, CHANNELS, PER_BLOCK = 10_000_000, 10, 40
READ_BLOCKS = 2_500
CORES = 16


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.yondle"
        session = create_logbook(path, choose_rig("heron"))
        session.do(RunBaseline(2))
        channels = tuple(c.id for c in session.declaration.channels)
        for i in range(READ_BLOCKS):
            times = tuple(10_000.0 + 4.0 * i + 0.1 * k for k in range(PER_BLOCK))
            rows = tuple(tuple(50.0 + (k + c) % 7 for c in range(len(channels))) for k in range(PER_BLOCK))
            session.logbook.take(BlockRecorded(1, None, SampleBlock(channels, times, rows)))
        began = time.perf_counter()
        made = trace_of(session.snapshot, 1)
        took = time.perf_counter() - began
        session.close()
        yield Line(f"a trace of {made.readings:,} readings read from the logbook", f"{1000 * took:.0f} ms", "", "", "")
        shown = Shown(path, 20.0)
        window = shown.window
        window.go_to(4)
        place = shown.place("Traces")
        assert place is not None
        assert place._first is not None
        trace = place._first = _of_ten_million(place._first)
        began = time.perf_counter()
        for name in trace.columns:
            trace.pyramid(name)
        built = time.perf_counter() - began
        yield Line(f"pyramids of {READINGS:,} readings built", f"{1000 * built:.0f} ms", "", "", "")
        place._show(keep_range=False)
        chart = place.chart
        assert chart is not None
        whole = float(trace.times[-1])
        drawn = sum(strip.panel is not None and len(strip._curves) for strip in chart._strips)
        moves = cycle(
            [(f * whole, (f + w) * whole) for w in (1.0, 0.5, 0.1, 0.01, 0.001) for f in np.linspace(0, 0.9, 9)]
        )

        def pan() -> None:
            chart.show_range(*next(moves))
            chart.grab()

        what = f"one frame of a pan or zoom, {READINGS:,} readings, {drawn} curves"
        yield Line(what, median_ms(seconds_of(pan, 90)), "", "", "under 16 ms")
        spots = cycle(np.linspace(0.0, whole, 37).tolist())

        def point() -> None:
            chart._point(next(spots))
            chart.grab()

        yield Line(
            "one frame with the readings at a moment told", median_ms(seconds_of(point, 60)), "", "", "under 16 ms"
        )
        spans = cycle([(0.1 * whole, f * whole) for f in (0.2, 0.5, 0.9)])

        def choose() -> None:
            place.choose_span(*next(spans))

        yield Line("figures of a chosen span", median_ms(seconds_of(choose, 9)), "", "", "")
        cores = _with_cores(trace)
        place._first = cores
        place.show_panel(cores.panels[-1].key, True)
        place._show(keep_range=False)
        what = f"one frame of a pan or zoom with a band more for each of {CORES} cores, {READINGS // CHANNELS:,} readings each"
        yield Line(what, median_ms(seconds_of(pan, 90)), "", "", "under 16 ms")
        shown.close()


def _of_ten_million(trace: Trace) -> Trace:
    """Give a test with so many readings of as many channels as are kept."""
    chance, count = np.random.default_rng(1), READINGS // CHANNELS
    kept = [channel.id for panel in trace.panels for channel in panel.channels if channel.id in trace.columns][
        :CHANNELS
    ]
    columns = {name: chance.normal(50.0, 5.0, count).astype(np.float32) for name in kept}
    panels = [replace(p, channels=tuple(c for c in p.channels if c.id in kept)) for p in trace.panels]
    times = np.asarray(0.1 * np.arange(count), dtype=np.float64)
    return replace(trace, times=times, columns=columns, panels=tuple(p for p in panels if p.channels), _pyramids={})


def _with_cores(trace: Trace) -> Trace:
    """Give the test with a temperature of each of many cores besides."""
    chance, count = np.random.default_rng(2), len(trace.times)
    channels = tuple(
        Channel(f"core_{i}", f"Core {i}", "°C", Quantity.TEMPERATURE, Subsystem.PROCESSOR, core=i) for i in range(CORES)
    )
    read = {c.id: chance.normal(60.0, 5.0, count).astype(np.float32) for c in channels}
    panel = Panel("Each core", "°C", Quantity.TEMPERATURE, channels, (), (), by_core=True)
    return replace(trace, columns={**trace.columns, **read}, panels=(*trace.panels, panel))
