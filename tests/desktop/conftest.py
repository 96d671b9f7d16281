"""The real window, driven without a display."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

Open = Callable[..., MainWindow]


@pytest.fixture(scope="session")
def theme(qapp: QApplication) -> Theme:
    return Theme(qapp, "paper")


@pytest.fixture
def window(qtbot: QtBot, theme: Theme) -> Iterator[MainWindow]:
    theme.force("paper")
    made = MainWindow(theme)
    made.resize(1280, 800)
    made.show()
    yield made
    made.close()
    qtbot.waitUntil(lambda: not made.isVisible(), timeout=20_000)
    made.deleteLater()


@pytest.fixture
def open_book(qtbot: QtBot, window: MainWindow) -> Open:
    def open_(path: Path, pace: float | None = None) -> MainWindow:
        window.open_logbook(path, pace)
        qtbot.waitUntil(lambda: window.tune is not None and window.tune.complete, timeout=20_000)
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow, timeout=5_000)
        return window

    return open_
