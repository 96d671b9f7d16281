"""Owns the open logbook and the one thread it is worked in: faces send commands, and read the snapshot that is left after each.

Whatever is done with a logbook is done here, so nothing is written while something else is half done. A face never waits for
a test: what comes while one runs is done at the next reading or between two passes, or refused (`WhileTesting`).
"""

from __future__ import annotations

import logging
import queue
import threading
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.life import TRANSITIONS, Life, LifeEvent
from yondle.engine.states import State
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, PassEnded, Record, Sampled
from yondle.model.knobs import Change

if TYPE_CHECKING:
    from yondle.app.session.session import Session
    from yondle.views.shared.snapshot import Snapshot

logger = logging.getLogger(__name__)

T = TypeVar("T")
Opens = Callable[[], "Session"]


class Errand(ABC, Generic[T]):
    """Something that runs rigs of its own, in logbooks of its own, whether one is open or not."""

    @abstractmethod
    def run(self) -> T:
        """Do it; raises KnownError where it can't be done."""


Order = Command[Any] | Errand[Any]


@dataclass(slots=True)
class Latest:
    """The latest snapshot of one logbook; another one is put in its place after every change, by the owner alone."""

    now: Snapshot


@dataclass(frozen=True, slots=True)
class Answer(Generic[T]):
    """What came of a command: its result, or what stood against it."""

    result: T | None
    error: Exception | None = None


@dataclass(frozen=True, slots=True)
class Heard:
    """A record of the engine, which the latest snapshot has already."""

    record: Record


@dataclass(frozen=True, slots=True)
class Opened:
    """A logbook is open, as asked with `opens`."""

    opens: Opens
    latest: Latest


@dataclass(frozen=True, slots=True)
class NotOpened:
    """A logbook could not be opened."""

    opens: Opens
    error: Exception


@dataclass(frozen=True, slots=True)
class Closed:
    """A logbook was closed, and what was put back thereby."""

    book: Snapshot
    put_back: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Ended:
    """An order was carried out to its end."""

    order: Order
    answer: Answer[Any]


OwnerNews = Heard | Opened | NotOpened | Closed | Ended


class Owner:
    """One thread, and the one logbook that is open in it. `tell` hears what happens, in that thread.

    `open`, `close`, `order` and `ask` are called by one face, from one thread; none of them waits for a test.
    """

    def __init__(self, tell: Callable[[OwnerNews], None]) -> None:
        self._tell = tell
        self._session: Session | None = None
        self._latest: Latest | None = None
        self._life = Life.CLOSED
        self._jobs: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._pending = 0
        self._postponed: deque[tuple[Command[Any], Callable[[Answer[Any]], None]]] = deque()
        self._thread = threading.Thread(target=self._work, name="owner", daemon=False)
        self._thread.start()

    @property
    def life(self) -> Life:
        """What is being done with the logbook."""
        return self._life

    @property
    def pausing(self) -> bool:
        """Tell whether a pause is asked for: it begins before the next pass, and lasts until the tuner goes on."""
        session = self._session
        return session is not None and session.engine.requests.paused

    def open(self, opens: Opens) -> None:
        """Open a logbook; the one that was open is closed first. Tells Opened, or NotOpened."""
        self.close()
        self._put(lambda: self._open(opens))

    def close(self) -> None:
        """Close the logbook once what is ordered has ended, and tell Closed; nothing happens where none is open by then."""
        self._put(self._close)

    def order(self, order: Order) -> None:
        """Carry out something that may take long, after whatever was ordered before it; tells Ended."""
        self._put(lambda: self._carry_out(order))

    def ask(self, latest: Latest, command: Command[T], answered: Callable[[Answer[T]], None]) -> None:
        """Carry out a command on a logbook; `answered` hears what came of it.

        At rest it is answered before this returns, in the calling thread. While a test runs it is refused at once, or answered
        later in the owner's thread.
        """
        session = self._session
        if session is None or latest is not self._latest:
            answered(Answer(None, not_open()))
        elif command.while_testing is WhileTesting.AT_ONCE:
            answered(_answer(session, command))
        elif self._is_free():
            answer: Future[Answer[T]] = Future()
            self._jobs.put(lambda: answer.set_result(self._answer(command)))
            answered(answer.result())
        elif command.while_testing is WhileTesting.REFUSED:
            answered(Answer(None, runs()))
        else:
            self._postponed.append((command, answered))
            self._jobs.put(lambda: self._take_postponed(lambda _: True))

    def end(self) -> None:
        """Close the logbook after what is under way, and end the thread; once is enough, twice does no harm."""
        self.close()
        self._jobs.put(None)
        self._thread.join()

    # -- in the owner's thread -------------------------------------------------------------------------------------------

    def _work(self) -> None:
        while (job := self._jobs.get()) is not None:
            job()

    def _put(self, job: Callable[[], None]) -> None:
        def counted() -> None:
            try:
                job()
            finally:
                with self._lock:
                    self._pending -= 1

        with self._lock:
            self._pending += 1
        self._jobs.put(counted)

    def _is_free(self) -> bool:
        with self._lock:
            return self._pending == 0

    def _open(self, opens: Opens) -> None:
        self._life = TRANSITIONS.follow(self._life, LifeEvent.OPEN)
        try:
            session = opens()
        except Exception as error:
            _log(error, opens)
            self._life = TRANSITIONS.follow(self._life, LifeEvent.SHUT)
            self._tell(NotOpened(opens, error))
            return
        self._session, self._latest = session, Latest(session.snapshot)
        session.subscribe(self._hear)
        self._settle()
        self._tell(Opened(opens, self._latest))

    def _close(self) -> None:
        session = self._session
        if session is None:
            return
        self._life = TRANSITIONS.follow(self._life, LifeEvent.CLOSE)
        book = session.snapshot
        self._session, self._latest = None, None
        put_back: tuple[Change, ...] = ()
        try:
            put_back = session.close()
        except Exception:
            logger.exception("a fault of the program while closing")
        self._life = TRANSITIONS.follow(self._life, LifeEvent.SHUT)
        self._tell(Closed(book, put_back))

    def _carry_out(self, order: Order) -> None:
        self._life = TRANSITIONS.follow(self._life, LifeEvent.ORDER)
        answer = self._ran(order) if isinstance(order, Errand) else self._answer(order)
        self._take_postponed(lambda _: True)
        self._settle()
        self._tell(Ended(order, answer))

    def _ran(self, errand: Errand[T]) -> Answer[T]:
        try:
            return Answer(errand.run())
        except Exception as error:
            _log(error, errand)
            return Answer(None, error)

    def _answer(self, command: Command[T]) -> Answer[T]:
        """Carry out a command and have the snapshot that is left after it."""
        if self._session is None:
            return Answer(None, not_open())
        answer = _answer(self._session, command)
        self._refresh()
        return answer

    def _settle(self) -> None:
        """Come to rest after an order, or wait where values have to be entered."""
        session = self._session
        event = LifeEvent.SHUT if session is None else LifeEvent.REST if session.waits.now is None else LifeEvent.WAIT
        self._life = TRANSITIONS.follow(self._life, event)

    def _refresh(self) -> None:
        if self._session is not None and self._latest is not None:
            self._latest.now = self._session.snapshot

    def _hear(self, record: Record) -> None:
        session = self._session
        if session is not None and self._postponed:
            between = isinstance(record, PassEnded | AttemptClosed) or session.engine.state in _BETWEEN
            if between or isinstance(record, Sampled):
                self._take_postponed(lambda c: between or c.while_testing is WhileTesting.AT_NEXT_READING)
        self._refresh()
        self._tell(Heard(record))

    def _take_postponed(self, may: Callable[[Command[Any]], bool]) -> None:
        """Carry out what was postponed, in the order it came, and leave what may not be done yet."""
        for _ in range(len(self._postponed)):
            command, answered = self._postponed.popleft()
            if may(command):
                answered(self._answer(command))
            else:
                self._postponed.append((command, answered))


_BETWEEN = (State.SETTLING, State.PAUSED)
"""What a test is at while no pass of it runs, and that may last."""


def runs() -> KnownError:
    """Say that a test runs, and what becomes of that."""
    return KnownError(say("A test is running."), say("Wait for its verdict, or stop it first (Esc)."))


def not_open() -> KnownError:
    """Say that there is no logbook to do it in."""
    return KnownError(say("This logbook isn't open any more."), say("Open it again."))


def _answer(session: Session, command: Command[T]) -> Answer[T]:
    try:
        return Answer(session.do(command))
    except Exception as error:
        _log(error, command)
        return Answer(None, error)


def _log(error: Exception, what: object) -> None:
    if not isinstance(error, KnownError):
        logger.error("a fault of the program in %r", what, exc_info=error)
