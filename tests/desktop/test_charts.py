"""What every chart owes its reader: axes with units, points told that lead to their step, figures beside it."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import tune_of, visit

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.returning import ReturnTo
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.charts.place_chart import Measured, PlaceChart, ends
from yondle.desktop.shell.window import MainWindow
from yondle.model.verdicts import Verdict


@pytest.fixture
def window_with_two_knobs(open_book: Open, tmp_path: Path) -> MainWindow:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(3))
    for knob, value, passes in (("core_clock", 4100.0, 3), ("fan_level", 60.0, 3), ("core_clock", 4000.0, 2)):
        session.do(Propose(knob, value))
        session.do(TryProposal(passes, turns=False))
    session.do(ReturnTo(1))
    session.do(Propose("fan_level", 60.0))
    session.do(TryProposal(3, turns=False))
    session.do(ReturnTo(4))
    session.do(Propose("core_clock", 5000.0))
    session.do(TryProposal(2))
    session.close()
    return open_book(path)


def charts_of(window: MainWindow) -> list[tuple[str, PlaceChart]]:
    """Give every chart of points, each in its place."""
    tune, places = tune_of(window), window.places
    assert tune.chart is not None
    assert places is not None
    found: list[tuple[str, PlaceChart]] = [("Tune", tune.chart)]
    for name in ("Scaling", "Map", "Compare"):
        visit(window, name)
        place = places.place(name)
        found.append((name, place.charts.chart if name == "Compare" else place.chart))
    return found


def at(chart: PlaceChart, x: float, y: float) -> QPoint:
    return chart.mapFromScene(chart.getPlotItem().getViewBox().mapViewToScene(QPointF(x, y)))


def link_of(place: ChartPlace) -> QPushButton | None:
    """Give what leads from a place to a step."""
    buttons = (b for b in place.findChildren(QPushButton) if b.isVisible() and b.text().startswith("Step "))
    return next(buttons, None)


def test_every_axis_says_what_it_shows_with_its_unit(window_with_two_knobs: MainWindow) -> None:
    for name, chart in charts_of(window_with_two_knobs):
        for side in ("bottom", "left"):
            axis = chart.getPlotItem().getAxis(side)
            assert axis.label.isVisible(), (name, side)
            assert ", " in axis.labelText, (name, side, axis.labelText)


def test_keys_walk_from_point_to_point_and_tell_each(qtbot: QtBot, window_with_two_knobs: MainWindow) -> None:
    window = window_with_two_knobs
    chart = tune_of(window).chart
    assert chart is not None
    chart.setFocus()
    order = sorted(chart.spots(), key=lambda spot: (spot.x, spot.y))
    told: list[str] = []
    chart.told.connect(told.append)
    for _ in range(len(order) + 1):
        qtbot.keyClick(chart, Qt.Key.Key_Right)
    assert told == [chart.words(spot.what) for spot in [*order, order[-1]]], "the last stays the last"
    assert chart.accessibleDescription() == told[-1]
    qtbot.keyClick(chart, Qt.Key.Key_Left)
    qtbot.keyClick(chart, Qt.Key.Key_Return)
    assert tune_of(window).trail.selected() == order[-2].what.steps[-1]


def test_a_point_and_a_failure_lead_to_their_step(qtbot: QtBot, window_with_two_knobs: MainWindow) -> None:
    window = window_with_two_knobs
    tune = tune_of(window)
    failed = next(r.step.number for r in tune.book.now.steps if r.step.setup["core_clock"] == 5000.0)
    assert tune.chart is not None
    tune.trail.choose(1)
    marks = next(item for item in tune.chart.getPlotItem().items if type(item).__name__ == "FailureMarks")
    tune.chart.grab()
    (place, _), *_ = marks._places
    qtbot.mouseClick(
        tune.chart.viewport(), Qt.MouseButton.LeftButton, pos=at(tune.chart, place.center().x(), place.center().y())
    )
    assert tune.trail.selected() == failed
    for name, chart in charts_of(window)[1:]:
        visit(window, name)
        spot = chart.spots()[0]
        qtbot.mouseClick(chart.viewport(), Qt.MouseButton.LeftButton, pos=at(chart, spot.x, spot.y))
        here = window.places.currentWidget() if window.places is not None else None
        assert isinstance(here, ChartPlace)
        qtbot.waitUntil(lambda here=here: link_of(here) is not None)
        link = link_of(here)
        assert link is not None
        number = int(link.text().split()[-1])
        link.click()
        assert tune.isVisible()
        assert tune.trail.selected() == number


def test_the_range_of_two_passes_does_not_stretch_an_axis() -> None:
    few = Measured(4000.0, 2.0, -20.0, 24.0, (1.9, 2.1), Verdict.HELD)
    more = Measured(4100.0, 3.0, 2.0, 4.0, (2.5, 3.0, 3.5), Verdict.HELD)
    assert (min(ends([few, more])), max(ends([few, more]))) == (1.9, 4.0)
    assert max(ends([few._replace(passes=(1.9, 2.0, 2.1))])) == 24.0


def test_figures_stand_beside_their_chart(qtbot: QtBot, window_with_two_knobs: MainWindow) -> None:
    window = window_with_two_knobs
    tune, places = tune_of(window), window.places
    assert places is not None
    qtbot.keyClick(tune, Qt.Key.Key_T)
    beside = tune.chart_panel.beside
    assert beside.open
    assert beside.table.hasFocus()
    assert tune.chart is not None
    assert beside.table.model().rowCount() == len(tune.chart.spots())
    qtbot.keyClick(tune, Qt.Key.Key_T)
    assert not beside.open
    for name in ("Scaling", "Map", "Compare", "Traces"):
        visit(window, name)
        place = places.place(name)
        if name == "Traces":
            place.choose_step(2)
        place.actions_by_name["figures"].trigger()
        model = place.beside.table.model()
        head = [model.headerData(i, Qt.Orientation.Horizontal) for i in range(model.columnCount())]
        assert any("(" in each for each in head), (name, head)
        assert model.rowCount() > 1, name
    visit(window, "Scaling")
    scaling = places.place("Scaling")
    before = scaling.beside.table.model().index(0, 2).data()
    scaling.choose_measure(scaling._measures[1])
    qtbot.waitUntil(lambda: scaling.beside.table.model().index(0, 2).data() != before)


def test_a_double_click_shows_everything_again(qtbot: QtBot, window_with_two_knobs: MainWindow) -> None:
    for name, chart in charts_of(window_with_two_knobs):
        visit(window_with_two_knobs, name) if name != "Tune" else window_with_two_knobs.go_to(0)
        box = chart.getPlotItem().getViewBox()
        whole = box.viewRange()
        box.setRange(xRange=(whole[0][0], sum(whole[0]) / 2.0), padding=0)
        assert box.viewRange() != whole
        qtbot.mouseDClick(chart.viewport(), Qt.MouseButton.LeftButton, pos=chart.viewport().rect().center())
        assert box.viewRange()[0] == pytest.approx(whole[0]), name
