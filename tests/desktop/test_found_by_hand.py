"""What is found by the hand: changes taken back, several steps at once, files dropped, menus of points, rows and columns."""

from __future__ import annotations

import csv
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QContextMenuEvent, QDropEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, tune_of, visit, words

from yondle.app.profiles.profiles import profile_text
from yondle.desktop.shell.window import MainWindow


def menu_over(on: QWidget, at: QPoint) -> QMenu:
    QApplication.sendEvent(on, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, on.mapToGlobal(at)))
    found = QApplication.activePopupWidget()
    assert isinstance(found, QMenu)
    return found


def pick(menu: QMenu, begins: str) -> None:
    next(action for action in menu.actions() if action.text().startswith(begins)).trigger()
    menu.close()


def drop(window: MainWindow, *paths: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    left = Qt.MouseButton.LeftButton
    window.dropEvent(QDropEvent(QPointF(9, 9), Qt.DropAction.CopyAction, data, left, Qt.KeyboardModifier.NoModifier))


def test_the_last_changes_are_taken_back_one_after_the_other(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    declared = tune.book.now.declaration
    before = declared.own_range(declared.knob("core_clock"))
    limits = {limit.channel: limit.most for limit in declared.limits}
    sensor = next(iter(limits))
    tune.limits.move_limit("core_clock", 4500.0)
    tune.limits._set_reading(sensor, 50.0)
    tune._keep_note(2, "the window was open")
    tune._propose("core_clock", 4400.0)
    tune._drop()
    assert tune.book.now.proposal is None
    for _ in range(2):
        qtbot.keyClick(tune, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert tune.book.now.proposal is not None
    assert tune.book.now.proposal.value("core_clock") == 4400.0
    assert not tune.book.now.step(2).notes
    assert "limit of a sensor" in tune.actions_by_name["undo"].text()
    for _ in range(2):
        tune.actions_by_name["undo"].trigger()
    now = tune.book.now.declaration
    assert {limit.channel: limit.most for limit in now.limits} == limits
    assert now.own_range(now.knob("core_clock")) == before
    assert not tune.actions_by_name["undo"].isEnabled()


def test_what_cannot_be_taken_back_while_a_test_runs_waits(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured, 20.0)
    tune = tune_of(window)
    tune._propose("core_clock", 4400.0)
    tune._drop()
    tune._propose("core_clock", 4450.0)
    tune._test()
    qtbot.waitUntil(lambda: tune.progress.running)
    tune._undo()
    assert tune.book.undo.what == "dropped proposal"
    tune.stop()
    qtbot.waitUntil(lambda: not window.bridge.busy, timeout=20_000)
    tune._undo()
    assert tune.book.now.proposal is not None
    assert tune.book.now.proposal.value("core_clock") == 4400.0


def test_a_profile_is_renamed_and_a_dropped_one_comes_back(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    tune = tune_of(open_book(measured))
    tune.trail.choose(2)
    tune.profiles.keep_all((2,))
    card = tune.side.cards.get("profiles")
    assert card is not None
    button_of(card, "Rename").click()
    field = QApplication.focusWidget()
    assert field is not None
    field.clear()  # type: ignore[attr-defined]
    qtbot.keyClicks(field, "Planet night")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert [p.name for p in tune.book.now.profiles] == ["Planet night"]
    tune.actions_by_name["undo"].trigger()
    assert [p.name for p in tune.book.now.profiles] == ["Step 2"]
    card = tune.side.cards.get("profiles")
    assert card is not None
    button_of(card, "Drop").click()
    assert tune.book.now.profiles == ()
    tune.actions_by_name["undo"].trigger()
    assert [(p.name, p.step) for p in tune.book.now.profiles] == [("Step 2", 2)]


def test_several_steps_are_compared_kept_and_written_together(
    qtbot: QtBot, measured: Path, open_book: Open, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune.trail.choose(1)
    row = tune.trail.visualRect(tune.trail.model().index(0, 0)).center()
    qtbot.mouseClick(tune.trail.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, row)
    assert tune.trail.all_selected() == (1, 2)
    assert not tune.actions_by_name["go_back"].isEnabled(), "there is no going back to two"
    tune.refresh()
    assert tune.trail.all_selected() == (1, 2), "what happens meanwhile doesn't undo the choice"
    tune.actions_by_name["keep"].trigger()
    assert [p.name for p in tune.book.now.profiles] == ["Step 1", "Step 2"]
    path = tmp_path / "steps.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    tune.trail.choose(2)
    tune.actions_by_name["export"].trigger()
    rows = list(csv.DictReader(path.read_text("utf-8").splitlines()))
    assert {each["step"] for each in rows} == {"2"}
    tune.trail.choose(1)
    qtbot.mouseClick(tune.trail.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, row)
    qtbot.keyClick(tune, Qt.Key.Key_C)
    assert window.places is not None
    compare = window.places.place("Compare")
    qtbot.waitUntil(lambda: compare.isVisible() and compare.complete)
    assert [column.address for column in compare.view.columns] == ["1", "2"]


def test_files_that_are_dropped_find_their_place(qtbot: QtBot, measured: Path, open_book: Open, tmp_path: Path) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune.trail.choose(2)
    tune.profiles.keep_all((2,))
    (kept,) = tune.book.now.profiles
    profile = tmp_path / "quiet.toml"
    profile.write_text(profile_text(tune.book.now, kept).replace("Step 2", "From a file"), "utf-8")
    drop(window, profile)
    assert "From a file" in [p.name for p in tune.book.now.profiles]
    plan = Path(__file__).parent.parent.parent / "docs" / "plans" / "heron-climb.toml"
    visit(window, "Scaling")
    drop(window, plan)
    assert tune.isVisible(), "what it would do is seen in Tune"
    assert tune.side.cards.get("plan file") is not None
    strange = tmp_path / "strange.toml"
    strange.write_text("[tool]\nx = 1\n")
    drop(window, strange)
    qtbot.waitUntil(lambda: "isn't one of Yondle's files" in words(tune.side))
    own = tmp_path / "own.toml"
    own.write_text('format = "yondle-workload 1"\n')
    drop(window, own)
    qtbot.waitUntil(lambda: "this machine only" in words(tune.side))


def test_a_file_dropped_before_a_logbook_is_open_is_told_where_to_go(window: MainWindow, tmp_path: Path) -> None:
    plan = tmp_path / "plan.toml"
    plan.write_text('format = "yondle-plan 1"\n')
    drop(window, plan)
    assert "Which logbook is plan.toml for?" in words(window)


@pytest.mark.menus
def test_points_rows_and_columns_have_their_menus(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune, places = tune_of(window), window.places
    assert tune.chart is not None
    assert places is not None
    tune.trail.choose(1)
    spot = next(s for s in tune.chart.spots() if s.what.steps == (2,))
    at = tune.chart.mapFromScene(tune.chart.getPlotItem().getViewBox().mapViewToScene(QPointF(spot.x, spot.y)))
    pick(menu_over(tune.chart.viewport(), at), "Show step 2")
    assert tune.trail.selected() == 2
    visit(window, "Compare")
    compare = places.place("Compare")
    header = compare.table.header()
    second = QPoint(header.sectionViewportPosition(2) + 20, 10)
    pick(menu_over(header.viewport(), second), "Compare with ")
    assert compare.view.against == 1
    visit(window, "Logbook")
    logbook = places.place("Logbook")
    table = logbook.table
    row = next(i for i, each in enumerate(table.model_.rows) if each.step == 2)
    pick(menu_over(table.viewport(), table.visualRect(table.model().index(row, 0)).center()), "Logbook: show the step")
    assert tune.isVisible()
    assert tune.trail.selected() == 2
