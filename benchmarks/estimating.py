"""How long estimates take: the next test of a search, one regression of a thousand passes, the band of a ruler."""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from benchmarks.measuring import Line, median_ms, seconds_of
from yondle.analysis.hold import Posterior
from yondle.analysis.pooled import Reading, pooled_gains
from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.workloads import Direction
from yondle.planning.edge_search import LEAST_GAIN_PER_H, Aim, Chooser, Prices
from yondle.views.tune.rulers import holding

NOTCHES = 60
WIDTHS = np.geomspace(0.12, 2.4, 10)


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    yield from _choosing()
    yield _pooling()
    yield from _band()


def _choosing() -> Iterator[Line]:
    chooser = Chooser(Aim(1 / 8), Prices(50.0, 50.0, 1380.0), 0, NOTCHES)
    blank = seconds_of(lambda: chooser.next_test([Posterior(NOTCHES, WIDTHS)], LEAST_GAIN_PER_H), 9)
    yield Line("the first test of a search on 60 notches chosen", median_ms(blank), "", "", "under 50 ms")
    known = Posterior(NOTCHES, WIDTHS)
    for notch, seconds in ((20, 30.0), (28, 30.0), (32, 600.0)):
        known.held(notch, seconds)
    known.failed(38, 4.0)
    later = seconds_of(lambda: chooser.next_test([known], LEAST_GAIN_PER_H), 9)
    yield Line("a later test chosen", median_ms(later), "", "", "under 50 ms")


def _pooling() -> Line:
    rng = np.random.default_rng(1)
    readings = [
        Reading(int(s), 60.0 * i, 100.0 * math.exp(e))
        for i, (s, e) in enumerate(zip(rng.integers(0, 20, 1000), rng.standard_t(3, 1000) * 0.008, strict=True))
    ]
    pooled_gains(readings, Direction.HIGHER)
    times = seconds_of(lambda: pooled_gains(readings, Direction.HIGHER), 9)
    return Line(
        "regression of 1,000 passes at 20 settings, drift and outliers", median_ms(times), "", "", "under 20 ms"
    )


def _band() -> Iterator[Line]:
    from PySide6.QtWidgets import QApplication

    from yondle.desktop.look.theme import Theme
    from yondle.desktop.tune.ruler import Ruler
    from yondle.views.kept import ViewCache

    application = QApplication.instance() or QApplication([])
    assert isinstance(application, QApplication)
    with TemporaryDirectory(dir=Path.cwd()) as folder:
        session = create_logbook(Path(folder) / "band.yondle", choose_rig("heron"))
        session.do(RunBaseline(2))
        for value in (4600.0, 4800.0):
            session.do(Propose("core_clock", value))
            session.do(TryProposal(2))
        knob, check = session.declaration.knob("core_clock"), session.snapshot.check()
        held = holding(session.snapshot, knob, check)
        anew = seconds_of(lambda: holding(session.snapshot, knob, check), 9)
        yield Line("chances to hold worked out anew, 65 values", median_ms(anew), "", "", "once a verdict")
        ruler = Ruler(Theme(application, "paper"))
        ruler.resize(680, ruler.height())
        views = ViewCache(lambda: session.snapshot)

        def drag() -> None:
            at = 4300.0 + 25.0 * drag_count[0]
            drag_count[0] = (drag_count[0] + 1) % 8
            session.do(Propose("core_clock", at))
            view = next(v for v in views.rulers() if v.knob.id == "core_clock")
            ruler.show_view(view, True, False, held)
            ruler.grab()

        drag_count = [0]
        yield Line("the band redrawn for a drag by a notch", median_ms(seconds_of(drag, 40)), "", "", "under 16 ms")
        session.close()
