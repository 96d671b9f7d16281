"""What a search for an edge has found, as the record keeps it when the plan ends."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Finding:
    """The value of a knob that a search recommends, how sure that is, and what it rests on.

    `standard` is the word of how rarely it may fail under the `loads`, `probability` that it does not fail more often,
    estimated under the model (docs/numbers.md). `edge` are the values between which the edge lies with 95 % probability.
    `left_at` is the value with the room asked for and `sure_there` its probability. Of the `runs`, `recalled` were made
    before the search began. `along` and `at` are the other knob and its value where edges were searched over one. `step` is
    the one the rig was left at with the value recommended; None where it is elsewhere. `plan` is the run it comes from, which
    ended `at_time` (ISO 8601). It holds for a room of `room_c`, °C, `warmer_k` warmer than in the tests; None where nobody told.
    """

    plan: int
    at_time: str
    knob: str
    loads: tuple[str, ...]
    standard: str
    value: float
    probability: float
    left_at: float
    sure_there: float
    edge: tuple[float, float]
    runs: int
    recalled: int
    failures: int
    held_back: int
    loaded_s: float
    step: int | None = None
    along: str = ""
    at: float = 0.0
    room_c: float | None = None
    warmer_k: float = 0.0
