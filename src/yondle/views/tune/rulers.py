"""Knobs as rulers: what was tried, what is proposed, and the chance to hold."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.knobs import Knob, Risk
from yondle.model.steps import Check
from yondle.model.verdicts import Verdict
from yondle.planning.ladder import loads_of
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class RulerMark:
    """A value tried, with its mark; `strong` when every other knob stood as it stands now."""

    value: float
    verdict: Verdict
    strong: bool
    step: int
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


@dataclass(frozen=True, slots=True)
class RulerView:
    """One knob with its history: where it is, what is proposed, the tuner's own range, and every value tried.

    `derived` are the quantities that stand beside it, name and value, with the proposal on top.
    """

    knob: Knob
    in_force: float
    proposed: float | None
    floor: float | None
    ceiling: float | None
    marks: tuple[RulerMark, ...]
    derived: tuple[tuple[str, str], ...] = ()


Marks = dict[str, tuple[RulerMark, ...]]


def ruler_marks(book: Snapshot) -> Marks:
    """Give the values tried of every knob with their marks: the latest verdict under the present other settings, or elsewhere."""
    now = book.in_force
    marks: dict[str, dict[float, RulerMark]] = {knob.id: {} for knob in book.declaration.knobs}
    for record in book.steps:
        if record.outcome is None:
            continue
        setup = record.step.setup
        differing = [k for k in now if setup.get(k) != now[k]]
        for knob_id, kept in marks.items():
            strong = not differing or differing == [knob_id]
            value = setup.get(knob_id)
            before = kept.get(value) if value is not None else None
            if value is None or (before is not None and before.strong and not strong):
                continue
            kept[value] = RulerMark(value, record.verdict, strong, record.step.number, record.recorded)
    return {knob: tuple(sorted(kept.values(), key=lambda m: m.value)) for knob, kept in marks.items()}


def rulers(book: Snapshot, marks: Marks) -> list[RulerView]:
    """Give one ruler per knob."""
    proposal, declaration = book.proposal, book.declaration
    follows = declaration.derived(book.proposed)
    return [
        RulerView(
            knob,
            book.in_force[knob.id],
            proposal.value(knob.id) if proposal else None,
            declaration.floors.get(knob.id),
            declaration.ceilings.get(knob.id),
            marks[knob.id],
            tuple(
                (d.name, d.text(follows[d.id]))
                for d in declaration.derived_of
                if d.needs[0] == knob.plays and d.id in follows
            ),
        )
        for knob in declaration.knobs
        if knob.id in book.in_force
    ]


@dataclass(frozen=True, slots=True)
class Holding:
    """How a knob would hold a check: the chance at every value, and the values its edge lies between (95 %, worst load)."""

    chances: dict[float, float]
    edge: tuple[float, float]


def holding(book: Snapshot, knob: Knob, check: Check) -> Holding | None:
    """Give the chance to hold the loads of a check at every value of a knob, with all else as it is now.

    Each load has an edge of its own. None until something has failed there: before that nobody knows how far away the
    edge is, and a guess would flatter; for the same reason a load that never failed takes nothing off the chance.
    """
    if knob.risk is Risk.NONE or knob.id not in book.in_force:
        return None
    from yondle.analysis.exposure import ANY_LOAD, runs_of, warmths
    from yondle.analysis.hazards import believed
    from yondle.analysis.hold import Scale

    here = [r for r in book.steps if r.step.setup.same_but(book.in_force, knob.id)]
    runs, scale, values = runs_of(here, knob.id, warmths(book.steps)), Scale(knob), knob.values()
    notches = [scale.notch(v) for v in values]
    chances = [1.0] * len(values)
    edges = []
    for load, seconds in loads_of(check, book.declaration).items():
        own = [run for run in runs if run.load in (load, ANY_LOAD)]
        if any(run.failures for run in own):
            posterior = believed(knob, own)
            chances = [a * b for a, b in zip(chances, posterior.chance(notches, seconds), strict=True)]
            edges.append(posterior.edge_range())
    if not edges:
        return None
    low, high = min(edges, key=sum)
    return Holding(dict(zip(values, chances, strict=True)), (scale.place(low), scale.place(high)))
