"""Where along a knob something failed."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.verdicts import Verdict


@dataclass(frozen=True, slots=True)
class ChartFailure:
    """A value at which the machine failed without a figure."""

    value: float
    verdict: Verdict
    strong: bool
    step: int
    words: str
