"""Menus where they are asked for: what can be done with a step, a knob and the chart, and only what can be done now."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication, QMenu, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import ruler, settle, tune_of

from yondle.desktop.tune.place import TunePlace

pytestmark = pytest.mark.menus


def asked(tune: TunePlace, over: QWidget, reason: QContextMenuEvent.Reason = QContextMenuEvent.Reason.Mouse) -> QMenu:
    """Ask for a menu as Qt does: at the widget, which hands on what it has no menu for."""
    middle = over.rect().center()
    QApplication.sendEvent(over, QContextMenuEvent(reason, middle, over.mapToGlobal(middle)))
    found = QApplication.activePopupWidget()
    assert isinstance(found, QMenu)
    return found


def offered(menu: QMenu) -> list[str]:
    return [action.text() for action in menu.actions() if not action.isSeparator()]


def test_a_step_offers_what_can_be_done_with_it(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune.trail.choose(1)
    menu = asked(tune, tune.trail.viewport())
    assert "Go back to the selected step" in offered(menu)
    assert "Write a note at the selected step" in offered(menu)
    next(a for a in menu.actions() if a.text().startswith("Go back")).trigger()
    menu.close()
    settle(qtbot, window)
    assert tune.book.now.position is not None
    assert tune.book.now.position.step.number == 1
    tune.trail.choose(1)
    again = asked(tune, tune.trail.viewport(), QContextMenuEvent.Reason.Keyboard)
    assert "Go back to the selected step" not in offered(again), "where it is already nobody goes back to"
    again.close()


def test_a_knob_is_in_play_once_its_menu_is_asked_for(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    menu = asked(tune, ruler(window, "core_voltage"))
    assert "Find the edge of the knob in play" in offered(menu)
    assert "Test this step" not in offered(menu), "nothing is proposed"
    assert tune._in_play == "core_voltage"
    menu.close()


def test_the_chart_offers_its_figures(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    assert tune.childAt(tune.chart_panel.mapTo(tune, QPoint(60, 120))) is not None
    menu = asked(tune, tune.chart_panel)
    assert "Copy the chart's figures as a table" in offered(menu)
    menu.close()
