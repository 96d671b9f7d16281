"""What holds a benchmark back: said from flags, clocks, use and what it answers to, and never without the evidence."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yondle.language.saying import named, say, together
from yondle.model.quantities import number

FLAGGED_SHARE = 0.05
"""A limit that is reached for a smaller share of the time is not what holds a benchmark back."""
HELD_SHARE = 0.995
"""A clock at this share of the one asked for is held."""
BUSY_PERCENT = 90.0
ANSWERS, DOES_NOT = 0.4, 0.33
"""Slopes (% of score for each +1 %) from which a benchmark is bound by a part, and under which it is not."""
ANSWERS_FOR_SURE = 0.2
"""A slope that may be lower than this says too little to name a part by it."""


class Bound(StrEnum):
    """What may hold a benchmark back."""

    CAP = "its cap"
    LIMIT = "a limit"
    PROCESSOR = "the processor"
    GRAPHICS = "graphics"
    MEMORY = "memory"
    ELSEWHERE = "something else"
    UNTOLD = "not told yet"


@dataclass(frozen=True, slots=True)
class Flag:
    """A limit of the machine: its name, the share of the time it was reached, and the clock then held of the one asked."""

    name: str
    share: float
    clock_share: float | None


@dataclass(frozen=True, slots=True)
class Answer:
    """What a benchmark answers to in one part of the machine: the knob, % for each +1 %, and its 95 % range."""

    part: Bound
    knob: str
    slope: float
    low: float
    high: float

    @property
    def words(self) -> str:
        """Say it."""
        within = say("({low} to {high})", low=number(self.low, 2), high=number(self.high, 2))
        return say(
            "{slope}\u202f% for each +1\u202f% of {knob} {within}",
            slope=number(self.slope, 2),
            knob=self.knob,
            within=within,
        )


@dataclass(frozen=True, slots=True)
class Evidence:
    """All that is known of one benchmark at one setting; use in %, None where no sensor tells.

    `sweeps` names the knob of this rig that tells of a part when it is swept, as it stands in a sentence.
    """

    at_cap: str = ""
    flags: tuple[Flag, ...] = ()
    processor_use: float | None = None
    graphics_use: float | None = None
    answers: tuple[Answer, ...] = ()
    sweeps: tuple[tuple[Bound, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Limitation:
    """What holds a benchmark back, in words, with every sign of it; UNTOLD says what would tell."""

    bound: Bound
    words: str
    signs: tuple[str, ...]


def what_limits(seen: Evidence) -> Limitation:
    """Weigh the evidence: a cap first, then limits that were reached, then parts that are busy or answered to."""
    if seen.at_cap:
        return Limitation(Bound.CAP, say("its cap"), (seen.at_cap,))
    reached = [
        f for f in seen.flags if f.share >= FLAGGED_SHARE and (f.clock_share is None or f.clock_share < HELD_SHARE)
    ]
    if reached:
        return Limitation(Bound.LIMIT, together(f.name for f in reached), tuple(_flag_words(f) for f in reached))
    busy = _use_signs(seen)
    graphics = seen.graphics_use
    strongest = max((a for a in seen.answers if a.low > 0.0), key=lambda a: a.low, default=None)
    answered = strongest is not None and strongest.slope >= ANSWERS and strongest.low >= ANSWERS_FOR_SURE
    if graphics is not None and graphics >= BUSY_PERCENT and not answered:
        return Limitation(Bound.GRAPHICS, named(Bound.GRAPHICS), busy)
    if strongest is not None and answered:
        return Limitation(strongest.part, named(strongest.part), (strongest.words, *busy))
    still = [a for a in seen.answers if a.high < DOES_NOT]
    if any(a.part is Bound.PROCESSOR for a in still) and any(a.part is Bound.MEMORY for a in still):
        return Limitation(Bound.ELSEWHERE, say("neither clock nor memory"), (*(a.words for a in still), *busy))
    if strongest is not None and strongest.part is Bound.MEMORY and any(a.part is Bound.PROCESSOR for a in still):
        return Limitation(Bound.MEMORY, named(Bound.MEMORY), (strongest.words, *(a.words for a in still)))
    known = {a.part for a in seen.answers}
    open_ = [knob for part, knob in seen.sweeps if part not in known]
    if open_:
        wanted = say("sweep {open}", open=together(open_))
    elif seen.answers:
        wanted = say("measure more passes at both ends of what was swept")
    else:
        return Limitation(Bound.UNTOLD, say("can't be told: no clock or rate can be set here"), busy)
    return Limitation(Bound.UNTOLD, say("not told yet: {wanted}", wanted=wanted), busy)


def _flag_words(flag: Flag) -> str:
    held = (
        say(", the clock held {clock_share}\u202f% of what was asked", clock_share=number(100 * flag.clock_share))
        if flag.clock_share
        else ""
    )
    return say("reached {share}\u202f% of the time{held}", share=number(100 * flag.share), held=held)


def _use_signs(seen: Evidence) -> tuple[str, ...]:
    parts = ((say("processor"), seen.processor_use), (say("graphics"), seen.graphics_use))
    return tuple(
        say("{name} {use}\u202f% in use", name=name, use=number(min(max(use, 0.0), 100.0)))
        for name, use in parts
        if use is not None
    )
