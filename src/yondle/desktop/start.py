"""Starts the window: the application object, the theme, and what to show first."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from yondle.desktop.theme import Theme
from yondle.desktop.window import MainWindow
from yondle.model.errors import KnownError

SCHEME_VARIABLE = "YONDLE_SCHEME"


def show(logbook: Path | None, pace: float | None, evening: bool) -> int:
    """Show the window and run it to its end; returns the exit code. Raises KnownError where there is no display."""
    if sys.platform == "linux" and not any(
        os.environ.get(n) for n in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    ):
        raise KnownError(
            "There is no display to show the window on.",
            "Run it in a desktop session, or use the commands: 'yondle demo --headless', 'yondle --help'.",
        )
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Yondle")
    app.setDesktopFileName("net.yondle.Yondle")
    theme = Theme(app, os.environ.get(SCHEME_VARIABLE))
    window = MainWindow(theme)
    window.show()
    if logbook is not None:
        window.open_logbook(logbook, pace, evening)
    signal.signal(signal.SIGINT, lambda *_: QTimer.singleShot(0, window.close))
    try:
        return app.exec()
    finally:
        window.bridge.close()
