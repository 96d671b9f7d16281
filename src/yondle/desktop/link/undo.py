"""What was changed last in an open logbook and how it is taken back: notes, limits, discards, renamings, dropped proposals."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from PySide6.QtCore import QObject, Signal

from yondle.app.session.commands import Command
from yondle.model.errors import KnownError


class Asked(Protocol):
    """Where commands are sent."""

    @property
    def running(self) -> bool:
        """Tell whether something is under way."""

    def ask(
        self,
        command: Command[Any],
        then: Callable[[Any], object] = ...,
        trouble: Callable[[KnownError], object] | None = ...,
    ) -> None:
        """Carry out a command, and hear what came of it."""


class Undo(QObject):
    """The changes that can be taken back, newest last; `changed` is sent when there is another newest one."""

    changed = Signal()

    def __init__(self, book: Asked) -> None:
        super().__init__()
        self._book = book
        self._backs: list[tuple[str, Command[Any]]] = []

    @property
    def what(self) -> str:
        """What would be taken back; empty where nothing can be."""
        return self._backs[-1][0] if self._backs else ""

    def remember(self, what: str, back: Command[Any]) -> None:
        """Remember a change by the command that takes it back."""
        self._backs.append((what, back))
        self.changed.emit()

    def take_back(self, then: Callable[[], object], trouble: Callable[[KnownError], object]) -> None:
        """Take the last change back, and tell where it can't be: one refused while something runs waits, another is forgotten."""
        if not self._backs:
            return
        what, back = self._backs.pop()

        def refused(error: KnownError) -> None:
            if self._book.running:
                self.remember(what, back)
            trouble(error)

        self._book.ask(back, lambda _: then(), refused)
        self.changed.emit()
