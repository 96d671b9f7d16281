"""The first minutes: what the first page shows, a tour that ends with a step of one's own, empty places that fill at a click."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, settle, tune_of, visit, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.ruler import Ruler


def test_the_first_page_shows_a_ruler_of_heron_and_what_this_machine_offers(qtbot: QtBot, window: MainWindow) -> None:
    first = window.first
    assert first is not None
    qtbot.waitUntil(lambda: bool(first.findChildren(Ruler)), timeout=20_000)
    (ruler,) = first.findChildren(Ruler)
    qtbot.waitUntil(ruler.isVisible)
    assert ruler.view is not None
    ruler.setFocus()
    qtbot.keyClick(ruler, Qt.Key.Key_Right)
    assert ruler.view.proposed == ruler.view.knob.stock + ruler.view.knob.step, "it can be moved already"
    assert "Found here: " in words(first)
    assert first.this_button.isEnabled()


def test_a_tour_points_at_the_real_controls_and_ends_with_a_step_of_ones_own(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune.actions_by_name["tour"].trigger()
    outline = tune.tour._outline

    def card() -> str:
        shown = tune.side.cards.get("tour")
        return shown.title if shown is not None else ""

    assert card().startswith("1 of 6")
    qtbot.waitUntil(outline.isVisible)
    assert outline.geometry().contains(tune.trail.mapTo(tune, tune.trail.rect().center()))
    shown = tune.side.cards.get("tour")
    assert shown is not None
    shown.buttons[0].click()
    assert card().startswith("2 of 6")
    ruler = tune.rulers.ruler("core_clock")
    assert ruler is not None
    assert outline.geometry().contains(ruler.mapTo(tune, ruler.rect().center()))
    ruler.setFocus()
    qtbot.keyClick(ruler, Qt.Key.Key_Right)
    assert card().startswith("3 of 6"), "a proposal was what it waited for"
    window.resize(1500, 900)
    shown = tune.side.cards.get("tour")
    assert shown is not None
    shown.buttons[0].click()
    assert card().startswith("4 of 6")
    qtbot.keyClick(tune, Qt.Key.Key_Return)
    settle(qtbot, window)
    qtbot.waitUntil(lambda: card().startswith("6 of 6"))
    assert len(tune.book.now.steps) == 3
    shown = tune.side.cards.get("tour")
    assert shown is not None
    shown.buttons[0].click()
    assert card() == ""
    assert not outline.isVisible()
    assert tune.tour.at is None


@pytest.mark.parametrize("place", ["Scaling", "Map", "Compare", "Traces", "Logbook"])
def test_an_empty_place_fills_at_a_click(qtbot: QtBot, open_book: Open, tmp_path: Path, place: str) -> None:
    path = tmp_path / "fresh.yondle"
    create_logbook(path, RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(path)
    visit(window, place)
    assert window.places is not None
    here = window.places.place(place)
    assert isinstance(here, ChartPlace)
    qtbot.waitUntil(here.fill_button.isVisible)
    assert here.fill_button.text() == "Measure the baseline in Tune"
    here.fill_button.click()
    tune = tune_of(window)
    assert tune.isVisible()
    settle(qtbot, window)
    if tune.side.cards.get("ready") is not None:
        button_of(tune.side.cards, "Measure").click()
        settle(qtbot, window)
    assert tune.book.now.baseline_step is not None
    visit(window, place)
    if place in ("Scaling", "Map"):
        qtbot.waitUntil(lambda: here.fill_button.isVisible() and here.fill_button.text() == "Sweep a knob in Tune")
    else:
        qtbot.waitUntil(lambda: not here.fill_button.isVisible())


def test_who_tests_without_being_told_to_is_followed(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune._propose("core_clock", 4400.0)
    tune.actions_by_name["tour"].trigger()
    assert tune.tour.at == 0
    qtbot.keyClick(tune, Qt.Key.Key_Return)
    settle(qtbot, window)
    qtbot.waitUntil(lambda: tune.tour.at == 5)
