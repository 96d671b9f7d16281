"""Starts the window: the application object, the theme, and what to show first."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QFontInfo
from PySide6.QtWidgets import QApplication

from yondle.app.system.preferences import preferences
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.shelf import Shelf
from yondle.desktop.shell.speaking import speak
from yondle.language.saying import say
from yondle.model.errors import KnownError

SCHEME_VARIABLE, SCALE_VARIABLE = "YONDLE_SCHEME", "QT_SCALE_FACTOR"
USUAL_TEXT_PX = 14.7
"""11 points at 96 dots an inch, which desktops use unless told otherwise; Yondle's own sizes fit to it."""
LEAST_ENLARGED, MOST_ENLARGED = 1.08, 3.0


def text_scale(pixels: float) -> float:
    """Give by how much everything is enlarged where the desktop's own text has so many pixels; it is never made smaller."""
    scale = min(pixels / USUAL_TEXT_PX, MOST_ENLARGED)
    return round(scale, 2) if scale > LEAST_ENLARGED else 1.0


def _follow_text_size(app: QApplication) -> None:
    """Start over, enlarged, where the desktop's text is larger than usual; once, and never over a scale the user chose."""
    scale = text_scale(QFontInfo(app.font()).pixelSize())
    if scale > 1.0 and not os.environ.get(SCALE_VARIABLE):
        os.environ[SCALE_VARIABLE] = f"{scale:g}"
        os.execv(sys.executable, sys.orig_argv)


def show(logbook: Path | None, pace: float | None, evening: bool) -> int:
    """Show the window and run it to its end; returns the exit code. Raises KnownError where there is no display."""
    if sys.platform == "linux" and not any(
        os.environ.get(n) for n in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    ):
        raise KnownError(
            say("There is no display to show the window on."),
            say("Run it in a desktop session, or use the commands: 'yondle demo --headless', 'yondle --help'."),
        )
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Yondle")
    _follow_text_size(app)
    app.setDesktopFileName("net.yondle.Yondle")
    speak(app)
    theme = Theme(app, os.environ.get(SCHEME_VARIABLE) or preferences().scheme or None)
    window = Shelf(theme, first_page=logbook is None)
    window.show()
    if logbook is not None:
        window.shown.open_logbook(logbook, pace, evening)
    signal.signal(signal.SIGINT, lambda *_: QTimer.singleShot(0, window.close))
    try:
        return app.exec()
    finally:
        window.end()
