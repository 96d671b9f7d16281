"""How tests drive the window and read what it shows."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.ruler import Ruler


def tune_of(window: MainWindow) -> TunePlace:
    assert window.tune is not None
    return window.tune


def ruler(window: MainWindow, knob: str) -> Ruler:
    found = tune_of(window).rulers.ruler(knob)
    assert found is not None
    return found


def words(widget: QWidget) -> str:
    """Everything a person reads on a part of the window."""
    labels = [label.text() for label in widget.findChildren(QLabel) if label.isVisible()]
    return "\n".join(labels + [button.text() for button in widget.findChildren(QPushButton) if button.isVisible()])


def window_of(widget: QWidget) -> MainWindow:
    window = widget.window()
    assert isinstance(window, MainWindow)
    return window


def settle(qtbot: QtBot, window: MainWindow) -> None:
    qtbot.waitUntil(lambda: not window.bridge.busy and not tune_of(window).progress.running, timeout=30_000)


def drag(qtbot: QtBot, on: Ruler, value: float) -> None:
    assert on.view is not None
    start, end = on.centre_of(on.view.in_force).toPoint(), on.centre_of(value).toPoint()
    qtbot.mousePress(on, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        qtbot.mouseMove(on, QPoint(round(start.x() + (end.x() - start.x()) * share), start.y()))
    qtbot.mouseRelease(on, Qt.MouseButton.LeftButton, pos=end)


def button_of(widget: QWidget, begins: str) -> QPushButton:
    """Find the button whose words begin so."""
    return next(b for b in widget.findChildren(QPushButton) if b.text().startswith(begins))


def visit(window: MainWindow, place: str) -> None:
    """Click a place's tab, and wait until all of it is shown."""
    at = next(i for i in range(window.tabs.count()) if window.tabs.tabText(i) == place)
    QTest.mouseClick(window.tabs, Qt.MouseButton.LeftButton, pos=window.tabs.tabRect(at).center())
    if place != "Tune" and window.places is not None and window.places.currentIndex() != at:
        window.visit(at)
    here = window.places.currentWidget() if window.places is not None else None
    assert isinstance(here, ChartPlace)
    qt = QApplication.instance()
    assert qt is not None
    while not here.complete:
        qt.processEvents()
