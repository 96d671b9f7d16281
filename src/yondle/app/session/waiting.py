"""What a session waits for: values that have to be entered in firmware setup, and the answer after the restart."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from yondle.analysis.judging import UNLIMITED, limited_at
from yondle.app.machine.machines import Machine
from yondle.app.session.book import Book
from yondle.app.system.autostart import come_back_with, stay_away
from yondle.engine.engine import Order
from yondle.language.saying import say
from yondle.logbook.logbook import Logbook
from yondle.logbook.reading import OpenAttempt
from yondle.model.acts import Act
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, Entered, EntryOpened, PositionMoved, Record
from yondle.model.knobs import Setup, When
from yondle.model.standing import Waiting


class WaitForHands:
    """Keeps what is waited for, over the end of the program too; `nobody_there` tells whether only the tuner has hands."""

    def __init__(self, logbook: Logbook, machine: Machine, book: Book, nobody_there: Callable[[], bool]) -> None:
        self._logbook = logbook
        self._machine = machine
        self._book = book
        self._nobody_there = nobody_there
        self._comes_back: bool | None = None
        self.now: Waiting | None = None
        self.order: Order | None = None

    def must_be_none(self) -> None:
        """Raise KnownError while something waits."""
        if self.now is not None:
            raise KnownError(
                say("Values are waiting to be set by hand."),
                say("Set them and go on, or drop that step first."),
            )

    def take_up(self, open_: OpenAttempt) -> bool:
        """Wait for an attempt that was left over a restart: it isn't interrupted, and goes on once that is answered."""
        entry = self._logbook.entry()
        if entry is not None and (entry.attempt != open_.attempt.id or entry.putting_back):
            entry = None
        asked = entry is not None
        restarting = open_.last_act is Act.RESTART_OPENED
        boot = entry.boot_id if entry is not None else open_.last_detail.get("boot_id", open_.attempt.boot_id)
        restarted = boot != self._machine.rig.boot_id()
        fitted = self._machine.rig.declaration.fitted
        attempt, check = open_.attempt, open_.attempt.check
        step = replace(open_.step, setup=fitted(open_.step.setup))
        if check is None or not (asked or (restarting and restarted)):
            return False
        before = self._book.outcomes(step.number)
        limits = (
            limited_at(self._machine.rig.declaration, self._book.step(open_.home_step))
            if open_.home_step
            else UNLIMITED
        )
        self.order = Order(attempt.id, step, check, fitted(open_.home), open_.home_step, before, at_home=limits)
        values = entry.values if entry is not None else open_.last_detail["values"]
        goes_on = not (asked and self._nobody_there())
        self.now = Waiting(values, step.setup, step, restarted, goes_on, not asked or self._restarts(values))
        return True

    def take_up_putting_back(self) -> bool:
        """Wait for the values that bring the rig back, if an earlier program left that to the tuner."""
        entry = self._logbook.entry()
        if entry is None or not entry.putting_back or not self._nobody_there():
            return False
        restarted = entry.boot_id != self._machine.rig.boot_id()
        restarts = self._restarts(entry.values)
        self.now = Waiting(entry.values, Setup.of(entry.setup), None, restarted, restarts=restarts)
        return True

    def hear(self, record: Record, running: int) -> None:
        """Follow the engine's records; `running` is the step on trial."""
        match record:
            case EntryOpened() if self._nobody_there():
                step = None if record.putting_back else self._book.step(running).step
                restarts = self._restarts(record.values)
                self.now = Waiting(record.values, record.setup, step, restarted=False, restarts=restarts)
            case Entered():
                self.now = None
            case AttemptClosed():
                self.order = None
                self.now = None if record.verified else self.now
            case PositionMoved():
                self.now = None if record.verified else self.now
            case _:
                return
        self.arrange_return()

    def _restarts(self, values: Mapping[str, float]) -> bool:
        """Tell whether any of these values takes a restart once it is entered."""
        knobs = self._machine.rig.declaration.knobs
        return any(knob.when is not When.AT_HAND for knob in knobs if knob.id in values)

    def arrange_return(self) -> None:
        """On a real machine Yondle comes back after the login that follows the restart something waits for."""
        waits = self.now is not None and self.now.restarts and self._machine.virtual is None
        if waits != self._comes_back:
            self._comes_back = waits
            if waits:
                come_back_with(self._logbook.path)
            else:
                stay_away(self._logbook.path)
