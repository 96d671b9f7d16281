"""Runs of plans as a logbook keeps them: every move written down before it is made, and what became of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yondle.model.findings import Finding


@dataclass(frozen=True, slots=True)
class PlanMove:
    """One move of a plan's run: in words, the attempt it was to make, and what became of it (None while under way)."""

    number: int
    words: str
    attempt: int | None
    result: dict[str, Any] | None


@dataclass(frozen=True, slots=True)
class PlanRun:
    """A run of a plan: its definition as TOML text, where and when it started, its moves so far.

    `ended_at` and `end` are empty while it goes on. `found` is what it found, None where that was not kept.
    """

    id: int
    definition: str
    start: dict[str, Any]
    started_at: str
    started_s: float
    moves: tuple[PlanMove, ...]
    ended_at: str = ""
    end: str = ""
    found: tuple[Finding, ...] | None = None
