"""The Traces place in the real window: spans and passes, dips and the verdict, two tests flipped, overlaid and taken apart."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import visit, window_of, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.requests import SetPace
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.desktop.traces.core_strip import CoreStrip
from yondle.desktop.traces.place import DIFFERENCE, OVERLAY, TracesPlace
from yondle.views.traces.traces import latest_run, trace_of

POWER, CRASH = 2, 3
"""The step whose power limit holds the clock back, and the one that goes down."""


@pytest.fixture
def place(open_book: Open, tmp_path: Path) -> TracesPlace:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.do(TryFrom(1, {"power_limit": 45.0}, None))
    session.do(TryFrom(1, {"core_clock": 4800.0}, None))
    session.close()
    window = open_book(path)
    visit(window, "Traces")
    assert window.places.place("Traces") is not None
    return window.places.place("Traces")


def test_before_any_test_it_says_what_to_do(open_book: Open, tmp_path: Path) -> None:
    path = tmp_path / "fresh.yondle"
    create_logbook(path, RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(path)
    window.go_to(4)
    assert window.places.place("Traces") is not None
    assert "No test has been run yet" in words(window.places.place("Traces"))


def test_a_test_held_back_shows_its_dips_and_why(place: TracesPlace) -> None:
    place.choose_step(POWER)
    assert place.view is not None
    assert "Power limit reached for" in words(place)
    assert "Core clock below what was asked for" in words(place)
    assert any("below asked" in row.name and "dip" in row.highest for row in place.view.rows)
    whole = place.view
    place.actions_by_name["next_pass"].trigger()
    assert place.passes.currentIndex() == 1
    assert "of load in" in place.view.title
    assert "Inside this pass" in words(place)
    assert place.view != whole
    assert place.chart is not None
    assert place.chart.range[1] < place._passes[0].to_s + 5.0
    place.actions_by_name["whole"].trigger()
    assert place.view == whole


def test_a_drag_chooses_a_span_whose_figures_are_those_of_its_readings(qtbot: QtBot, place: TracesPlace) -> None:
    place.choose_step(1)
    chart = place.chart
    assert chart is not None
    box = chart._strips[0].plot.getViewBox()
    view = chart._view
    ends = [view.mapFromScene(box.mapViewToScene(QPointF(t, box.viewRange()[1][0]))) for t in (20.0, 60.0)]
    port = view.viewport()
    begin, end = (QPoint(each.x(), each.y() - 20) for each in ends)
    qtbot.mousePress(port, Qt.MouseButton.LeftButton, pos=begin)
    for share in (0.3, 0.6, 1.0):
        qtbot.mouseMove(port, begin + (end - begin) * share)
    qtbot.mouseRelease(port, Qt.MouseButton.LeftButton, pos=end)
    assert place._span is not None
    low, high = place._span
    assert low == pytest.approx(20.0, abs=3.0)
    assert high == pytest.approx(60.0, abs=3.0)
    trace = place._first
    assert trace is not None
    inside = (trace.times >= low) & (trace.times <= high)
    hottest = float(np.nanmax(trace.columns["processor_temperature"][inside]))
    assert place.view is not None
    told = next(row for row in place.view.rows if row.name.startswith("Processor, "))
    assert told.highest == f"{hottest:.1f}"
    chart.setFocus()
    place.actions_by_name["zoom"].trigger()
    assert chart.range[0] > 10.0
    before = chart.range
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    assert chart.range[0] > before[0]
    qtbot.keyClick(chart, Qt.Key.Key_Minus)
    assert chart.range[1] - chart.range[0] > before[1] - before[0]
    chart._point(30.0)
    told_there = float(trace.columns["core_clock_effective"][np.searchsorted(trace.times, 30.0, "right") - 1])
    assert f"{told_there:,.0f}".replace(",", "\u202f") in chart._strips[0]._over._told
    place.actions_by_name["copy_table"].trigger()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].startswith("time (s)\tCore clock (MHz)")
    assert len(lines) > 20


def test_two_tests_lie_on_one_axis_flip_and_are_taken_apart(place: TracesPlace) -> None:
    book = place._book
    one, other = latest_run(book.now, 1), latest_run(book.now, POWER)
    place.choose_run(one.attempt)
    place.choose_second(other.attempt)
    chart = place.chart
    assert chart is not None
    first, second = trace_of(book.now, one.attempt), trace_of(book.now, other.attempt)
    assert place.offset_s == pytest.approx(first.passes[0].from_s - second.passes[0].from_s)
    assert place._how == OVERLAY
    place.show_how("One")
    seen_before = [strip.plot.getViewBox().viewRange() for strip in chart._strips]
    place.actions_by_name["flip"].trigger()
    assert "space flips back to A" in words(place)
    assert [strip.plot.getViewBox().viewRange() for strip in chart._strips] == seen_before
    shown = chart._shown
    assert shown is not None
    assert shown.front.passes[0].from_s == pytest.approx(first.passes[0].from_s)
    place.actions_by_name["flip"].trigger()
    place.show_how(DIFFERENCE)
    assert place.view is not None
    power = next(row for row in place.view.rows if row.name.startswith("Package power"))
    assert power.apart.startswith("+")
    curve = chart._strips[2]._curves[0]
    assert np.nanmean(curve.pyramid.values) > 3.0
    place.choose_second(None)
    assert place._second is None


def test_each_core_has_a_band_and_the_hottest_is_named(place: TracesPlace) -> None:
    place.choose_step(POWER)
    assert place._first is not None
    cores = next(panel for panel in place._first.panels if panel.by_core)
    assert [channel.core for channel in cores.channels] == list(range(8))
    assert cores.key in place._off(), "shown when asked for"
    assert "Of 8 cores, core" in words(place)
    place.show_panel(cores.key, True)
    chart = place.chart
    assert chart is not None
    strip = next(strip for strip in chart._strips if strip.panel is cores)
    assert isinstance(strip, CoreStrip)
    peaks = [float(np.nanmax(place._first.columns[channel.id])) for channel in cores.channels]
    assert strip._image.image is not None
    painted = strip._image.image[::-1, :, :3].astype(float)
    ground = painted.reshape(-1, 3).max(axis=0)
    strength = np.abs(painted - ground).sum(axis=2).max(axis=1)
    assert int(np.argmax(strength)) == int(np.argmax(peaks)), "the strongest colour is the hottest core's"
    strip.point_at(60.0)
    assert "0: " in strip._over._told
    place.choose_second(latest_run(place._book.now, 1).attempt)
    place.show_how(DIFFERENCE)
    assert "one colour above, the other below" in strip._over._heading[1]
    place.show_panel(cores.key, False)
    assert not any(isinstance(strip, CoreStrip) for strip in chart._strips)


def test_a_failure_tells_what_moved_before_it_and_nothing_read_is_said(place: TracesPlace) -> None:
    place.choose_step(CRASH)
    trace = place._first
    assert trace is not None
    assert trace.failed
    assert "Before it failed" in words(place)
    assert place.view is not None
    assert place.view.last
    strip = place.chart._strips[0] if place.chart is not None else None
    assert strip is not None
    assert strip._over._events.verdict is not None
    frames = "frame_times"
    place.choose_step(1)
    place.show_panel(frames, True)
    assert "1 % low" in words(place)
    place.show_panel(frames, False)
    assert "1 % low" not in words(place)


def test_a_test_under_way_is_followed_and_its_end_is_told(qtbot: QtBot, place: TracesPlace) -> None:
    window = window_of(place)
    book = window.book
    book.ask(SetPace(60.0))
    window.go_to(0)
    window.tune._propose("core_clock", 4150.0)
    window.tune.actions_by_name["test"].trigger()
    qtbot.waitUntil(lambda: len(book.now.steps) == 4 and window.tune.progress.number > 1, timeout=20_000)
    window.go_to(4)
    place.choose_step(4)
    assert "still open" in words(place)
    before = len(place._first.times)
    qtbot.waitUntil(lambda: place._first is not None and len(place._first.times) > before, timeout=10_000)
    book.ask(SetPace(None))
    qtbot.waitUntil(lambda: not window.bridge.busy, timeout=30_000)
    qtbot.waitUntil(lambda: "· held ·" in words(place), timeout=10_000)
