"""What a report can consist of."""

from __future__ import annotations

from enum import StrEnum


class Part(StrEnum):
    """The sections a report can have, in their usual order."""

    QUESTION = "question"
    MACHINE = "machine"
    PATH = "path"
    BASELINE = "baseline"
    SCALING = "scaling"
    GAINS = "gains"
    PROOF = "proof"
    ADDED = "from elsewhere"
    NOISE = "within noise"
    FAILURES = "failures"
    LIMITS = "limits"
    PROFILES = "profiles"
    CAVEATS = "caveats"
    AGAIN = "again"
