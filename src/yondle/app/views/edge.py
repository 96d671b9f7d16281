"""A search for an edge as it stands: what is believed, what was tested, what comes next and why, in figures and words."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.analysis.hold import Run
from yondle.analysis.stability import STANDARD_WORDS, seconds_to_prove
from yondle.app.plan_files import parse_plan
from yondle.app.plans import tried_of
from yondle.app.session import Session
from yondle.logbook.keeping import PlanRun
from yondle.model.knobs import Knob
from yondle.model.quantities import THIN, count, duration, number
from yondle.planning.finding import Edge, EdgeSearch, Found

SURE = 0.99
"""Beyond this a probability is told as more than it: nothing is certain."""


@dataclass(frozen=True, slots=True)
class EdgeView:
    """One search: the chance of every value to meet the standard, the runs made, and what is recommended, with words.

    `chances` are pairs of value and probability, `edge` the 95 % range of the worst load's edge.
    """

    title: str
    knob: Knob
    chances: tuple[tuple[float, float], ...]
    runs: tuple[Run, ...]
    recommended: float
    edge: tuple[float, float]
    verdict: str
    tested: str
    coming: str
    proof: str


def edge_view(session: Session, run: PlanRun) -> EdgeView | None:
    """Rebuild the search a plan's run is in from what is written down; None where it searches nothing (yet)."""
    parts = [p for p in parse_plan(run.definition, "the plan", session.declaration).parts if isinstance(p, Edge)]
    begun = [i for i, move in enumerate(run.moves) if move.words.startswith("recall ")]
    if not parts or not begun:
        return None
    part, first = parts[min(len(begun), len(parts)) - 1], begun[-1]
    search = EdgeSearch(part, session.declaration)
    runs: list[Run] = []
    for move in run.moves[first:]:
        values = move.result["tried"] if move.result is not None else {}
        if move.result is None or (move.number != run.moves[first].number and set(values) != {part.knob}):
            break
        tried = tried_of(move.result)
        if values:
            search.take(values[part.knob], tried)
        else:
            search.learn(tried.ran)
            search.stand_at(tried.in_force[part.knob])
        runs += [r for r in tried.ran if r.load in part.loads]
    return _view_of(session, part, search, tuple(runs))


def _view_of(session: Session, part: Edge, search: EdgeSearch, runs: tuple[Run, ...]) -> EdgeView:
    knob, found = search.knob, search.found()
    coming = f"Next: {search.why(found.next, session.declaration)}." if found.next is not None else ""
    words, title = found_words(session, part, knob, found), f"The edge of {knob.name.lower()} is found"
    if search.held_back_from is not None:
        words += f" Nothing from {knob.text(search.held_back_from)} on: the machine was held back there."
        title = f"Held back before the edge of {knob.name.lower()}"
    return EdgeView(
        title,
        knob,
        found.chances,
        runs,
        found.value,
        found.edge,
        words,
        _tested_words(found),
        coming,
        _proof_words(part),
    )


def found_words(session: Session, part: Edge, knob: Knob, found: Found) -> str:
    """Say what is recommended and how sure that is."""
    loads = " and ".join(session.declaration.workload(load).name for load in part.loads)
    sure, safer = (percent(p) for p in (found.probability, found.a_notch_safer))
    words = (
        f"{knob.text(found.value)}: expected to fail {STANDARD_WORDS[part.standard]} of {loads}"
        f" with {sure} probability, estimated under the model."
    )
    return f"{words} One notch of room: {safer}." if sure != safer else words


def percent(probability: float) -> str:
    """Write a probability."""
    return f"more than {number(100 * SURE)}{THIN}%" if probability > SURE else f"{number(100 * probability)}{THIN}%"


def _tested_words(found: Found) -> str:
    words = f"{count(found.tests, 'test')}, {duration(found.loaded_s)} under load"
    return f"{words}, {count(found.failures, 'failure')}." if found.failures else f"{words}, none failed."


def _proof_words(part: Edge) -> str:
    """Say what it would take to prove the standard by passing alone, without any model."""
    alone = duration(seconds_to_prove(part.standard))
    return (
        f"To prove {part.standard} by passing alone, without a model, it would have to run {alone} without a failure."
    )
