"""What the command line asks of the window, which it doesn't know."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class WindowOrder:
    """What the window shall show: a logbook, or the first-start page; `evening` asks for Heron's example to be run."""

    logbook: Path | None
    pace: float | None = None
    evening: bool = False


OpenWindow = Callable[[WindowOrder], int]
