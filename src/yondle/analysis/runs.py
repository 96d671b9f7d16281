"""What runs of a load say about values of a knob."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Run:
    """What one run of a load says about a value: seconds it was loaded, how often it failed in them, if it took the machine down.

    A run that failed ends with the failure; only errors that were corrected come more than once: `corrected` of the failures
    are such. `warmth` is how warm the machine was when it began (soak.py).
    """

    load: str
    value: float
    seconds: float
    failures: int = 0
    down: bool = False
    warmth: float = 1.0
    corrected: int = 0
