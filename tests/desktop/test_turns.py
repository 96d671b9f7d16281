"""Long work in pieces: the window answers between them, and what is chosen meanwhile is what is shown."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QObject
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import visit
from tests.desktop.test_compare_place import make_book

from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.look import turns as turns_of
from yondle.desktop.look.turns import Turns
from yondle.desktop.shell.rooms import NAMES


def test_what_is_begun_later_takes_the_place_of_what_is_left(qtbot: QtBot) -> None:
    done: list[str] = []
    parent = QObject()
    turns = Turns(parent)

    def pieces(name: str, at_first: object = None) -> Iterator[None]:
        for i in range(3):
            done.append(f"{name}{i}")
            if i == 0 and callable(at_first):
                at_first()
            yield

    turns.begin(pieces("a", lambda: turns.begin(pieces("b"))))
    assert done == [], "the first piece has a turn of its own"
    qtbot.waitUntil(lambda: not turns.active and bool(done))
    assert done == ["a0", "b0", "b1", "b2"]
    done.clear()
    turns.begin(pieces("c", turns.finish))
    turns.finish()
    assert done == ["c0", "c1", "c2"], "finishing from inside does no harm"
    turns.finish()
    assert not turns.active

    def fails() -> Iterator[None]:
        yield
        raise ValueError("a fault")

    with qtbot.captureExceptions() as raised:
        turns.begin(fails())
        qtbot.waitUntil(lambda: bool(raised))
    assert not turns.active
    turns.begin(fails())
    with pytest.raises(ValueError, match="a fault"):
        turns.finish()


def test_a_book_can_be_used_before_anything_that_draws_or_plans_is_loaded(measured: Path) -> None:
    """The window of a process of its own: large libraries and what plans come after Tune can be used, SciPy after the chart."""
    code = """
import os, sys, time
from pathlib import Path
from PySide6.QtCore import QEventLoop
from PySide6.QtWidgets import QApplication
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

app = QApplication([])
window = MainWindow(Theme(app, "paper"), first_page=False)
window.show()
window.open_logbook(Path(sys.argv[1]))
while window.tune is None or window.bridge.busy:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
window.grab()
heavy = ("numpy", "scipy", "pyqtgraph", "yondle.planning.plans", "yondle.views.tune.charting", "yondle.app.plans.plans")
print([name for name in heavy if name in sys.modules], window.tune.rulers.shown != [], flush=True)
prepared = []
window.bridge.prepared.connect(prepared.append)
while not window.tune.complete:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
print(window.tune.chart is not None, "scipy.special" in sys.modules, flush=True)
while len(prepared) < 2:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
print("scipy.special" in sys.modules, flush=True)
os._exit(0)
"""
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", code, str(measured)],
        capture_output=True,
        text=True,
        check=True,
        timeout=60,
        env=environment,
    )
    assert done.stdout.splitlines() == ["[] True", "True False", "True"], done.stderr


def test_every_place_answers_while_it_is_first_shown(
    open_book: Open, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(turns_of, "TURN_S", 0.0)
    window = open_book(make_book(tmp_path / "whole.yondle", (4150.0, 4100.0)))
    for name in NAMES[1:]:
        window.tabs.setCurrentIndex(NAMES.index(name))
        place = window.places.currentWidget() if window.places is not None else None
        assert isinstance(place, ChartPlace)
        assert not place.complete, f"{name} was worked out in one piece"
        began = place._turns
        turns = 0
        while began.active:
            began._turn()
            turns += 1
        assert turns > 1 or name == "Map", f"{name} took {turns} turns"
        assert place.complete


def test_what_is_chosen_before_a_place_is_whole_is_shown(open_book: Open, qtbot: QtBot, tmp_path: Path) -> None:
    window = open_book(make_book(tmp_path / "whole.yondle", (4150.0, 4100.0)))
    compare, traces = window.places.place("Compare"), window.places.place("Traces")
    assert compare is not None
    assert traces is not None
    other = make_book(tmp_path / "other.yondle", ())
    window.tabs.setCurrentIndex(NAMES.index("Compare"))
    compare.read(other)
    assert compare.view is not None
    assert compare.view.columns[0].name == "Stock"
    assert len(compare.view.columns) > 1
    window.show_trace(1)
    qtbot.waitUntil(lambda: traces.complete)
    assert traces._first is not None
    assert traces._first.run.attempt == 1
    traces.choose_run(2)
    visit(window, "Scaling")
    window.tabs.setCurrentIndex(NAMES.index("Traces"))
    assert traces.complete, "nothing has changed since"


def test_another_scheme_while_strips_are_drawn_ends_in_whole_strips(
    open_book: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    window = open_book(make_book(tmp_path / "whole.yondle", (4150.0, 4100.0)))
    traces, theme = window.places.place("Traces"), window._theme
    assert traces is not None
    for pieces_before in range(1, 14, 2):
        if traces.chart is not None:
            traces.chart.deleteLater()
            traces.chart = None
        traces.show_run(2 + pieces_before % 4 // 2)
        window.visit(NAMES.index("Traces"))
        for _ in range(pieces_before):
            traces._turns._turn()
        theme.force("night" if pieces_before % 4 == 1 else "paper")
        qtbot.waitUntil(lambda: traces.complete and (traces.chart is None or not traces.chart._turns.active))
        chart = traces.chart
        assert chart is not None
        panels = [strip.panel for strip in chart._strips]
        assert panels == list(chart._panels), f"after {pieces_before} pieces"
        assert chart.range[1] > 30.0, f"after {pieces_before} pieces the times in view are {chart.range}"


def test_another_scheme_is_painted_whole_in_a_turn_after_it_was_worn(
    open_book: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    window = open_book(make_book(tmp_path / "worn.yondle", (4150.0,)))
    painted: list[QObject] = []

    class Watches(QObject):
        def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
            if event.type() is QEvent.Type.Paint:
                painted.append(watched)
            return False

    watches = Watches()
    for place in ("Report", "Logbook", "Scaling"):
        visit(window, place)
        QTest.qWait(200)
        QApplication.instance().installEventFilter(watches)  # type: ignore[union-attr]
        painted.clear()
        window._theme.force("night" if not window._theme.colours.night else "paper")
        QApplication.processEvents()
        assert not painted, f"{place}: painted in the turn it was dressed in"
        qtbot.waitUntil(lambda: bool(painted))
        QApplication.instance().removeEventFilter(watches)  # type: ignore[union-attr]
        shown = window.screen().grabWindow(window.winId()).toImage()
        ground = window._theme.colours.panel
        assert shown.pixelColor(3, 3) == ground, f"{place}: the bar is still in the other scheme"
    window.hide()
    window._theme.force("night" if not window._theme.colours.night else "paper")
    assert window.updatesEnabled(), "what nobody sees is not held back"
