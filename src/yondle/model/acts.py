"""What the journal of a logbook calls the acts of a test: announced before they happen, answered after."""

from __future__ import annotations

from enum import Enum


class Act(Enum):
    """An act, by the name it has on disk. Older logbooks wrote them as in `_OLDER`; what isn't known is read as OTHER."""

    STEP_OPENED = "step opened"
    APPLY_OPENED = "values to be set"
    APPLIED = "values read back"
    ENTRY_OPENED = "values to be entered"
    ENTERED = "values entered"
    RESTART_OPENED = "restart to come"
    RESTARTED = "restarted"
    SETTLE_OPENED = "to be cooled down"
    SETTLED = "cooled down"
    PASS_OPENED = "pass opened"
    PASS_ENDED = "pass ended"
    VERDICT_GIVEN = "verdict given"
    PUT_BACK_OPENED = "to be put back"
    ATTEMPT_CLOSED = "test closed"
    POSITION_MOVED = "position moved"
    OTHER = "something else"

    @classmethod
    def _missing_(cls, value: object) -> Act:
        return _OLDER.get(str(value), cls.OTHER)

    @property
    def names(self) -> tuple[str, ...]:
        """Every name it has on disk."""
        return (self.value, *(name for name, act in _OLDER.items() if act is self))


_OLDER = {
    "StepOpened": Act.STEP_OPENED, "ApplyOpened": Act.APPLY_OPENED, "Applied": Act.APPLIED,
    "EntryOpened": Act.ENTRY_OPENED, "Entered": Act.ENTERED, "RestartOpened": Act.RESTART_OPENED,
    "Restarted": Act.RESTARTED, "SettleOpened": Act.SETTLE_OPENED, "Settled": Act.SETTLED,
    "PassOpened": Act.PASS_OPENED, "PassEnded": Act.PASS_ENDED, "VerdictGiven": Act.VERDICT_GIVEN,
    "PutBackOpened": Act.PUT_BACK_OPENED, "AttemptClosed": Act.ATTEMPT_CLOSED, "PositionMoved": Act.POSITION_MOVED,
}  # fmt: skip
