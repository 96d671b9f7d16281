"""What a face asks of an open logbook: one typed command per operation, carried out in the thread that owns the logbook."""

from __future__ import annotations

from abc import ABC, abstractmethod
from enum import Enum
from typing import TYPE_CHECKING, ClassVar, Generic, TypeVar

if TYPE_CHECKING:
    from yondle.app.session.session import Session

T = TypeVar("T")


class WhileTesting(Enum):
    """What becomes of a command that comes while a test runs.

    A note is worth most when the machine may go down the next moment, so what only writes is done at the next reading, which
    comes several times a second. What changes by which rules a test runs is done between two of its passes. What needs the
    rig, or would change what is tested, is refused in a sentence.
    """

    REFUSED = 1
    BETWEEN_PASSES = 2
    AT_NEXT_READING = 3
    AT_ONCE = 4
    """Safe in any thread at any moment: it only asks."""


class Command(ABC, Generic[T]):
    """One operation with all it needs to know.

    `tests` tells that it may take long, since it sets or runs the rig; `runs`, that it does run something on it.
    """

    while_testing: ClassVar[WhileTesting] = WhileTesting.REFUSED
    tests: ClassVar[bool] = False
    runs: ClassVar[bool] = False

    @abstractmethod
    def do(self, session: Session) -> T:
        """Carry it out; raises KnownError where it can't be, and then nothing has changed."""
