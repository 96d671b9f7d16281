"""Runs of plans as the logbook keeps them: what became of each move, and the searches in them, rebuilt from that."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from itertools import pairwise
from typing import Any

from yondle.analysis.exposure import reached_by, runs_of, warmths
from yondle.analysis.runs import Run
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.findings import Finding
from yondle.model.knobs import Setup
from yondle.model.plan_runs import MoveKind, PlanMove, PlanRun
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord
from yondle.model.verdicts import SAYS_NOTHING, Verdict
from yondle.planning.climb import Move, Tried, Try
from yondle.planning.edge_plans import EdgeLine
from yondle.planning.finding import Edge, EdgeSearch
from yondle.planning.goals.lessons import Lesson
from yondle.planning.plan_files import parse_plan
from yondle.views.shared.rooms import room_told
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Stretch:
    """One search within a run of a plan: its part, the searches before it on the same line, and its moves."""

    part: Edge
    search: EdgeSearch
    line: EdgeLine | None
    moves: tuple[PlanMove, ...]


def stretches(book: Snapshot, run: PlanRun) -> Iterator[Stretch]:
    """Give the searches of a run one after the other; each is to be replayed before the next is asked for."""
    parts = [p for p in parse_plan(run.definition, say("the plan"), book.declaration).parts if isinstance(p, Edge)]
    begun = [i for i, move in enumerate(run.moves) if move.move.kind is MoveKind.RECALL]
    spans = [run.moves[first:last] for first, last in pairwise([*begun, len(run.moves)])]
    for part in parts:
        line = EdgeLine(part, book.declaration) if part.along is not None else None
        for value in line.values if line is not None else (0.0,):
            if not spans:
                return
            search = line.begin(value) if line is not None else EdgeSearch(part, book.declaration)
            yield Stretch(part, search, line, tuple(spans.pop(0)))


def replay(book: Snapshot, stretch: Stretch) -> list[Run]:
    """Teach a search what its moves have told, the last one, too, if the program ended over it; gives the runs."""
    part, runs = stretch.part, list[Run]()
    for move in stretch.moves:
        if move.result is None:
            made = attempted(book, move.attempt)
            if made is not None and book.position is not None:
                tried = told_of(book, made, part.knob)
                stretch.search.take(made.step.setup[part.knob], tried)
                runs += [r for r in tried.ran if r.load in part.loads]
            break
        values, tried = move.result["tried"], tried_of(move.result, book.declaration)
        if not values:
            if move.move.kind is MoveKind.RECALL:
                stretch.search.recall(tried)
            if stretch.line is None:
                stretch.search.stand_at(tried.in_force[part.knob])
        elif set(values) == {part.knob, part.along} - {None}:
            stretch.search.take(values[part.knob], tried)
        else:
            break
        runs += [r for r in tried.ran if r.load in part.loads]
    return runs


def findings_of(book: Snapshot, run: PlanRun) -> tuple[Finding, ...]:
    """Give what a run has found so far: an edge for each search in it, and for each value of a line of them.

    Searches that can no longer be read, since the knobs or the format have changed, are left out.
    """
    found = list[Finding]()
    try:
        for stretch in stretches(book, run):
            replay(book, stretch)
            found.append(_finding(book, run, stretch))
    except KnownError:
        pass
    return tuple(found)


def _finding(book: Snapshot, run: PlanRun, stretch: Stretch) -> Finding:
    part, found = stretch.part, stretch.search.found()
    results = [move.result for move in stretch.moves if move.result is not None]
    recommended = {part.knob: found.left_at}
    checked = (r for r in reversed(results) if r["tried"] == recommended and r["verdict"] == str(Verdict.HELD))
    at = next(checked, run.start if run.start["in_force"].get(part.knob) == found.left_at else None)
    along, value = (str(part.along), stretch.line.done[-1][0]) if stretch.line is not None else ("", 0.0)
    return Finding(
        run.id, run.ended_at, part.knob, part.loads, str(part.standard), found.value, found.probability, found.left_at,
        found.sure_there, found.edge, found.runs, found.recalled, found.failures, found.held_back, found.loaded_s,
        at["step"] if at is not None and stretch.line is None else None, along, value, found.room_c, found.warmer_k,
    )  # fmt: skip


def attempted(book: Snapshot, attempt: int | None) -> StepRecord | None:
    """Give the step of an attempt that came to a verdict which says something."""
    for record in book.steps if attempt is not None else ():
        for made in record.attempts:
            told = made.outcome is not None and made.outcome.failure not in SAYS_NOTHING
            if made.id == attempt and told:
                return record
    return None


def told_of(book: Snapshot, record: StepRecord, knob: str) -> Tried:
    """Give what became of a step's latest attempt, with what its runs say about a knob."""
    latest = record.attempts[-1]
    ran = runs_of([replace(record, attempts=(latest,))], knob, warmths(book.steps))
    took_s = sum(p.result.duration_s for p in latest.all_passes if p.result is not None)
    reached = reached_by(book.declaration, latest, knob)
    return replace(
        tried_now(book, record), ran=tuple(ran), took_s=took_s, reached=reached, room_c=room_told(latest.conditions)
    )


def tried_of(kept: dict[str, Any], declaration: RigDeclaration) -> Tried:
    """Read what became of a move from where it is kept, whatever knobs there were then."""
    ran = tuple(Run(**run) for run in kept.get("ran", ()))
    where = declaration.fitted(Setup.of(kept["in_force"]))
    return Tried(
        Verdict(kept["verdict"]),
        where,
        kept["position"],
        kept["step"],
        ran,
        kept.get("took_s", 0.0),
        kept.get("reached"),
        kept.get("room_c"),
        tuple(Lesson.of_values(each) for each in kept.get("lessons", ())),
        kept.get("best", {}),
        kept.get("at_s", 0.0),
    )


def tried_now(book: Snapshot, record: StepRecord) -> Tried:
    """Give what became of a step with where the rig is now; raises KnownError where that is no step."""
    position = book.position
    if position is None:
        raise KnownError(say("The rig is at no step of the trail."), say("Go back to one first."))
    return Tried(record.verdict, book.in_force, position.step.number, record.step.number)


def as_values(tried: Tried, move: Move | None = None) -> dict[str, Any]:
    """Give what became of a move as it is kept; `tried_of` reads it."""
    taught = (
        {"lessons": [lesson.values() for lesson in tried.lessons], "best": dict(tried.best)} if tried.lessons else {}
    )
    return {
        "tried": move.values if isinstance(move, Try) else {},
        "verdict": str(tried.verdict),
        "in_force": dict(tried.in_force),
        "position": tried.position,
        "step": tried.step,
        "ran": [asdict(run) for run in tried.ran],
        "took_s": tried.took_s,
        "reached": tried.reached,
        "room_c": tried.room_c,
        "at_s": tried.at_s,
        **taught,
    }
