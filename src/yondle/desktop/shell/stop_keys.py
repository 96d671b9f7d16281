"""Shift+Esc stops a test at once from wherever the keys go, also from an open dialog or menu, which keep shortcuts to themselves.

A file dialog of the desktop's own belongs to another program and hears its keys alone.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication


class StopKeys(QObject):
    """Listens to the whole program's keys while something runs, and to nothing at rest."""

    def __init__(self, parent: QObject, halt: Callable[[], None]) -> None:
        super().__init__(parent)
        self._halt = halt

    def listen(self, listens: bool) -> None:
        """Begin or end to listen."""
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
            if listens:
                app.installEventFilter(self)

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        """Take the key where no shortcut would be heard."""
        if event.type() is not QEvent.Type.KeyPress or not isinstance(event, QKeyEvent):
            return False
        pressed = event.key() == Qt.Key.Key_Escape and event.modifiers() == Qt.KeyboardModifier.ShiftModifier
        if not pressed or not (QApplication.activeModalWidget() or QApplication.activePopupWidget()):
            return False
        self._halt()
        return True
