"""Rest is rest: with nothing to do the window lays out and paints nothing, in every place, card and state, at every size."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pyqtgraph as pg
import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QAbstractItemView, QApplication, QLabel, QWidget
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.driving import settle, tune_of
from tests.desktop.rest import SIZES, Listener, unrest_everywhere

from yondle.app.machine.machines import RigChoice
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.look.side import AsHighAsItsWords
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.rooms import NAMES
from yondle.desktop.shell.window import MainWindow

Open = Callable[..., MainWindow]
CARDS = ("limits", "sensors", "sweep", "edge", "next", "conditions", "benchmarks", "result", "profiles", "keep", "note")


@pytest.fixture(scope="module")
def varied(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A logbook with figures for every place: two knobs varied, and a failure."""
    path = tmp_path_factory.mktemp("varied") / "varied.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    for clock in (4200.0, 4300.0, 4900.0):
        for power in (80.0, 95.0):
            session.do(TryFrom(1, {"core_clock": clock, "power_limit": power}, None))
    session.close()
    return path


def test_every_place_rests_at_every_size_in_both_schemes(
    varied: Path, open_book: Open, qapp: QApplication, theme: Theme
) -> None:
    window = open_book(varied)
    assert unrest_everywhere(qapp, window, theme, "paper") == []
    assert unrest_everywhere(qapp, window, theme, "night", SIZES[:3]) == []


def test_every_place_rests_at_twice_the_size(varied: Path) -> None:
    ran = subprocess.run(
        [sys.executable, "-m", "tests.desktop.rest", str(varied)],
        env={**os.environ, "QT_SCALE_FACTOR": "2"}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stdout + ran.stderr


def test_pages_tables_of_figures_and_the_tour_rest(varied: Path, open_book: Open, qapp: QApplication) -> None:
    window = open_book(varied)
    tune, listener = tune_of(window), Listener(qapp)
    for page in (window.over.show_preferences, window.over.show_help):
        page()
        assert listener.unrest() == "", page.__name__
        window.over.leave()
    tune.actions_by_name["tour"].trigger()
    assert listener.unrest() == "", "the tour"
    tune.tour.leave()
    tune.actions_by_name["figures"].trigger()
    assert listener.unrest() == "", "figures beside the chart in Tune"
    for name in ("Scaling", "Map", "Compare", "Traces"):
        window.go_to(NAMES.index(name))
        window.places.place(name).beside.turn()
        assert listener.unrest() == "", f"figures beside the chart in {name}"


def test_every_card_and_state_of_tune_rests(varied: Path, open_book: Open, qapp: QApplication, qtbot: QtBot) -> None:
    window = open_book(varied)
    tune, listener = tune_of(window), Listener(qapp)
    tune.trail.choose(2)
    for name in CARDS:
        tune.actions_by_name[name].trigger()
        assert listener.unrest() == "", name
    tune.actions_by_name["dismiss"].trigger()
    tune.book.do(Propose("memory_rate", 5800))
    tune.refresh()
    assert listener.unrest() == "", "a proposal"
    tune.actions_by_name["test"].trigger()
    qtbot.waitUntil(lambda: tune.book.now.waiting is not None, timeout=20_000)
    settle(qtbot, window)
    assert listener.unrest() == "", "values to be entered by hand"
    tune.actions_by_name["drop"].trigger()
    window.commands.open_with(window.actions())
    window.commands.hide()
    assert listener.unrest() == "", "after the command list"
    window._close_book()
    qtbot.waitUntil(lambda: window.first is not None and not window.bridge.busy, timeout=20_000)
    assert listener.unrest() == "", "the first page"


def test_what_a_chart_has_drawn_before_is_let_go(varied: Path, open_book: Open, qapp: QApplication) -> None:
    tune = tune_of(open_book(varied))

    def labels() -> int:
        gc.collect()
        qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        return sum(isinstance(each, pg.TextItem) for each in gc.get_objects())

    tune.refresh()
    before = labels()
    for _ in range(20):
        tune.actions_by_name["next_benchmark"].trigger()
    assert labels() <= before + 5


def test_names_are_shown_in_tool_tips_as_they_are(varied: Path, open_book: Open, tmp_path: Path, qtbot: QtBot) -> None:
    """A name with markup in it stands there as it was written, and draws nothing."""
    path = tmp_path / "hostile.yondle"
    hostile = "<b>bold</b><img src='x'>"
    rig = quick_rig(name=f'"{hostile}"', place=f'"{hostile}"')
    session = create_logbook(path, RigChoice("simulated", hostile, rig))
    session.do(RunBaseline(2))
    session.do(WriteNote(1, hostile))
    session.do(KeepProfile(hostile, step=1))
    session.close()
    window = open_book(path)
    seen = []
    for i in range(len(NAMES)):
        window.go_to(i)
        qtbot.wait(20)
        seen += [widget.toolTip() for widget in window.findChildren(QWidget)]
        for view in window.findChildren(QAbstractItemView):
            model = view.model()
            rows = range(min(model.rowCount(), 30)) if model is not None else ()
            cells = [(r, c) for r in rows for c in range(12) if model.hasIndex(r, c)]
            seen += [model.data(model.index(r, c), Qt.ItemDataRole.ToolTipRole) for r, c in cells]
        seen += [label.text() for label in window.findChildren(QLabel) if label.textFormat() != Qt.TextFormat.PlainText]
    told = [text for text in seen if isinstance(text, str) and "bold" in text]
    assert told
    assert [text for text in told if "<b>" in text] == []


def test_no_words_of_a_panel_are_cut_at_the_first_look(varied: Path, open_book: Open, qtbot: QtBot) -> None:
    """What was filled while nobody saw it is laid out again when it is seen: its fonts were others."""
    window = open_book(varied)
    for i in range(1, len(NAMES)):
        window.visit(i)
        place = window.places.currentWidget() if window.places is not None else None
        assert isinstance(place, ChartPlace)
        qtbot.waitUntil(lambda place=place: place.complete)
        QApplication.processEvents()
        for panel in place.findChildren(AsHighAsItsWords):
            for label in (each for each in panel.findChildren(QLabel) if each.isVisible() and each.wordWrap()):
                wanted = label.heightForWidth(label.width())
                assert label.height() >= wanted, (
                    f"{NAMES[i]}: '{label.text()[:40]}' has {label.height()} of {wanted} px"
                )
