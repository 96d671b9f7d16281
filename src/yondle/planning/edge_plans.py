"""The moves of a search for an edge, of a line of edges over a second knob, and of a proof."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass

from yondle.analysis.edges import expected
from yondle.analysis.hazards import BelievedHazards
from yondle.analysis.hold import Believed, Scale
from yondle.analysis.runs import Run
from yondle.analysis.stability import HOUR_S, STANDARD_WORDS
from yondle.language.saying import named, say
from yondle.model.knobs import Knob
from yondle.model.quantities import chance, count, duration
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import FOR_EDGE, Check, Stage, StageKind
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Climb, GoBack, Move, Recall, Tried, Try
from yondle.planning.finding import Edge, EdgeSearch, lasting_s

LONGEST_PROOF_S = 3600.0
TYPICAL_WIDTH_NOTCHES = 0.6
LEAST_RUN_IN_S = 60.0
MOST_RECOMMENDED = 6
"""A recommended setting that fails its check lowers the next recommendation; so often at most."""
_MOST_REFUSED = 2
"""After so many refusals at one value of the second knob it is that value which isn't taken."""


@dataclass(frozen=True, slots=True)
class Proof:
    """Load what is in force for so many hours, each load for its share, an hour at a time at most."""

    loads: tuple[str, ...]
    hours: float


class EdgeLine:
    """Searches of one knob's edge at several values of a second knob, each told what those before it have found."""

    def __init__(self, part: Edge, declaration: RigDeclaration) -> None:
        if part.along is None:
            raise ValueError(say("a line of edges needs a second knob"))
        self.part, self._declaration = part, declaration
        along = declaration.knob(part.along)
        self.values = _from_the_ends([v for v in sorted(set(part.at)) if declaration.allows(along, v)])
        self.done: list[tuple[float, EdgeSearch]] = []

    def begin(self, value: float) -> EdgeSearch:
        """Begin the search at a value of the second knob."""
        search = EdgeSearch(self.part, self._declaration)
        before = search.believed()
        if self.done:
            place, notches = self._place(value), search.notches
            search.expect({load: self._expected(load, place, notches, before[load].fatal) for load in before})
        self.done.append((value, search))
        return search

    def _expected(self, load: str, place: float, notches: int, before: Believed) -> BelievedHazards:
        found = [(self._place(value), search.believed()[load]) for value, search in self.done]
        corrected = [(at, there.corrected) for at, there in found if there.corrected is not None]
        return BelievedHazards(
            expected([(at, there.fatal) for at, there in found], place, notches, before),
            expected(corrected, place, notches, before) if corrected else None,
        )

    def _place(self, value: float) -> float:
        low, high = min(self.values), max(self.values)
        return 2.0 * (value - low) / (high - low) - 1.0 if high > low else 0.0


def _from_the_ends(values: list[float]) -> list[float]:
    """Order values so that each lies between two that came before it: both ends, then the middle of what is open."""
    if len(values) < 3:
        return values
    order, open_ = [0, len(values) - 1], [(0, len(values) - 1)]
    while open_:
        low, high = open_.pop(0)
        middle = (low + high) // 2
        if middle > low:
            order.append(middle)
            open_ += [(low, middle), (middle, high)]
    return [values[i] for i in order]


def find_edge(part: Edge, declaration: RigDeclaration, start: Tried) -> Climb:
    """Search, then leave the rig at what is recommended, checked like any other step; a line ends where it began."""
    if part.along is not None:
        yield from _find_line(part, declaration, start)
        return
    search = EdgeSearch(part, declaration)
    spent_s = yield from _narrow(search, declaration, start, {}, part.hours)
    failed = set[float]()
    for _ in range(MOST_RECOMMENDED):
        found = search.found()
        if found.left_at == start.in_force[part.knob] or found.left_at in failed:
            break
        why = say(
            "recommended: {standard_words} with {sure_there} probability",
            standard_words=named(STANDARD_WORDS[part.standard]),
            sure_there=chance(found.sure_there),
        )
        if found.left_at != found.value:
            why += say(", {notches} of room kept", notches=count(part.room, "notch", "notches"))
        tried = yield Try({part.knob: found.left_at}, why, None, start.position)
        search.take(found.left_at, tried)
        if tried.verdict is Verdict.HELD:
            spent_s, held = yield from _run_in(search, declaration, found.left_at, start, spent_s)
            if held:
                return
        failed.add(found.left_at)
    yield GoBack(start.position, say("nothing better is recommended"))


def _run_in(
    search: EdgeSearch, declaration: RigDeclaration, value: float, start: Tried, spent_s: float
) -> Generator[Move, Tried, tuple[float, bool]]:
    """Load what is recommended for its share of what its standard asks, where it has not run that long, within the hours.

    Most have: their tests lay around them. Gives the seconds under load by then, and whether it held.
    """
    part, held = search.part, True
    for load in part.loads:
        left_s = search.unproven_s(load, value)
        if not held or left_s < LEAST_RUN_IN_S or (part.hours is not None and spent_s + left_s > part.hours * HOUR_S):
            continue
        why = say(
            "{seconds} of {load} at what is recommended: it has run too little of it for {standard}",
            seconds=duration(left_s),
            load=declaration.workload(load).name,
            standard=part.standard,
        )
        tried = yield Try({part.knob: value}, why, load_check(declaration, load, left_s), start.position)
        spent_s += tried.took_s
        search.take(value, tried)
        held = tried.verdict is Verdict.HELD
    return spent_s, held


def _find_line(part: Edge, declaration: RigDeclaration, start: Tried) -> Climb:
    line = EdgeLine(part, declaration)
    hours = part.hours
    for value in line.values:
        if hours is not None and hours <= 0.0:
            break
        spent_s = yield from _narrow(line.begin(value), declaration, start, {str(part.along): value}, hours)
        hours = hours - spent_s / HOUR_S if hours is not None else None
    yield GoBack(start.position, say("every edge was searched from the same place"))


def _narrow(
    search: EdgeSearch, declaration: RigDeclaration, start: Tried, others: dict[str, float], hours: float | None
) -> Generator[Move, Tried, float]:
    """Test until no test is worth its price, with these values of other knobs; gives the seconds under load."""
    knob, spent_s, refused = search.knob.id, 0.0, 0
    known = yield Recall(knob, others)
    search.recall(known)
    if not others:
        search.stand_at(start.in_force[knob])
    while (test := search.next_test()) is not None and refused < _MOST_REFUSED:
        if hours is not None and spent_s >= hours * HOUR_S:
            break
        value = search.value_of(test.notch)
        check = load_check(declaration, search.load_of(test), test.seconds)
        tried = yield Try({knob: value, **others}, search.why(test, declaration), check, start.position, knob)
        spent_s += tried.took_s
        refused += bool(others) and tried.verdict is Verdict.REFUSED
        search.take(value, tried)
    return spent_s


def typical_run(knob: Knob, start: float, test: Try) -> Run:
    """Give how a test would end on a middling machine: its edge halfway from a start to the risky end. For dry runs."""
    scale = Scale(knob)
    edge = (scale.notch(start) + scale.notches) / 2.0
    stage = test.check.stages[0] if test.check is not None else None
    load, seconds = (stage.workloads[0], stage.pass_s or 0.0) if stage is not None else ("", 0.0)
    value = test.values[knob.id]
    lasts = lasting_s(scale.notch(value), edge, TYPICAL_WIDTH_NOTCHES)
    return Run(load, value, min(lasts, seconds), int(lasts < seconds), lasts < seconds)


def load_check(declaration: RigDeclaration, load: str, seconds: float, times: int = 1) -> Check:
    """Make a check that is one load, once or several times, and no more."""
    stage = Stage(f"{FOR_EDGE}{load}", StageKind.LOAD, (load,), times, 0, seconds)
    return Check((stage,), declaration.settle_channel, declaration.settle_below)


def prove(part: Proof, declaration: RigDeclaration, start: Tried, undone: list[str]) -> Climb:
    """Load what is in force; a failure ends it, and the loads still to come are left out."""
    share_s = part.hours * HOUR_S / len(part.loads)
    times = max(1, math.ceil(share_s / LONGEST_PROOF_S))
    for i, load in enumerate(part.loads):
        check = load_check(declaration, load, share_s / times, times)
        tried = yield Try(
            {},
            say("proof: {share_s} of {workload}", share_s=duration(share_s), workload=declaration.workload(load).name),
            check,
            start.position,
        )
        if tried.verdict is not Verdict.HELD:
            undone += (
                say("{hours} of {load}, after a failure", hours=duration(share_s), load=declaration.workload(each).name)
                for each in part.loads[i + 1 :]
            )
            return
