"""Profiles kept in force over restarts: for which power source, and what became of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Protocol

MAINS, BATTERY, BOTH = "mains", "battery", "both"
"""The power sources a profile is kept for."""


@dataclass(frozen=True, slots=True)
class Incident:
    """Something that went wrong while a profile was kept in force, or as it was to be: what, when, and which."""

    why: str
    at: str
    name: str
    logbook: str


@dataclass(frozen=True, slots=True)
class KeptNow:
    """What is kept, by power source: the name of the profile, its logbook and its step; and why nothing is set any more.

    `in_force` names the profile that is in force just now, empty where none is. `night` is the logbook whose plan goes on by
    itself over restarts, empty where none does, and `came_back` how often it has.
    """

    profiles: Mapping[str, tuple[str, str, int]]
    stopped: str = ""
    in_force: str = ""
    incidents: tuple[Incident, ...] = ()
    night: str = ""
    came_back: int = 0


class Keeper(Protocol):
    """What keeps profiles over restarts on a machine, and brings plans back."""

    def settable(self) -> frozenset[str]:
        """Give the knobs that can be kept."""

    def tell(self, word: str, request: Mapping[str, Any] | None = None) -> None:
        """Have it 'set', 'off', 'again' or 'night'; raises KnownError with its reason where it doesn't."""

    def now(self) -> KeptNow:
        """Look at what is kept."""
