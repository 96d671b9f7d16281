"""Preferences, help and recent logbooks: what is chosen goes at once where it should, and is kept."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QApplication
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import settle, tune_of, visit, words

from yondle.app.system.preferences import Preferences, keep_preferences, preferences, preferences_file, recent_books
from yondle.desktop.shell.help import BY_CLASS, HelpPage, sections
from yondle.desktop.shell.preferences import PreferencesPage
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.limits import SensorLimitsCard
from yondle.formats.documents import HowTested
from yondle.language.preferred import in_fahrenheit, with_preferred
from yondle.model import quantities
from yondle.model.steps import SCORE_STAGE, StageKind


def page_of(window: MainWindow) -> PreferencesPage:
    assert isinstance(window.over.page, PreferencesPage)
    return window.over.page


def test_steps_are_tested_as_is_preferred(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    usual = tune.book.now.declaration
    qtbot.keyClick(window, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
    page = page_of(window)
    assert page._loads[usual.hard_load].value() == pytest.approx(usual.hard_load_s / 60.0)
    page.passes.setValue(4)
    page._loads[usual.hard_load].setValue(0.0)
    page.start.setValue(33.0)
    qtbot.keyClick(page, Qt.Key.Key_Escape)
    assert tune.isVisible()
    tune._propose("core_clock", 4400.0)
    shown = dict(tune.side.next.rows._shown or ())
    assert shown["Passes"].startswith("4 ")
    assert "Then" not in shown, "the load was left out"
    qtbot.keyClick(tune, Qt.Key.Key_Return)
    settle(qtbot, window)
    attempt = tune.book.now.steps[-1].attempts[-1]
    counted = {p.round for p in attempt.passes if p.stage == SCORE_STAGE and p.counts}
    assert len(counted) == 4
    assert all(not work.startswith(usual.hard_load) for work in {p.workload for p in attempt.passes})
    again = open_book(measured)
    again.over.show_preferences()
    assert (page_of(again).passes.value(), page_of(again).start.value()) == (4, 33.0)


def test_one_test_has_its_own_passes_and_loads_and_the_next_the_usual_ones(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune._propose("core_clock", 4400.0)
    usual = tune.book.now.check()
    own = tune.side.next.own
    own.more.click()
    own.passes.setValue(2)
    for load in own._loads.values():
        load.click()
    shown = dict(tune.side.next.rows._shown or ())
    assert (shown["Passes"].startswith("2 "), "Then" in shown) == (True, False)
    qtbot.keyClick(tune, Qt.Key.Key_Return)
    settle(qtbot, window)
    attempt = tune.book.now.steps[-1].attempts[-1]
    loads = {s.workloads[0] for s in usual.stages if s.kind is StageKind.LOAD}
    assert loads
    assert loads.isdisjoint(p.workload for p in attempt.passes)
    tune._propose("core_clock", 4450.0)
    assert own.wanted == (None, ())
    assert "Then" in dict(tune.side.next.rows._shown or ())


def test_what_goes_everywhere_is_kept_and_a_broken_file_is_as_none(window: MainWindow) -> None:
    window.over.show_preferences()
    page = page_of(window)
    page.scheme.setCurrentIndex(2)
    page.scheme.activated.emit(2)
    assert window._theme.colours.night
    page.notify.click()
    assert preferences() == Preferences(scheme="night", notify=False)
    keep_preferences(Preferences(language="de"))
    assert with_preferred({})["YONDLE_LANGUAGE"] == "de"
    assert with_preferred({"YONDLE_LANGUAGE": "en"})["YONDLE_LANGUAGE"] == "en", "who asks is answered"
    preferences_file().write_text('notify = "yes"\nscheme = [', "utf-8")
    assert preferences() == Preferences()
    assert with_preferred({}) == {}
    page.left.emit()
    assert window.first is not None
    assert window.first.isVisible()


def test_temperatures_are_typed_in_fahrenheit_where_that_is_preferred(
    qtbot: QtBot, measured: Path, open_book: Open, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(quantities, "FAHRENHEIT", True)
    window = open_book(measured)
    tune = tune_of(window)
    window.over.show_preferences()
    page = page_of(window)
    page.degrees.setCurrentIndex(1)
    page.degrees.activated.emit(1)
    assert preferences().temperatures == "F"
    assert in_fahrenheit({})

    def typed(field: QAbstractSpinBox, words: str) -> str:
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, words)
        QTest.keyClick(field, Qt.Key.Key_Return)
        settle(qtbot, window)
        return field.text()

    assert typed(page.start, "95") == "95 °F"
    assert tune.book.now.kept.of(HowTested).start_below == pytest.approx(35.0)
    page.left.emit()
    tune.actions_by_name["sensors"].trigger()
    card = tune.side.cards.get("limits")
    assert isinstance(card, SensorLimitsCard)
    box = card.boxes["processor_temperature"]

    def most() -> float | None:
        limits = {limit.channel: limit.most for limit in tune.book.now.declaration.limits}
        return limits.get("processor_temperature")

    assert typed(box, "200") == "200 °F"
    assert most() == pytest.approx(93.3)
    assert typed(box, "x") == "200 °F", "letters are none"
    assert typed(box, "0") == "no limit"
    assert most() is None
    tune._enter("heat_limit")
    qtbot.waitUntil(lambda: tune.chart is not None)
    assert tune.chart is not None
    axis = tune.chart.getPlotItem().getAxis("bottom")
    qtbot.waitUntil(lambda: axis.labelText == "Heat limit, °F")
    assert axis.tickStrings([85.0, 90.0], 1.0, 5.0) == ["185", "194"]


def test_logbooks_opened_last_are_offered_first_and_gone_ones_never(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    assert recent_books()[0] == measured.resolve()
    qtbot.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert window.first is not None
    assert measured.stem in words(window.first)
    assert any("Open measured again" in action.text() for action in window._recent())
    measured.unlink()
    assert recent_books() == ()


def test_a_table_on_its_way_in_stays_beneath_what_is_looked_into(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    window.over.bring(Path(__file__).parent.parent.parent / "docs" / "examples" / "wren-power.csv")
    qtbot.waitUntil(lambda: window.over.page is not None)
    table = window.over.page
    for show in (window.over.show_help, window.over.show_help, window.over.show_preferences):
        show()
        assert window.over.page is not table
    window.over.leave()
    assert window.over.page is table
    qtbot.waitUntil(table.isVisible)
    assert not window.tabs.isVisible()
    window.over.leave()
    assert window.over.page is None
    assert tune_of(window).isVisible()


def test_help_is_about_what_has_the_focus(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    assert {section for _, section in BY_CLASS} <= set(sections())
    for focus, expected in (
        (tune_of(window).trail, "Trail"),
        (tune_of(window).rulers.ruler("core_clock"), "Rulers"), (tune_of(window).chart, "The chart in Tune"),
    ):  # fmt: skip
        assert focus is not None
        focus.setFocus()
        assert QApplication.focusWidget() is focus
        qtbot.keyClick(window, Qt.Key.Key_F1)
        page = window.over.page
        assert isinstance(page, HelpPage)
        assert page.text.toPlainText().startswith(expected)
        assert len(page.text.toPlainText()) > 100
        qtbot.keyClick(page, Qt.Key.Key_Escape)
        assert window.over.page is None
    visit(window, "Map")
    qtbot.keyClick(window, Qt.Key.Key_F1)
    assert isinstance(window.over.page, HelpPage)
    assert window.over.page.text.toPlainText().startswith("Map")
