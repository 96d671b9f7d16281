"""What a tested setting deserves to be called, and how it failed when it did."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum


class Verdict(StrEnum):
    """The six marks of the logbook; each has one word, one shape and one colour everywhere."""

    HELD = "held"
    UNPROVEN = "not yet proven"
    WRONG = "wrong results"
    DOWN = "went down"
    HELD_BACK = "held back"
    REFUSED = "refused"


class Failure(StrEnum):
    """The ways a setting fails, in the order a test meets them."""

    REFUSED = "value refused"
    NOT_IN_FORCE = "value not in force"
    NEVER_STARTED = "never started"
    STOPPED_IN_START = "stopped during start"
    FROZE = "froze"
    RESTARTED = "crashed and restarted"
    PROGRAM_CRASHED = "program crashed"
    PROGRAM_HUNG = "program hung"
    NOT_RUN = "could not be run"
    WRONG_RESULTS = "wrong results"
    ERRORS_CORRECTED = "errors corrected"
    CLOCK_NOT_HELD = "clock not held"
    CEILING = "stopped at a ceiling"
    SCORE_SAGGED = "score sagged"
    SCORE_ROSE = "score rose"
    SENSOR_LOST = "sensor lost"
    START_FAILED = "what it starts from failed"
    STOPPED = "stopped by the tuner"
    INTERRUPTED = "interrupted"
    FAILED = "failed, not told how"


VERDICT_OF_FAILURE: dict[Failure, Verdict] = {
    Failure.REFUSED: Verdict.REFUSED,
    Failure.NOT_IN_FORCE: Verdict.REFUSED,
    Failure.NEVER_STARTED: Verdict.DOWN,
    Failure.STOPPED_IN_START: Verdict.DOWN,
    Failure.FROZE: Verdict.DOWN,
    Failure.RESTARTED: Verdict.DOWN,
    Failure.PROGRAM_CRASHED: Verdict.DOWN,
    Failure.PROGRAM_HUNG: Verdict.DOWN,
    Failure.NOT_RUN: Verdict.UNPROVEN,
    Failure.WRONG_RESULTS: Verdict.WRONG,
    Failure.ERRORS_CORRECTED: Verdict.WRONG,
    Failure.CLOCK_NOT_HELD: Verdict.HELD_BACK,
    Failure.CEILING: Verdict.HELD_BACK,
    Failure.SCORE_SAGGED: Verdict.UNPROVEN,
    Failure.SCORE_ROSE: Verdict.UNPROVEN,
    Failure.SENSOR_LOST: Verdict.UNPROVEN,
    Failure.START_FAILED: Verdict.UNPROVEN,
    Failure.STOPPED: Verdict.UNPROVEN,
    Failure.INTERRUPTED: Verdict.UNPROVEN,
    Failure.FAILED: Verdict.DOWN,
}

SAYS_NOTHING = frozenset(
    {Failure.NOT_RUN, Failure.SENSOR_LOST, Failure.START_FAILED, Failure.STOPPED, Failure.INTERRUPTED}
)
"""Ends of a test that tell nothing about the setting."""

START_FAILURES = frozenset({Failure.NEVER_STARTED, Failure.STOPPED_IN_START})
"""Failures after which the firmware needs a reset, so that its settings are at stock, too."""

TRENDS = frozenset({Failure.SCORE_SAGGED, Failure.SCORE_ROSE})
"""Ends of a test whose figures weren't level over its rounds."""

MACHINE_FAILURES = START_FAILURES | {Failure.FROZE, Failure.RESTARTED}
"""Failures that take the whole machine down and lose live settings."""


@dataclass(frozen=True, slots=True)
class Pointer:
    """The subsystem a failure points to (empty when nothing does), and each sign of that in words."""

    subsystem: str = ""
    signs: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Outcome:
    """The verdict on one attempt: the word, why, at which stage and after how many seconds of that stage's load.

    `last` holds the last reading of each sensor before a failure, `pointer` what the failure points to. `seen` is what showed
    the failure, by ids: the clock `held` of what was `asked` on a `channel`, the errors a channel counted, the `reading` of a
    channel beyond its `most`; words are made of it where they are shown, and never out of the `reason`.
    """

    verdict: Verdict
    reason: str
    failure: Failure | None = None
    stage: str = ""
    time_to_failure_s: float | None = None
    code: str = ""
    last: dict[str, float] = field(default_factory=dict)
    pointer: Pointer = Pointer()
    seen: dict[str, str | float] = field(default_factory=dict)

    @property
    def word(self) -> Verdict | Failure:
        """The word for it: its verdict, but errors that were corrected are no wrong results and are called what they are."""
        return self.failure if self.failure is Failure.ERRORS_CORRECTED else self.verdict
