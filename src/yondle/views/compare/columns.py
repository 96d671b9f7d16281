"""What is compared: one column a step, a profile, a reference or another logbook's step, each with its figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord
from yondle.model.workloads import Workload
from yondle.views.shared.measured import Figure, Setting, Settings, like
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Column:
    """One thing compared: its address, what it is called, what it was measured on, and its figures.

    `setup` is in words; `book` and `step` are None for a reference.
    """

    address: str
    name: str
    rig: str
    setup: str
    declaration: RigDeclaration
    setting: Setting
    book: Snapshot | None
    step: StepRecord | None

    def figures(self, benchmark: Workload) -> tuple[Figure, ...]:
        """Give the figures of a benchmark, of whatever machine it is."""
        found = like(self.declaration, benchmark)
        if found is None:
            return ()
        return (*self.setting.figures.get(found.id, ()), *self.setting.zeros.get(found.id, ()))


Books = Sequence[tuple[Snapshot, Settings]]
"""Logbooks with what was measured in them; the first is the one that is open."""


def title(book: Snapshot) -> str:
    """Name a logbook by its rig, and by its file where that is not its rig's name."""
    name = book.declaration.info.name
    if book.opened or book.path.stem == name.lower().replace(" ", "-"):
        return name
    return f"{name} ({book.path.stem})"
