"""Profiles: whole setups kept under a name, each for a purpose."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yondle.model.knobs import Setup


class Purpose(StrEnum):
    """What a profile is for."""

    DAILY = "daily"
    QUIET = "quiet"
    BATTERY = "on battery"
    BENCHMARK = "best for one benchmark"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Profile:
    """A setup kept by name; `step` is the step that proved it, None for one that came from a file and is untried here."""

    name: str
    purpose: Purpose
    benchmark: str
    setup: Setup
    step: int | None
    at: str
