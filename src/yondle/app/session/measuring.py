"""With what this machine is measured: workloads of the user's own, meters outside it, and how workloads are run.

All of it takes effect when the logbook is opened next.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from yondle.app.machine import own_things, this_machine
from yondle.app.machine.machines import THIS
from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.workloads import Workload
from yondle.views.shared.snapshot import Snapshot

T = TypeVar("T")


class _Writes(Command[T]):
    while_testing = WhileTesting.AT_NEXT_READING


@dataclass(frozen=True)
class AddWorkload(_Writes[Workload]):
    """Keep a workload of the user's own by the text of its file; one of the same name is replaced."""

    text: str
    source: str

    def do(self, session: Session) -> Workload:
        """Give the workload; it isn't run before it is allowed on this machine."""
        must_be_this(session.snapshot)
        own = this_machine.own_ids(session.snapshot.kept)
        taken = tuple(w.id for w in session.declaration.workloads if w.id not in own)
        command = this_machine.add_command(session.logbook.keeping, self.text, self.source, taken)
        session.take_documents()
        return command.workload


@dataclass(frozen=True)
class RemoveWorkload(_Writes[None]):
    """Forget a workload of the user's own; its results stay."""

    workload: str

    def do(self, session: Session) -> None:
        """Forget it."""
        this_machine.remove_command(session.logbook.keeping, self.workload)
        session.take_documents()


@dataclass(frozen=True)
class AddOwn(_Writes[tuple[str, ...]]):
    """Keep a file of the tuner's own knobs and sensors by its text; one with any of the same ids is replaced."""

    text: str
    source: str

    def do(self, session: Session) -> tuple[str, ...]:
        """Give their names; none is used before it is allowed on this machine."""
        must_be_this(session.snapshot)
        own = {thing.id for thing in own_things.own_things(session.snapshot.kept)}
        declared = session.declaration
        taken = (*(knob.id for knob in declared.knobs if knob.id not in own), *own_things.installed(declared, own))
        things = own_things.add_own(session.logbook.keeping, self.text, self.source, taken)
        session.take_documents()
        return tuple(thing.entry.name for thing in things)


@dataclass(frozen=True)
class RemoveOwn(_Writes[None]):
    """Forget the file that a knob or sensor of the tuner's own is of; what was tested with it stays."""

    id: str

    def do(self, session: Session) -> None:
        """Forget it."""
        own_things.remove_own(session.logbook.keeping, self.id)
        session.take_documents()


@dataclass(frozen=True)
class AddMeter(Command[str]):
    """Keep a meter that answers; raises KnownError for one that doesn't. It takes up to four seconds to hear it."""

    name: str
    address: str
    unit: str
    ask: str = ""
    field: int = 1
    factor: float = 1.0
    baud: int = 115_200
    follows: str = ""

    def do(self, session: Session) -> str:
        """Say what it reads."""
        must_be_this(session.snapshot)
        if self.follows:
            session.declaration.knob(self.follows)
        told = (self.name, self.address, self.unit, self.ask, self.field, self.factor, self.baud, self.follows)
        words = this_machine.try_meter(session.logbook.keeping, session.machine.clock, *told)
        session.take_documents()
        return words


@dataclass(frozen=True)
class RemoveMeter(_Writes[None]):
    """Forget a meter; its readings stay."""

    name: str

    def do(self, session: Session) -> None:
        """Forget it."""
        this_machine.remove_meter(session.logbook.keeping, self.name)
        session.take_documents()


@dataclass(frozen=True)
class ChangeRunSettings(_Writes[None]):
    """Change how workloads are run (`WorkloadSettings`, by the names of its fields), and what other programs may use, in %."""

    changes: Mapping[str, Any]
    others_at_most: float | None = None

    def do(self, session: Session) -> None:
        """Keep it."""
        must_be_this(session.snapshot)
        setup = this_machine.setup_of(session.snapshot.kept)
        others = setup.others_at_most if self.others_at_most is None else self.others_at_most
        this_machine.keep_settings(session.logbook.keeping, replace(setup.settings, **self.changes), others)
        session.take_documents()


def must_be_this(book: Snapshot) -> None:
    """Raise KnownError for a logbook that isn't about the machine Yondle runs on."""
    if book.reader.rig()[0] != THIS:
        raise KnownError(
            say("That goes with this machine only."), say("Make a logbook for it: yondle new FILE --rig this")
        )
