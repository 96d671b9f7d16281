"""A search for an edge as it stands: what is believed, what was tested, what comes next and why, in figures and words."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.analysis.runs import Run
from yondle.analysis.stability import HOUR_S, STANDARD_WORDS, seconds_to_prove
from yondle.language.saying import in_sentence, named, say, together
from yondle.model.knobs import Knob
from yondle.model.plan_runs import PlanRun
from yondle.model.quantities import chance, count, duration
from yondle.planning.edge_plans import EdgeLine
from yondle.planning.finding import Edge, Found
from yondle.views.edge.runs import Stretch, replay, stretches
from yondle.views.shared.proof import rests_on, room_words
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class LinePoint:
    """One edge of a line: the value of the second knob, what is recommended there, how sure, and the edge's 95 % range."""

    at: float
    recommended: float
    probability: float
    edge: tuple[float, float]


@dataclass(frozen=True, slots=True)
class EdgeView:
    """One search: the chance of every value to meet the standard, the runs made, and what is recommended, with words.

    `load` is the only load of the search, empty with several, `chances` are pairs of value and probability, `edge` the
    95 % range of the worst load's edge. A line of edges over the
    knob `along` has a point for every value searched so far, in the order of the values.
    """

    title: str
    searching: str
    knob: Knob
    load: str
    chances: tuple[tuple[float, float], ...]
    runs: tuple[Run, ...]
    recommended: float
    edge: tuple[float, float]
    verdict: str
    tested: str
    coming: str
    proof: str
    along: Knob | None = None
    line: tuple[LinePoint, ...] = ()

    @property
    def line_words(self) -> tuple[str, ...]:
        """Say what is recommended at each value of the second knob; nothing where there is none."""
        if self.along is None:
            return ()
        return tuple(
            f"{self.along.text(p.at)}: {self.knob.text(p.recommended)}, {chance(p.probability)}" for p in self.line
        )


def edge_view(book: Snapshot, run: PlanRun) -> EdgeView | None:
    """Rebuild the search a plan's run is in from what is written down; None where it searches nothing (yet)."""
    stretch, runs = None, list[Run]()
    for stretch in stretches(book, run):
        runs = replay(book, stretch)
    return _view_of(book, stretch, tuple(runs)) if stretch is not None else None


def _view_of(book: Snapshot, stretch: Stretch, runs: tuple[Run, ...]) -> EdgeView:
    part, search = stretch.part, stretch.search
    knob, found = search.knob, search.found()
    coming = _coming_words(book, stretch)
    words, title = (
        found_words(book, part, knob, found),
        say("The edge of {knob} is found", knob=in_sentence(knob.name)),
    )
    searching = say("Finding the edge of {knob}", knob=in_sentence(knob.name))
    if search.held_back_from is not None:
        words += say(
            " Nothing from {held_back_from} on: the machine was held back there.",
            held_back_from=knob.text(search.held_back_from),
        )
        title = say("Held back before the edge of {knob}", knob=in_sentence(knob.name))
    if found.contradicted_from is not None:
        words += say(
            " {contradicted_from} failed although more than that held: something else has changed, so nothing "
            "from there on is recommended.",
            contradicted_from=knob.text(found.contradicted_from),
        )
    line: tuple[LinePoint, ...] = ()
    along = None
    if stretch.line is not None:
        along = book.declaration.knob(str(part.along))
        line = _line_points(stretch.line)
        at = along.text(stretch.line.done[-1][0])
        title = say(
            "{edges} of {knob}, over {along}",
            edges=count(len(line), "edge"),
            knob=in_sentence(knob.name),
            along=in_sentence(along.name),
        )
        searching += say(" at {at} ({line} of {values})", at=at, line=len(line), values=len(stretch.line.values))
        words = say(
            "Each value is expected to fail {standard_words} of {loads} with the probability beside it, "
            "estimated under the model.",
            standard_words=named(STANDARD_WORDS[part.standard]),
            loads=_loads_words(book, part),
        )
    searched = [found] if stretch.line is None else [s.found() for _, s in stretch.line.done]
    return EdgeView(
        title,
        searching,
        knob,
        part.loads[0] if len(part.loads) == 1 else "",
        found.chances,
        runs,
        found.left_at,
        found.edge,
        words,
        " ".join([*([] if along else _holds_for(knob, found)), _tested_words(searched)]),
        coming,
        _proof_words(part),
        along,
        line,
    )


def _line_points(line: EdgeLine) -> tuple[LinePoint, ...]:
    found = ((value, search.found()) for value, search in sorted(line.done, key=lambda pair: pair[0]))
    return tuple(LinePoint(value, f.value, f.probability, f.edge) for value, f in found)


def found_words(book: Snapshot, part: Edge, knob: Knob, found: Found) -> str:
    """Say what is recommended and how sure that is."""
    loads = _loads_words(book, part)
    sure, safer, there = (chance(p) for p in (found.probability, found.a_notch_safer, found.sure_there))
    words = say(
        "{found}: expected to fail {standard_words} of {loads} with {sure} probability, estimated under the model.",
        found=knob.text(found.value),
        standard_words=named(STANDARD_WORDS[part.standard]),
        loads=loads,
        sure=sure,
    )
    if found.left_at != found.value:
        room = count(part.room, "notch", "notches")
        return say(
            "{words} With {room} of room, {left_at}: {there}.",
            words=words,
            room=room,
            left_at=knob.text(found.left_at),
            there=there,
        )
    return say("{words} One notch of room: {safer}.", words=words, safer=safer) if sure != safer else words


def _holds_for(knob: Knob, found: Found) -> list[str]:
    """Say where errors begin to be corrected, and how warm a room all of it holds for."""
    words = [room_words(found.room_c, found.warmer_k)]
    if found.corrected is not None:
        low, high = (knob.text(end) for end in found.corrected)
        words.insert(
            0, say("Errors are corrected once an hour between {low} and {high} (95\u202f%).", low=low, high=high)
        )
    return [each for each in words if each]


def _loads_words(book: Snapshot, part: Edge) -> str:
    return together(book.declaration.workload(load).name for load in part.loads)


def _coming_words(book: Snapshot, stretch: Stretch) -> str:
    """Say which test comes next, why, and how long the search will take from here; nothing where it is at its end."""
    search, hours = stretch.search, stretch.part.hours
    test = search.next_test()
    if test is None:
        return ""
    left_s = search.seconds_left()
    if hours is not None and stretch.line is None:
        spent_s = sum(float(m.result["took_s"]) for m in stretch.moves if m.result is not None)
        left_s = min(left_s, max(hours * HOUR_S - spent_s, test.seconds))
    here = say(" at this value") if stretch.line is not None else ""
    left = duration(max(round(left_s / 60.0), 1) * 60)
    return say("Next: {why}. About {left} to go{here}.", why=search.why(test, book.declaration), left=left, here=here)


def _tested_words(found: list[Found]) -> str:
    """Say what a search rests on: its runs, how long they lasted, how they ended, and what was known before."""
    runs, known = sum(f.runs for f in found), sum(f.recalled for f in found)
    failures, held_back = sum(f.failures for f in found), sum(f.held_back for f in found)
    return rests_on(runs, known, failures, held_back, sum(f.loaded_s for f in found))


def _proof_words(part: Edge) -> str:
    """Say what it would take to prove the standard by passing alone, without any model."""
    alone = duration(seconds_to_prove(part.standard))
    return say(
        "To prove {standard} by passing alone, without a model, it would have to run {alone} without a failure.",
        standard=part.standard,
        alone=alone,
    )
