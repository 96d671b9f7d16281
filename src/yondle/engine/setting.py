"""Brings the rig to a setup, whichever way its knobs are set: by hand, with a restart, or live; then reads it back."""

from __future__ import annotations

from collections.abc import Mapping

from yondle.engine.bench import Bench
from yondle.engine.ports import Hands
from yondle.engine.states import Trigger
from yondle.model.events import Durable, Entered, EntryOpened, Restarted, RestartOpened
from yondle.model.knobs import Setup, When
from yondle.model.rigs import KnobReply
from yondle.model.steps import StartAnswer


class HandsNeeded(Exception):
    """Values have to be entered by the tuner, who is waited for."""


class Refusal(Exception):
    """A value for which the machine would have to restart was not taken; nothing was restarted."""

    def __init__(self, replies: tuple[KnobReply, ...]) -> None:
        super().__init__("refused")
        self.replies = replies


class Setter:
    """Sets knobs and reads them back.

    A knob that no machine tells (`Knob.readable`) is taken to be what was last entered with success. One that could be
    read and wasn't is not known: it is missing from what was read.
    """

    def __init__(self, bench: Bench, hands: Hands) -> None:
        self._bench = bench
        self.hands = hands
        self._recording = True
        self._told = dict(bench.declaration.stock)

    def believe(self, setup: Mapping[str, float]) -> None:
        """Take these values to be in force where the machine doesn't tell."""
        self._told = dict(setup)

    def read(self) -> Setup:
        """Read the values in force; those that no machine tells are as they were told, those not read are left out."""
        read = self._bench.rig.read_back()
        told = {k.id: self._told[k.id] for k in self._bench.declaration.knobs if not k.readable and k.id in self._told}
        return read.with_values(told) if told else read

    def reach(self, setup: Setup, putting_back: bool) -> tuple[KnobReply, ...]:
        """Bring the rig to a setup and give its replies.

        Raises HandsNeeded when the tuner has to enter values, Refusal when a value that takes a restart isn't taken,
        MachineDownError when the machine goes down over it.
        """
        bench = self._bench
        read = self.read()
        due = self._due(read)
        by_hand = bench.declaration.differing(due, setup, When.BY_HAND, When.AT_HAND)
        later = bench.declaration.differing(due, setup, When.RESTART)
        in_force_later = bench.declaration.differing(read, setup, When.BY_HAND, When.RESTART)
        replies: tuple[KnobReply, ...] = ()
        if by_hand:
            self._note(EntryOpened(bench.attempt, by_hand, setup, putting_back, bench.rig.boot_id()))
            entered = self.hands.enter(by_hand)
            if entered is None:
                raise HandsNeeded
            replies += entered
        if later:
            replies += bench.rig.apply(later)
        if any(not reply.taken for reply in replies):
            raise Refusal(replies)
        if in_force_later:
            self.restart(in_force_later, putting_back)
        if by_hand:
            self._note(Entered(bench.attempt, StartAnswer()))
            self._told.update(by_hand)
        live = {k.id: setup[k.id] for k in bench.declaration.knobs if k.when is When.LIVE and k.id in setup}
        return replies + bench.rig.apply(live)

    def reach_without_record(self, setup: Setup) -> None:
        """Bring the rig to a setup although nothing can be written down any more."""
        self._recording = False
        try:
            self.reach(setup, putting_back=True)
        finally:
            self._recording = True

    def restart(self, values: dict[str, float], putting_back: bool) -> None:
        """Restart the machine so that values come into force."""
        bench = self._bench
        if self._recording:
            bench.fire(Trigger.RESTART)
        self._note(RestartOpened(bench.attempt, values, bench.rig.boot_id()))
        bench.idle(bench.rig.restart())
        boot = bench.rig.boot_id()
        bench.rig.read_back()
        self._note(Restarted(bench.attempt, boot))
        if self._recording:
            bench.fire(Trigger.RESTORE if putting_back else Trigger.APPLY)

    def firmware_was_reset(self) -> None:
        """The machine could not start, so what can't be read is at stock now; nobody has turned a dial."""
        stock, knobs = self._bench.declaration.stock, self._bench.declaration.knobs
        at_hand = {k.id: self._told[k.id] for k in knobs if k.when is When.AT_HAND and k.id in self._told}
        self._told = {**stock, **at_hand}

    def _note(self, record: Durable) -> None:
        if self._recording:
            self._bench.emit(record)

    def _due(self, read: Setup) -> Setup:
        """The setup the machine would have after a restart."""
        pending = self._bench.rig.pending()
        return read.with_values(pending) if pending else read
