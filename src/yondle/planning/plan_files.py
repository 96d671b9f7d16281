"""Plans as TOML files: what may stand in one, and how one is written; docs/plan-file.md documents the format."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field

from yondle.analysis.stability import Standard
from yondle.formats.knob_table import Positive, Real, StrictTable
from yondle.formats.toml_files import read_text, validated
from yondle.language.saying import in_sentence, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Risk
from yondle.model.quantities import THIN
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.planning.edge_plans import Proof
from yondle.planning.edge_search import Style
from yondle.planning.finding import Edge
from yondle.planning.goals.climbing import goal_name
from yondle.planning.goals.goal import Goal, Kind, checked_goal
from yondle.planning.ladder import STEP_PASSES
from yondle.planning.plans import Ladder, Part, Plan, Steps, StopRules, Sweep, SweepOrder

FORMAT = "yondle-plan 1"
DOCUMENT = "docs/plan-file.md"
MOST_ROOM, MOST_ALONG = 20, 40
_Value = Real | Annotated[str, Field(max_length=200)]
"""Of a step; whether the knob takes it is checked against the knob."""


class _Stop(StrictTable):
    failures: Annotated[int, Field(ge=1, le=1000)] | None = None
    hours: Annotated[Positive, Field(le=1000)] | None = None
    verdicts: tuple[Verdict, ...] = ()


class _Sweep(StrictTable):
    kind: Literal["sweep"]
    knob: str
    from_: Annotated[_Value, Field(alias="from")]
    to: _Value
    by: Positive | None = None
    order: SweepOrder = SweepOrder.UP
    seed: Annotated[int, Field(ge=0, lt=1 << 63)] = 1
    rounds: Annotated[int, Field(ge=0, le=200)] = 0


class _Relief(StrictTable):
    knob: str
    by: Real


class _Ladder(StrictTable):
    kind: Literal["ladder"]
    knob: str
    to: _Value
    by: Real | None = None
    relief: dict[Verdict, _Relief] = Field(default_factory=dict)


class _Steps(StrictTable):
    kind: Literal["steps"]
    steps: Annotated[tuple[dict[str, _Value], ...], Field(min_length=1, max_length=500)]


class _Edge(StrictTable):
    kind: Literal["edge"]
    knob: str
    loads: Annotated[tuple[str, ...], Field(min_length=1, max_length=10)]
    standard: Standard = Standard.DAILY
    style: Style = Style.EVEN
    to: _Value | None = None
    hours: Annotated[Positive, Field(le=1000)] | None = None
    room: Annotated[int, Field(ge=0, le=MOST_ROOM)] = 0
    along: str | None = None
    at: Annotated[tuple[_Value, ...], Field(max_length=MOST_ALONG)] = ()


class _Proof(StrictTable):
    kind: Literal["proof"]
    loads: Annotated[tuple[str, ...], Field(min_length=1, max_length=10)]
    hours: Annotated[Positive, Field(le=1000)]


class _Goal(StrictTable):
    kind: Literal["goal"]
    goal: Kind
    benchmarks: Annotated[dict[str, Positive], Field(min_length=1, max_length=40)]
    loads: Annotated[tuple[str, ...], Field(max_length=10)] = ()
    standard: Standard = Standard.DAILY
    style: Style = Style.EVEN
    hours: Annotated[Positive, Field(le=1000)] = 8.0
    loss: Annotated[float, Field(ge=0.0, le=50.0)] = 2.0
    target: Positive | None = None
    knobs: Annotated[tuple[str, ...], Field(max_length=100)] = ()
    restarts: bool = False
    hands: bool = False


class _Plan(StrictTable):
    format: Literal["yondle-plan 1"]
    name: Annotated[str, Field(min_length=1, max_length=80)]
    passes: Annotated[int, Field(ge=2, le=200)] = 5
    once_more: Annotated[int, Field(ge=0, le=5)] = 0
    turns: bool = True
    stop: _Stop = _Stop()
    do: Annotated[
        tuple[Annotated[_Sweep | _Ladder | _Steps | _Edge | _Proof | _Goal, Field(discriminator="kind")], ...],
        Field(min_length=1, max_length=100),
    ]


def read_plan(path: Path, declaration: RigDeclaration) -> tuple[Plan, str]:
    """Read a plan file for a rig; gives the plan and its text. Raises KnownError that says what is wrong and where."""
    text = read_text(path, DOCUMENT)
    return parse_plan(text, str(path), declaration), text


def parse_plan(text: str, source: str, declaration: RigDeclaration) -> Plan:
    """Read a plan from TOML text; raises KnownError naming what is wrong."""
    table = validated(_Plan, text, source, say("is no plan"), DOCUMENT)
    parts = tuple(_part(part, declaration) for part in table.do)
    stop = StopRules(table.stop.failures, table.stop.hours, table.stop.verdicts)
    return Plan(table.name, parts, table.passes, table.once_more, stop, table.turns)


def sweep_text(
    declaration: RigDeclaration, knob_id: str, low: float, high: float, by: float, passes: int, order: SweepOrder | None
) -> str:
    """Write a plan that sweeps one knob; without an order it is measured in as many rounds as there are passes."""
    knob = declaration.settable(knob_id)
    how = {"order": str(order)} if order is not None else {"rounds": passes}
    part = {"kind": "sweep", "knob": knob_id, "from": low, "to": high, "by": by, **how}
    return _plan_text(
        say("{knob} from {low} to {high}", knob=knob.name, low=knob.bare(low), high=knob.text(high)), passes, part
    )


def ladder_text(declaration: RigDeclaration, knob_id: str, to: float, by: float, passes: int) -> str:
    """Write a plan that climbs one knob until it fails; `by` below 0 climbs down."""
    knob = declaration.settable(knob_id)
    part = {"kind": "ladder", "knob": knob_id, "to": to, "by": by}
    return _plan_text(say("{knob} until it fails, to {to}", knob=knob.name, to=knob.text(to)), passes, part)


def edge_text(declaration: RigDeclaration, part: Edge, passes: int) -> str:
    """Write a plan that searches the edge of one knob."""
    knob = declaration.settable(part.knob)
    table: dict[str, Any] = {"kind": "edge", "knob": knob.id, "loads": list(part.loads)}
    table |= {"standard": str(part.standard), "style": str(part.style)}
    table |= {name: value for name, value in (("to", part.to), ("hours", part.hours)) if value is not None}
    name = say("The edge of {knob}, {standard}", knob=in_sentence(knob.name), standard=part.standard)
    if part.room:
        table["room"] = part.room
    if part.along is not None:
        table |= {"along": part.along, "at": list(part.at)}
        name += say(", over {knob}", knob=in_sentence(declaration.settable(part.along).name))
    return _plan_text(name, passes, table)


def goal_text(declaration: RigDeclaration, goal: Goal) -> str:
    """Write a plan that climbs toward a goal."""
    table: dict[str, Any] = {
        "kind": "goal", "goal": str(goal.kind), "benchmarks": dict(goal.benchmarks), "loads": list(goal.loads),
        "standard": str(goal.standard), "style": str(goal.style), "hours": goal.hours,
    }  # fmt: skip
    if goal.kind in (Kind.QUIET, Kind.COOL):
        table["loss"] = 100.0 * goal.loss
    if goal.target is not None:
        table["target"] = goal.target
    if goal.knobs:
        table["knobs"] = list(goal.knobs)
    table |= {name: True for name, given in (("restarts", goal.restarts), ("hands", goal.hands)) if given}
    return _plan_text(goal_name(goal, declaration)[:80], STEP_PASSES, table)


def _plan_text(name: str, passes: int, part: dict[str, Any]) -> str:
    import tomlkit

    name = name.replace(THIN, " ")
    return tomlkit.dumps({"format": FORMAT, "name": name, "passes": passes, "do": [part]})


def _part(part: _Sweep | _Ladder | _Steps | _Edge | _Proof | _Goal, declaration: RigDeclaration) -> Part:
    match part:
        case _Sweep():
            low, high = _value(declaration, part.knob, part.from_), _value(declaration, part.knob, part.to)
            by = part.by if part.by is not None else declaration.settable(part.knob).step
            _must_be_on_grid(declaration, part.knob, by)
            return Sweep(_id(declaration, part.knob), low, high, by, part.order, part.seed, part.rounds)
        case _Ladder():
            by = part.by if part.by is not None else declaration.settable(part.knob).step
            _must_be_on_grid(declaration, part.knob, by)
            for relief in part.relief.values():
                _must_be_on_grid(declaration, relief.knob, relief.by)
            helps = tuple(
                (verdict, _id(declaration, relief.knob), relief.by) for verdict, relief in part.relief.items()
            )
            return Ladder(_id(declaration, part.knob), _value(declaration, part.knob, part.to), by, helps)
        case _Proof():
            return Proof(_loads(declaration, part.loads), part.hours)
        case _Goal():
            loads = _loads(declaration, part.loads or ((declaration.hard_load,) if declaration.hard_load else ()))
            goal = Goal(
                part.goal, tuple((declaration.workload(name).id, w) for name, w in part.benchmarks.items()), loads, part.standard,
                part.style, part.hours, part.loss / 100.0, part.target, tuple(_id(declaration, k) for k in part.knobs),
                part.restarts, part.hands,
            )  # fmt: skip
            return checked_goal(goal, declaration)
        case _Edge():
            loads = _loads(declaration, part.loads)
            _must_have_an_edge(declaration, part.knob)
            to = _value(declaration, part.knob, part.to) if part.to is not None else None
            at = _along(declaration, part)
            along = _id(declaration, part.along) if part.along is not None else None
            knob = _id(declaration, part.knob)
            return Edge(knob, loads, part.standard, part.style, to, part.hours, part.room, along, at)
        case _Steps():
            return Steps(
                tuple(
                    tuple((_id(declaration, knob), _value(declaration, knob, v)) for knob, v in step.items())
                    for step in part.steps
                )
            )


def _value(declaration: RigDeclaration, knob_id: str, given: _Value) -> float:
    knob = declaration.settable(knob_id)
    return knob.checked(knob.parsed(given) if isinstance(given, str) else given)


def _along(declaration: RigDeclaration, part: _Edge) -> tuple[float, ...]:
    """Give the values of the second knob of a line of edges, none where there is no second knob."""
    if part.along is None and not part.at:
        return ()
    same = part.along is not None and _id(declaration, part.along) == _id(declaration, part.knob)
    if part.along is None or same or len(set(part.at)) < 2:
        raise KnownError(
            say("A line of edges of {knob} needs another knob and at least two of its values.", knob=part.knob),
            say('Give along = "the other knob" and at = [its values].'),
        )
    if part.room:
        raise KnownError(
            say("A line of edges leaves the rig where it began, so no room is kept."),
            say("Take away room, or along and at."),
        )
    return tuple(dict.fromkeys(_value(declaration, part.along, value) for value in part.at))


def _id(declaration: RigDeclaration, knob: str) -> str:
    """Give the id of a knob that is called by its id or its name."""
    return declaration.settable(knob).id


def _loads(declaration: RigDeclaration, wanted: tuple[str, ...]) -> tuple[str, ...]:
    """Give the ids of workloads that are called by their ids or names, each once."""
    loads = [declaration.workload(load) for load in wanted]
    for load in loads:
        if load.by_hand:
            raise KnownError(
                say("{load} is measured elsewhere and can't be run.", load=load.id), say("Name a workload Yondle runs.")
            )
    return tuple(dict.fromkeys(load.id for load in loads))


def _must_have_an_edge(declaration: RigDeclaration, knob_id: str) -> None:
    knob = declaration.settable(knob_id)
    if knob.risk is Risk.NONE:
        risky = ", ".join(k.id for k in declaration.knobs if k.risk is not Risk.NONE) or say("none here")
        raise KnownError(
            say("{knob} has no risky end, so it has no edge.", knob=knob.name),
            say("Search one of: {risky}.", risky=risky),
        )


def _must_be_on_grid(declaration: RigDeclaration, knob_id: str, by: float) -> None:
    knob = declaration.settable(knob_id)
    notches = abs(by) / knob.step
    if notches < 1 - 1e-6 or abs(notches - round(notches)) > 1e-6:
        raise KnownError(
            say("{knob} can't go by {by:g}.", knob=knob.name, by=by),
            say("Give a multiple of its step of {step:g} {unit}.", step=knob.step, unit=knob.unit).rstrip(),
        )
