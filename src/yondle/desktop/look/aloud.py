"""What a screen reader is told as it happens: verdicts, troubles, and the point a chart was walked to; never a countdown."""

from __future__ import annotations

from PySide6.QtGui import QAccessible, QAccessibleAnnouncementEvent
from PySide6.QtWidgets import QWidget


def announce(where: QWidget, words: str, at_once: bool = False) -> None:
    """Have something said, after what is being said, or `at_once`; nothing where nobody listens."""
    if not words or not QAccessible.isActive():
        return
    event = QAccessibleAnnouncementEvent(where, words)
    level = QAccessible.AnnouncementPoliteness
    event.setPoliteness(level.Assertive if at_once else level.Polite)
    QAccessible.updateAccessibility(event)
