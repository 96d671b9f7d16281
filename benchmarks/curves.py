"""Scaling, Map and Compare with much to show: a logbook of 10,000 passes, 40 benchmarks and all of Heron's knobs."""

from __future__ import annotations

import re
import resource
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from itertools import cycle
from multiprocessing import get_context
from pathlib import Path
from random import Random

from PySide6.QtCore import QPointF

from benchmarks.measuring import Line, median_ms, seconds_of
from benchmarks.window import Shown
from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.session import Session
from yondle.desktop.look.basics import children, top_items
from yondle.desktop.shell.window import MainWindow
from yondle.model.events import AttemptClosed, PassEnded, PassOpened, StepOpened, VerdictGiven
from yondle.model.knobs import Change, Setup
from yondle.model.measured import Measured
from yondle.model.sensors import Quantity
from yondle.model.steps import PassRecord, Step, StepKind
from yondle.model.verdicts import Outcome, Verdict
from yondle.model.workloads import PassResult
from yondle.rigs.simulated.rigfile import rig_text
from yondle.views.shared.showing import Measure

BENCHMARKS, SETTINGS = 40, 250
AT = "2026-10-18T01:00:00+01:00"


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "much.yondle"
        with ProcessPoolExecutor(1, get_context("spawn")) as apart:
            passes = apart.submit(make_much, path).result()
        shown = Shown(path, 20.0)
        window = shown.window
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        window.go_to(1)
        shown.run(0.3)
        place = shown.place("Scaling")
        knobs = cycle([k.id for k in place._knobs])

        def painted() -> None:
            window.grab()

        def turn() -> None:
            place.choose_knob(next(knobs))
            painted()

        yield Line(
            f"Scaling: another knob, {passes:,} passes, {BENCHMARKS} benchmarks",
            median_ms(seconds_of(turn, 25)),
            "",
            "",
            "under 100 ms",
        )
        measures = cycle([Measure.POWER, Measure.GAIN])

        def show_other() -> None:
            place.choose_measure(next(measures))
            painted()

        yield Line("Scaling: another measure", median_ms(seconds_of(show_other, 15)), "", "", "under 100 ms")
        sides = cycle([0, 1])

        def change_place() -> None:
            window.go_to(next(sides))
            painted()

        yield Line("Tune to Scaling and back", median_ms(seconds_of(change_place, 16)), "", "", "under 100 ms")
        window.go_to(1)
        if place.grouped.isChecked():
            place.grouped.click()
        assert place.chart is not None
        chart = place.chart
        zooms = cycle([0.9, 1.1])

        def zoom() -> None:
            chart.getPlotItem().getViewBox().scaleBy((next(zooms), 1.0))
            chart.grab()

        yield Line("Scaling: one frame of a zoom", median_ms(seconds_of(zoom, 40)), "", "", "under 16 ms")
        box = chart.getPlotItem().getViewBox()
        spots = cycle([box.mapViewToScene(QPointF(spot.x, spot.y)) for spot in chart.spots()])

        def hover() -> None:
            chart._hover((next(spots),))
            chart.grab()

        yield Line("Scaling: one frame with a point told", median_ms(seconds_of(hover, 40)), "", "", "under 16 ms")
        window.go_to(2)
        pairs = cycle(range(len(shown.place("Map")._pairs)))

        def other_pair() -> None:
            shown.place("Map").choose_pair(next(pairs))
            painted()

        yield Line("Map: another pair of knobs", median_ms(seconds_of(other_pair, 15)), "", "", "under 100 ms")
        yield from _comparing(window, painted)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        yield Line(
            "memory of the window's process at its highest",
            f"{peak:.0f} MiB ({before:.0f} before Scaling)",
            "",
            "",
            "under 300 MB",
        )
        shown.close()


def _comparing(window: MainWindow, painted: Callable[[], None]) -> Iterator[Line]:
    """Tick columns one by one, change rows, and show what everything costs."""
    assert window.places is not None
    place = window.places.place("Compare")
    assert place is not None
    sides = cycle([3, 0])

    def change_place() -> None:
        window.go_to(next(sides))
        painted()

    yield Line("Tune to Compare and back", median_ms(seconds_of(change_place, 16)), "", "", "under 100 ms")
    window.go_to(3)
    steps = iter(range(2, 40))

    def tick() -> None:
        place.choose(str(next(steps)), True)
        painted()

    yield Line("Compare: one column more, up to 8", median_ms(seconds_of(tick, 7)), "", "", "under 100 ms")
    rows = cycle(children(top_items(place.table)[0]))

    def other_row() -> None:
        place.table.setCurrentItem(next(rows))
        painted()

    yield Line("Compare: another row along a knob", median_ms(seconds_of(other_row, 15)), "", "", "under 100 ms")
    place.charts.show_page(1)
    yield Line("Compare: what another row costs", median_ms(seconds_of(other_row, 15)), "", "", "under 100 ms")


def make_much(path: Path) -> int:
    """Write a logbook of many settings, each knob by itself and two together; gives the count of passes."""
    session = create_logbook(path, RigChoice("simulated", "Heron", _rig_of_many()))
    declaration, stock, check = session.declaration, session.declaration.stock, session.snapshot.check()
    scored = [w for w in declaration.workloads if w.scored and not w.by_hand]
    setups = _setups(session)
    chance, parent, passes = Random(1), None, 0
    told = Measured(
        mean={c.id: 0.0 if c.quantity is Quantity.FLAG else 50.0 for c in declaration.channels},
        most={c.id: 60.0 for c in declaration.channels},
    )
    for number, setup in enumerate(setups, 1):
        kind = StepKind.BASELINE if number == 1 else StepKind.CHANGE
        changes = tuple(Change(c.knob, c.old, c.new) for c in stock.changes_to(setup))
        step = Step(number, kind, parent, setup, changes, len(changes) > 1)
        t = 1_000.0 * number
        session.logbook.take(StepOpened(number, step, stock, 1, "boot", AT, t, {}, check, {}))
        for ordinal, work in enumerate(scored, 1):
            score = 100.0 * (setup["core_clock"] / 4200.0) ** 0.8 * chance.gauss(1.0, 0.005)
            made = PassRecord(
                ordinal,
                "score passes",
                work.id,
                1,
                False,
                t + 12 * ordinal,
                PassResult(True, score, 12.0, measured=told),
            )
            session.logbook.take(
                PassOpened(number, ordinal, made.stage, work.id, 1, False, ordinal, len(scored), 12.0, t)
            )
            session.logbook.take(PassEnded(number, made))
            passes += 1
        session.logbook.take(VerdictGiven(number, number, Outcome(Verdict.HELD, "for the benchmark")))
        session.logbook.take(AttemptClosed(number, number, setup, True, 1, AT))
        parent = 1
    session.close()
    return passes


def _setups(session: Session) -> list[Setup]:
    stock = session.declaration.stock
    grid = [
        stock.with_values({"core_clock": 4000.0 + 100.0 * i, "memory_rate": 5200.0 + 200.0 * j})
        for i in range(9)
        for j in range(7)
    ]
    each = 2 + SETTINGS // len(session.declaration.knobs)
    alone = [
        stock.with_values({knob.id: value})
        for knob in session.declaration.knobs
        for value in knob.values()[:: max(1, knob.notches // each)][:each]
    ]
    return list(dict.fromkeys([stock, *grid, *alone]))[:SETTINGS]


def _rig_of_many() -> str:
    """Give Heron with copies of its first benchmark."""
    text = rig_text("heron")[0]
    found = re.search(r"\[workloads\.stacking\].*?(?=\n\[)", text, flags=re.DOTALL)
    assert found is not None
    copies = [
        found[0]
        .replace("[workloads.stacking]", f"[workloads.job_{i:02}]")
        .replace('name = "Stacking"', f'name = "Job {i:02}"')
        for i in range(BENCHMARKS - 5)
    ]
    return text.replace(found[0], "\n\n".join([found[0], *copies]))
