"""The real window, driven without a display."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QWindow
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

Open = Callable[..., MainWindow]


@pytest.fixture(scope="session")
def theme(qapp: QApplication) -> Theme:
    return Theme(qapp, "paper")


class Strays(QObject):
    """Hears of windows of their own that nobody meant: a widget that is shown before it has its place flashes up as one."""

    def __init__(self, app: QApplication, window: MainWindow) -> None:
        super().__init__()
        self.found: list[str] = []
        self._app, self._window = app, window
        app.focusWindowChanged.connect(self._changed)

    def _changed(self, to: QWindow | None) -> None:
        if to is None and self._window.isVisible():
            self.found.append(f"something closed over {self._app.topLevelWindows()}")
        elif to is not None and to.type() is Qt.WindowType.Window and to is not self._window.windowHandle():
            self.found.append(to.objectName())


@pytest.fixture
def window(qtbot: QtBot, qapp: QApplication, theme: Theme, request: pytest.FixtureRequest) -> Iterator[MainWindow]:
    theme.force("paper")
    made = MainWindow(theme)
    made.resize(1280, 800)
    made.show()
    strays = Strays(qapp, made)
    yield made
    found = [] if request.node.get_closest_marker("menus") else list(strays.found)
    made.close()
    qtbot.waitUntil(lambda: not made.isVisible(), timeout=20_000)
    made.deleteLater()
    assert not found, f"shown as windows of their own: {found}"


@pytest.fixture
def open_book(qtbot: QtBot, window: MainWindow) -> Open:
    def open_(path: Path, pace: float | None = None) -> MainWindow:
        window.open_logbook(path, pace)
        qtbot.waitUntil(lambda: window.tune is not None and window.tune.complete, timeout=20_000)
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow, timeout=5_000)
        return window

    return open_
