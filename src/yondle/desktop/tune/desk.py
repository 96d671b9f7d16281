"""What the presenters of Tune's cards share: where they show, what they read, and where they send what is chosen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from PySide6.QtWidgets import QWidget

from yondle.app.session.commands import Command
from yondle.desktop.link.bridge import Bridge, OpenBook
from yondle.desktop.look.cards import Cards
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.rulers import Rulers
from yondle.desktop.tune.words import tell_trouble
from yondle.model.errors import KnownError
from yondle.views.shared.snapshot import Snapshot

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Desk:
    """`order` has something done that may take long, `refresh` shows the outcome of everything else."""

    window: QWidget
    theme: Theme
    bridge: Bridge
    book: OpenBook
    cards: Cards
    rulers: Rulers
    order: Callable[[Command[Any]], None]
    refresh: Callable[[], None]

    @property
    def now(self) -> Snapshot:
        """The logbook and its rig as they are now."""
        return self.book.now

    def ask(self, command: Command[T], then: Callable[[T], object] = lambda _: None) -> None:
        """Carry out a command, and show what came of it; while a test runs that may come later."""

        def done(result: T) -> None:
            then(result)
            self.refresh()

        self.book.ask(command, done, self.tell)

    def attempt(self, do: Callable[[], object]) -> None:
        """Do something that changes no logbook, and say where it can't be done."""
        try:
            do()
        except KnownError as error:
            self.tell(error)

    def tell(self, error: KnownError) -> None:
        """Say what went wrong."""
        tell_trouble(self.cards, error)
        self.refresh()
