"""Between the owner's thread and the window's: commands go one way, records come back in bunches at a capped rate."""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from PySide6.QtCore import QObject, QTimer, Signal

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.owner import (
    Answer,
    Closed,
    Ended,
    Heard,
    Latest,
    NotOpened,
    Opened,
    Opens,
    Order,
    Owner,
    OwnerNews,
)
from yondle.desktop.link.tidying import Tidying
from yondle.desktop.link.undo import Undo
from yondle.model.errors import KnownError
from yondle.model.events import Record

if TYPE_CHECKING:
    from yondle.views.shared.snapshot import Snapshot

REDRAW_MS = 100
"""At most ten redraws a second, however fast the records come."""

logger = logging.getLogger(__name__)

T = TypeVar("T")


class OpenBook:
    """What a place knows of the open logbook: its latest snapshot, where to send commands, and what is open `beside` it."""

    def __init__(self, bridge: Bridge, latest: Latest) -> None:
        self._bridge = bridge
        self._latest = latest
        self.beside: Callable[[], tuple[Path, ...]] = tuple
        self.undo = Undo(self)

    @property
    def now(self) -> Snapshot:
        """The logbook and its rig as they are now."""
        return self._latest.now

    @property
    def running(self) -> bool:
        """Tell whether something is under way or ordered."""
        return self._bridge.busy

    @property
    def pausing(self) -> bool:
        """Tell whether a pause is asked for."""
        return self._bridge.owner.pausing

    def order(self, command: Command[Any]) -> None:
        """Have something done that may take long; `Bridge.ended` tells how it went."""
        self._bridge.order(command)

    def do(self, command: Command[T]) -> T:
        """Carry out a command that is never postponed; raises KnownError where it can't be carried out now."""
        assert command.while_testing in (WhileTesting.REFUSED, WhileTesting.AT_ONCE), "to be asked, not done"
        answers: list[Answer[T]] = []
        self._bridge.owner.ask(self._latest, command, answers.append)
        return _result(answers[0])

    def ask(
        self,
        command: Command[T],
        then: Callable[[T], object] = lambda _: None,
        trouble: Callable[[KnownError], object] | None = None,
    ) -> None:
        """Carry out a command and hear what came of it: at once at rest, later while a test runs.

        Raises KnownError at once where it can't be and nobody hears `trouble`.
        """
        self._bridge.ask(self._latest, command, then, trouble)


class Bridge(QObject):
    """Owns the owner's thread on the window's behalf, and hands over in the window's thread what happens there."""

    records = Signal(list)
    opened = Signal(object, object)
    """What was asked for (`Opens`), and the OpenBook."""
    not_opened = Signal(object, object)
    closed = Signal(object)
    ended = Signal(object, object)
    """What was ordered, and its Answer."""
    prepared = Signal(object)
    """What was prepared."""
    busy_changed = Signal(bool)
    _arrived = Signal()
    _told = Signal(object)
    _answered = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._waiting: deque[Record] = deque()
        self._announced = False
        self._pending = 0
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._hand_over)
        self._tidying = Tidying(self)
        self._preparing: list[threading.Thread] = []
        self._closed = False
        self._arrived.connect(self._schedule)
        self._told.connect(self._conclude)
        self._answered.connect(lambda answer: answer())
        self._window_thread = threading.get_ident()
        self.owner = Owner(self._hear)

    @property
    def busy(self) -> bool:
        """Tell whether something is under way or ordered."""
        return self._pending > 0

    def open(self, opens: Opens) -> None:
        """Open a logbook in place of the one that is open; `opened` or `not_opened` tells how it went."""
        self._begin()
        self.owner.open(opens)

    def close_book(self) -> None:
        """Close the logbook; `closed` tells what was put back thereby."""
        self.owner.close()

    def order(self, order: Order) -> None:
        """Carry out something that may take long; `ended` tells how it went."""
        self._begin()
        self.owner.order(order)

    def ask(
        self,
        latest: Latest,
        command: Command[T],
        then: Callable[[T], object],
        trouble: Callable[[KnownError], object] | None,
    ) -> None:
        """Carry out a command; `then` or `trouble` hear what came of it, in the window's thread."""

        def hear(answer: Answer[T]) -> None:
            try:
                result = _result(answer)
            except KnownError as error:
                if trouble is None:
                    raise
                trouble(error)
            else:
                then(result)

        def answered(answer: Answer[T]) -> None:
            if threading.get_ident() == self._window_thread:
                hear(answer)
            else:
                self._answered.emit(lambda: hear(answer))

        self.owner.ask(latest, command, answered)

    def prepare(self, work: Callable[[], object]) -> None:
        """Run something in a thread of its own that nobody waits for; `prepared` tells when it is done. Nothing, once closed."""
        if self._closed:
            return

        def run() -> None:
            try:
                work()
            except Exception:
                logger.exception("a fault of the program while preparing")
            self.prepared.emit(work)

        thread = threading.Thread(target=run, name="preparing", daemon=True)
        self._preparing = [each for each in self._preparing if each.is_alive()]
        self._preparing.append(thread)
        thread.start()

    def close(self) -> None:
        """End the threads after what is under way; once is enough, twice does no harm."""
        self._closed = True
        self.owner.end()
        for thread in self._preparing:
            thread.join()
        self._timer.stop()
        self._tidying.end()

    def _begin(self) -> None:
        self._pending += 1
        if self._pending == 1:
            self.busy_changed.emit(True)

    def _hear(self, told: OwnerNews) -> None:
        """Take what the owner tells, in its thread."""
        if not isinstance(told, Heard):
            self._told.emit(told)
            return
        self._waiting.append(told.record)
        if not self._announced:
            self._announced = True
            self._arrived.emit()

    def _schedule(self) -> None:
        if not self._timer.isActive():
            self._timer.start(REDRAW_MS)

    def _hand_over(self) -> None:
        self._announced = False
        self._tidying.look()
        bunch = []
        while self._waiting:
            bunch.append(self._waiting.popleft())
        if bunch:
            self.records.emit(bunch)

    def _conclude(self, told: OwnerNews) -> None:
        """Hand over the last records, tell how it went, and only then that nothing is under way any more."""
        self._hand_over()
        match told:
            case Closed():
                self.closed.emit(told)
                return
            case Opened():
                self._pending -= 1
                self.opened.emit(told.opens, OpenBook(self, told.latest))
            case NotOpened():
                self._pending -= 1
                self.not_opened.emit(told.opens, told.error)
            case Ended():
                self._pending -= 1
                self.ended.emit(told.order, told.answer)
            case Heard():
                return
        if self._pending == 0:
            self.busy_changed.emit(False)


def _result(answer: Answer[T]) -> T:
    """Give the result of a command; raises what stood against it."""
    if answer.error is not None:
        raise answer.error
    result: T = answer.result  # type: ignore[assignment]
    return result
