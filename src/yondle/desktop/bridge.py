"""Between the engine's thread and the window's: operations go one way, records come back in bunches at a capped rate."""

from __future__ import annotations

import logging
import queue
import threading
from collections import deque
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from yondle.app.session.session import Session
from yondle.desktop.tidying import Tidying
from yondle.model.errors import KnownError
from yondle.model.events import Record

REDRAW_MS = 100
"""At most ten redraws a second, however fast the records come."""

logger = logging.getLogger(__name__)

Operation = Callable[[], Any]


class Bridge(QObject):
    """Runs operations in one worker thread, in order, and hands records over in the window's thread."""

    records = Signal(list)
    done = Signal(str, object)
    failed = Signal(str, object)
    prepared = Signal(str)
    busy_changed = Signal(bool)
    _arrived = Signal()
    _ended = Signal(str, bool, object)

    def __init__(self) -> None:
        super().__init__()
        self._waiting: deque[Record] = deque()
        self._announced = False
        self._orders: queue.SimpleQueue[tuple[str, Operation] | None] = queue.SimpleQueue()
        self._pending = 0
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._hand_over)
        self._tidying = Tidying(self)
        self._arrived.connect(self._schedule)
        self._ended.connect(self._conclude)
        self._thread = threading.Thread(target=self._work, name="engine", daemon=False)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Tell whether an operation is under way or waiting."""
        return self._pending > 0

    def submit(self, name: str, operation: Operation) -> None:
        """Run an operation in the worker thread; `done` or `failed` tells how it went."""
        self._pending += 1
        if self._pending == 1:
            self.busy_changed.emit(True)
        self._orders.put((name, operation))

    def prepare(self, name: str, operation: Operation) -> None:
        """Run something in the worker thread that the tuner need not wait for; `prepared` tells when it is done."""
        self._orders.put((name, _Quietly(operation)))

    def listen_to(self, session: Session) -> None:
        """Hear a session's records."""
        session.subscribe(self._hear)

    def close(self) -> None:
        """End the worker thread after what is under way; once is enough, twice does no harm."""
        self._orders.put(None)
        self._thread.join()
        self._timer.stop()
        self._tidying.end()

    def _work(self) -> None:
        while (order := self._orders.get()) is not None:
            name, operation = order
            if isinstance(operation, _Quietly):
                operation()
                self.prepared.emit(name)
                continue
            try:
                result = operation()
            except KnownError as error:
                self._ended.emit(name, False, error)
            except Exception as error:
                logger.exception("a fault of the program in '%s'", name)
                self._ended.emit(name, False, error)
            else:
                self._ended.emit(name, True, result)

    def _hear(self, record: Record) -> None:
        self._waiting.append(record)
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

    def _conclude(self, name: str, well: bool, result: object) -> None:
        """Hand over the last records, tell how it went, and only then that nothing is under way any more."""
        self._hand_over()
        self._pending -= 1
        if well:
            self.done.emit(name, result)
        else:
            self.failed.emit(name, result)
        if self._pending == 0:
            self.busy_changed.emit(False)


class _Quietly:
    """An operation nobody waits for."""

    def __init__(self, operation: Operation) -> None:
        self._operation = operation

    def __call__(self) -> None:
        try:
            self._operation()
        except Exception:
            logger.exception("a fault of the program while preparing")
