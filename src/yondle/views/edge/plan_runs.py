"""Every run of a plan that a logbook keeps, in words: when, how it ended, what it tested, and what it found."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from yondle.formats.toml_files import tables
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.findings import Finding
from yondle.model.plan_runs import PlanRun
from yondle.model.quantities import count, duration, moment
from yondle.model.steps import Attempt
from yondle.model.verdicts import Failure, Verdict
from yondle.views.edge.runs import findings_of
from yondle.views.shared.proof import finding_words, rests_on
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class PlanView:
    """One run: its number, the plan's name, when it began and ended (ISO 8601; empty while it goes on), its end in words.

    `tests` were made in it, `loaded_s` seconds were under load; `title` and `lines` say all of it.
    """

    id: int
    name: str
    started_at: str
    ended_at: str
    end: str
    moves: int
    tests: int
    loaded_s: float
    found: tuple[Finding, ...]
    title: str
    lines: tuple[str, ...]


def plan_views(book: Snapshot, runs: Sequence[PlanRun]) -> list[PlanView]:
    """List the runs of plans, latest first."""
    return [_view(book, run) for run in runs]


def _view(book: Snapshot, run: PlanRun) -> PlanView:
    ids = {move.attempt for move in run.moves}
    made = [a for record in book.steps for a in record.attempts if a.id in ids and a.tested]
    loaded_s = sum(p.result.duration_s for a in made for p in a.all_passes if p.result is not None)
    found = run.found if run.found is not None else findings_of(book, run)
    end = _end_words(run)
    title = say("{when}  {name}: {end}.", when=moment(datetime.fromisoformat(run.started_at)), name=_name(run), end=end)
    lines = [_tests_words(made, loaded_s)] if made else []
    for each in found:
        lines.append(finding_words(book, each))
        lines.append(rests_on(each.runs, each.recalled, each.failures, each.held_back, each.loaded_s))
    return PlanView(
        run.id, _name(run), run.started_at, run.ended_at, end if run.ended_at else "", len(run.moves), len(made), loaded_s,
        found, title,
        tuple(lines),
    )  # fmt: skip


def _end_words(run: PlanRun) -> str:
    if not run.ended_at:
        return say("not finished")
    if run.ended is None:
        return run.reason
    return say("{ended}: {reason}", ended=run.ended, reason=run.reason) if run.reason else named(run.ended)


def _tests_words(made: list[Attempt], loaded_s: float) -> str:
    ends = Counter(a.outcome.word for a in made if a.outcome is not None)
    told = ", ".join(f"{ends[word]} {named(word)}" for word in (*Verdict, Failure.ERRORS_CORRECTED) if ends[word])
    return say(
        "{tests}, {loaded} under load: {told}.", tests=count(len(made), "test"), loaded=duration(loaded_s), told=told
    )


def _name(run: PlanRun) -> str:
    try:
        return str(tables(run.definition, say("the plan")).get("name") or say("a plan"))
    except KnownError:
        return say("a plan")
