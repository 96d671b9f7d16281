"""The Scaling place in the real window: from nothing to compare, over curves and cells, to what is copied."""

from __future__ import annotations

import csv
from pathlib import Path
from xml.etree import ElementTree

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, settle, visit, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline, TryFrom, TryProposal
from yondle.desktop.scaling.place import ScalingPlace
from yondle.desktop.shell.window import MainWindow
from yondle.model.errors import KnownError
from yondle.tables.cells import read_sheets
from yondle.views.scaling.curves import scaling
from yondle.views.shared.measured import settings_of
from yondle.views.shared.showing import Measure


@pytest.fixture
def window_with_clocks(open_book: Open, tmp_path: Path) -> MainWindow:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(3))
    for clock in (4150.0, 4100.0, 4050.0, 4000.0):
        session.do(Propose("core_clock", clock))
        session.do(TryProposal(3))
    session.close()
    return open_book(path)


def scaling_of(window: MainWindow) -> ScalingPlace:
    assert window.places.place("Scaling") is not None
    return window.places.place("Scaling")


def test_before_anything_can_be_compared_it_says_what_to_do(open_book: Open, tmp_path: Path) -> None:
    path = tmp_path / "fresh.yondle"
    create_logbook(path, RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(path)
    visit(window, "Scaling")
    place = scaling_of(window)
    assert place.isVisible()
    assert "two values of one knob" in words(place)
    assert place.view is None


def test_curves_say_what_they_show_and_follow_keys_and_cells(qtbot: QtBot, window_with_clocks: MainWindow) -> None:
    window = window_with_clocks
    window.go_to(1)
    place = scaling_of(window)
    assert place.view is not None
    book = window.book
    assert book is not None
    assert place.view == scaling(book.now, settings_of(book.now), book.now.declaration.knob("core_clock"))
    assert place.view.sentence in words(place)
    assert place.chart is not None
    assert place.chart.chosen is not None
    assert place.chart.chosen.benchmark.id == "stacking"
    qtbot.keyClick(place.chart, Qt.Key.Key_Down)
    assert place.chart.chosen.benchmark.id == "sharpening"
    qtbot.waitUntil(lambda: "4\u202f200\u202fMHz" in words(place))
    qtbot.keyClick(place.chart, Qt.Key.Key_Left)
    qtbot.waitUntil(lambda: "4\u202f150\u202fMHz" in words(place))
    place.along.setFocus()
    qtbot.keyClick(place.along, Qt.Key.Key_Down)
    assert place.chart.chosen.benchmark.id == "sharpening"
    cell = place.table._box(0, 0).center()
    qtbot.mouseClick(place.table, Qt.MouseButton.LeftButton, pos=QPointF(cell).toPoint())
    assert place.chart.chosen.benchmark.id == "stacking"
    button_of(place, "Value").click()
    assert place.view is not None
    assert place.view.measure is Measure.VALUE
    qtbot.waitUntil(lambda: "frames/min" in words(place))
    assert "What limits it there" in words(place)
    place.target.setText("300")
    assert "no knob reaches it by the trends seen" in place._far.text()
    place.target.setText("much")
    assert "is no number" in place._far.text()
    place.actions_by_name["copy_table"].trigger()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].startswith("Core clock (MHz)\tStacking\tStacking, low\tStacking, high")
    assert len(lines) == 1 + 5, "a row a value, as a spreadsheet takes it"


def test_a_chart_is_saved_in_open_formats_and_trouble_is_told(
    qtbot: QtBot, window_with_clocks: MainWindow, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window_with_clocks.go_to(1)
    place = scaling_of(window_with_clocks)
    asked: list[Path] = []
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(asked[-1]), ""))
    for name in ("chart.svg", "chart.png", "chart.csv", "chart.xlsx", "chart.md"):
        asked.append(tmp_path / name)
        place.actions_by_name["save"].trigger()
    root = ElementTree.parse(tmp_path / "chart.svg").getroot()
    assert root.tag.endswith("svg")
    assert QImage(str(tmp_path / "chart.png")).width() > 300
    short, whole = read_sheets(tmp_path / "chart.xlsx")
    assert (short.rows[1][0], whole.name) == (4000.0, "everything"), "numbers are numbers"
    assert "| Core clock (MHz) | Stacking |" in (tmp_path / "chart.md").read_text("utf-8")
    with (tmp_path / "chart.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert place.view is not None
    assert [float(r["gain"]) for r in rows if r["benchmark"] == "Stacking"] == pytest.approx(
        [p.shown for p in place.view.curves[0].points], rel=1e-5
    )
    for wrong, says in (("chart.doc", "isn't written as '.doc'"), ("nowhere/chart.png", "no folder")):
        asked.append(tmp_path / wrong)
        place.actions_by_name["save"].trigger()
        assert says in place.trouble.text()
        assert place.trouble.isVisible()
    asked.append(tmp_path / "nowhere" / "chart.csv")
    with pytest.raises(KnownError, match="There is no folder"):
        place.save(asked[-1])


def test_a_new_step_is_there_when_the_place_is_shown_again(qtbot: QtBot, window_with_clocks: MainWindow) -> None:
    window = window_with_clocks
    window.go_to(1)
    place = scaling_of(window)
    assert place.view is not None
    before = len(place.view.curves[0].points)
    window.go_to(0)
    assert window.tune is not None
    window.tune._propose("core_clock", 3950.0)
    window.tune.actions_by_name["test"].trigger()
    settle(qtbot, window)
    window.go_to(1)
    assert len(place.view.curves[0].points) == before + 1


def test_a_place_on_the_map_becomes_a_joint_step(qtbot: QtBot, open_book: Open, tmp_path: Path) -> None:
    path = tmp_path / "map.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    for fan in (40.0, 60.0):
        for clock in (4100.0, 4000.0):
            session.do(TryFrom(1, {"core_clock": clock, "fan_level": fan}, None))
    session.close()
    window = open_book(path)
    visit(window, "Map")
    place = window.places.place("Map")
    assert place is not None
    assert place.view is not None
    assert {place.view.across.id, place.view.up.id} == {"core_clock", "fan_level"}
    assert place.view.sentence in words(place)
    place.choose_place(4050.0, 50.0)
    qtbot.waitUntil(lambda: "not tested yet" in words(place))
    place.actions_by_name["copy_table"].trigger()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert len(lines) == 1 + len({p.y for p in place.view.points}), "the grid"
    button_of(place, "Propose it as a joint step").click()
    assert window.tune is not None
    assert window.tune.isVisible()
    assert window.book is not None
    assert window.book.now.proposal is not None
    assert {c.knob: c.new for c in window.book.now.proposal.changes} == {"core_clock": 4050.0, "fan_level": 50.0}


def test_a_map_of_too_little_says_what_it_takes(open_book: Open, tmp_path: Path) -> None:
    path = tmp_path / "fresh.yondle"
    create_logbook(path, RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(path)
    window.go_to(2)
    assert window.places.place("Map") is not None
    assert "No two knobs vary together yet" in words(window.places.place("Map"))
