"""A climb: raise one knob until it fails, give it what it lacked, go on; then ask what the other knobs are worth."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field

from yondle.analysis.runs import Run
from yondle.language.saying import in_sentence, say
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Check
from yondle.model.verdicts import Verdict
from yondle.planning.goals.lessons import Lesson


@dataclass(frozen=True, slots=True)
class Try:
    """Propose and test these knob values; more than one is a joint step."""

    values: dict[str, float]
    why: str
    check: Check | None = None
    """How it is checked; the plan's usual check without one."""
    origin: int | None = None
    """The step it is proposed from, and where the rig goes should it not hold; the one in force without it."""
    of: str = ""
    """The knob whose edge is asked for, where it is part of a search."""


@dataclass(frozen=True, slots=True)
class GoBack:
    """Go back to an earlier step that held."""

    step: int
    why: str


@dataclass(frozen=True, slots=True)
class Again:
    """Test a step once more from where it was tested."""

    step: int
    why: str


@dataclass(frozen=True, slots=True)
class Recall:
    """Tell what every run so far has said about a knob, with all else as it is now but for these; nothing is set.

    Of no knob it tells the lessons of everything that was ever tested.
    """

    knob: str
    others: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Tried:
    """What became of a move: the verdict, the setup in force now, the step it stands for, and the step that was tested.

    `ran` are the runs of loads in it (all there were for a Recall), `took_s` their seconds, and `reached` the value that was
    really there where the machine could not hold the one asked. `room_c` is how warm the room was, in °C (the warmest that
    was told for a Recall), where anybody told. In a climb toward a goal `lessons` are what it taught and `best` the means of what
    it scored, by benchmark; `at_s` is when it ended, seconds on the machine's clock.
    """

    verdict: Verdict
    in_force: Setup
    position: int
    step: int
    ran: tuple[Run, ...] = ()
    took_s: float = 0.0
    reached: float | None = None
    room_c: float | None = None
    lessons: tuple[Lesson, ...] = ()
    best: Mapping[str, float] = field(default_factory=dict)
    at_s: float = 0.0


_DEEPEST_RELIEF = 2

Move = Try | GoBack | Again | Recall
Climb = Generator[Move, Tried, None]


def climb(
    declaration: RigDeclaration,
    start: Tried,
    knob_id: str,
    stride: int,
    relief: dict[Verdict, tuple[str, int]],
    most: int,
) -> Climb:
    """Raise a knob by `stride` notches at a time, at most `most` times; a failure is relieved and the value tried again.

    `relief` names, per verdict, the knob that may help and by how many notches. Ends at a ceiling, or when a value
    fails although it was given what it lacked.
    """
    knob = declaration.knob(knob_id)
    now = start
    for _ in range(most):
        target = knob.at(knob.notch_of(now.in_force[knob_id]) + stride)
        if target == now.in_force[knob_id] or not declaration.allows(knob, target):
            return
        now = yield from _attain(declaration, (knob_id,), target, relief)
        if now.verdict is not Verdict.HELD:
            return


def _attain(
    declaration: RigDeclaration, sought: tuple[str, ...], value: float, relief: dict[Verdict, tuple[str, int]]
) -> Generator[Move, Tried, Tried]:
    """Try a value of the last knob sought; when it fails, attain what relieves that failure first, then try once more.

    The knobs sought before it are those it is to relieve: none of them can relieve itself. Relief that did not help is
    undone; the answer then carries the failure and the setup from before it.
    """
    knob_id = sought[-1]
    tried = yield Try({knob_id: value}, say("tries the next value"))
    if tried.verdict not in relief or len(sought) > _DEEPEST_RELIEF:
        return tried
    help_id, notches = relief[tried.verdict]
    if help_id in sought:
        return tried
    helper = declaration.knob(help_id)
    helped = helper.at(helper.notch_of(tried.in_force[help_id]) + notches)
    if helped == tried.in_force[help_id] or not declaration.allows(helper, helped):
        return tried
    relieved = yield from _attain(declaration, (*sought, help_id), helped, relief)
    if relieved.verdict is not Verdict.HELD:
        return relieved
    again = yield Try({knob_id: value}, say("tries again with what it lacked"))
    if again.verdict is Verdict.HELD:
        return again
    back = yield GoBack(tried.position, say("{helper} did not help", helper=in_sentence(helper.name)))
    return Tried(again.verdict, back.in_force, back.position, again.step)
