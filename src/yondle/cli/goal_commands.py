"""`yondle next` and `yondle climb`: what is worth trying toward a goal, and the climb that tries it."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.analysis.stability import Standard
from yondle.app.plans.goals import WantGoal
from yondle.app.plans.nights import AN_HOUR, IN_ALL, Bounds
from yondle.app.plans.plans import StartPlan
from yondle.app.profiles.profiles import LONGEST_NAME, KeepProfile
from yondle.app.session.opening import open_logbook
from yondle.app.session.session import Session
from yondle.cli.plan_commands import AnHour, InAll, Unattended, carry_on
from yondle.cli.running import AsJson, Asks, LogbookPath, Pace, Together, opened
from yondle.cli.shown import print_json
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.plan_runs import Ended
from yondle.model.quantities import signed_percent
from yondle.model.verdicts import Verdict
from yondle.planning.edge_search import Style
from yondle.planning.goals.climbing import goal_name
from yondle.planning.goals.goal import Goal, Kind
from yondle.planning.goals.ways import Way
from yondle.planning.plan_files import goal_text
from yondle.views.next.next import NextView, goal_of, next_view, usual_goal, way_figures
from yondle.views.shared.snapshot import Snapshot

GoalKind = Annotated[
    Kind | None,
    typer.Option(
        "--goal",
        help="score: the highest; trade: per watt; quiet or cool: at a small loss; matters: what does anything.",
    ),
]
Benchmarks = Annotated[
    list[str] | None,
    typer.Option(
        "--benchmark",
        "-b",
        help="A benchmark or group (processor) it is for, again for more; NAME=WEIGHT weighs it.",
        show_default=False,
    ),
]
Loss = Annotated[
    float | None,
    typer.Option(min=0.0, max=50.0, help="quiet, cool: what of the score it may cost, in %.", show_default=False),
]
Knobs = Annotated[
    list[str] | None,
    typer.Option("--knob", help="A knob that may be touched, again for more; by default all.", show_default=False),
]
Restarts = Annotated[bool, typer.Option("--restarts", help="Knobs that take a restart may be touched, too.")]
Hands = Annotated[bool, typer.Option("--hands", help="Somebody is there to enter what is set by hand.")]
LEAST_TOLD = 0.0005
"""A knob that is worth less than this, as a fraction, isn't told."""


def add_goal_commands(app: typer.Typer, console: Console) -> None:
    """Add them."""

    @app.command("next")
    def next_(
        logbook: LogbookPath,
        goal: GoalKind = None,
        benchmark: Benchmarks = None,
        loss: Loss = None,
        knob: Knobs = None,
        restarts: Restarts = False,
        hands: Hands = False,
        as_json: AsJson = False,
    ) -> None:
        """Say what is worth trying next toward a goal, and why."""
        with opened(lambda: open_logbook(logbook)) as session:
            book = session.snapshot
            told = next_view(book, _asked(book, goal, benchmark, loss, knob, restarts, hands))
            if as_json:
                print_json(_values(told))
                return
            console.print(say("Worth trying next, for {goal}:", goal=told.name))
            for number, way in enumerate(told.ways, start=1):
                _print_way(console, number, way)
            if worth := [
                say("{knob} {worth}", knob=k, worth=signed_percent(w, 1)) for k, w in told.worth if w >= LEAST_TOLD
            ]:
                console.print(say("What each knob is worth now: {worth}.", worth=", ".join(worth)))
            console.print(told.caveat)

    @app.command()
    def climb(
        logbook: LogbookPath,
        goal: GoalKind = None,
        benchmark: Benchmarks = None,
        hours: Annotated[float, typer.Option(min=0.25, max=1000.0, help="How long it may take.")] = 8.0,
        load: Annotated[
            list[str] | None,
            typer.Option(
                help="A workload it has to hold under, again for more; by default the hard load.", show_default=False
            ),
        ] = None,
        standard: Annotated[Standard, typer.Option(help="How rarely it may fail.")] = Standard.DAILY,
        style: Annotated[Style, typer.Option(help="What a crash may cost.")] = Style.EVEN,
        loss: Loss = None,
        target: Annotated[
            float | None, typer.Option(help="score: end once the benchmark reaches this.", show_default=False)
        ] = None,
        knob: Knobs = None,
        restarts: Restarts = False,
        hands: Hands = False,
        keep: Annotated[
            str,
            typer.Option(help="The profile it is kept as; by default it is named after the goal.", show_default=False),
        ] = "",
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        unattended: Unattended = False,
        an_hour: AnHour = AN_HOUR,
        in_all: InAll = IN_ALL,
        as_json: AsJson = False,
    ) -> None:
        """Climb toward a goal, one change at a time, and end with what is proved."""
        bounds = Bounds(an_hour, in_all) if unattended else None
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            session.must_run_things()
            book = session.snapshot
            wanted = _asked(book, goal, benchmark, loss, knob, restarts, hands)
            loads = tuple(book.declaration.workload(name).id for name in load or wanted.loads)
            wanted = replace(wanted, hours=hours, loads=loads, standard=standard, style=style, target=target)
            session.do(WantGoal(wanted))
            begin = StartPlan(goal_text(book.declaration, wanted), say("the climb"), comes_back=bounds)
            end = carry_on(session, console, as_json, lambda after: session.do(replace(begin, after=after)))
            if end.ended is Ended.DONE:
                _keep(session, console, as_json, keep or goal_name(wanted, book.declaration)[:LONGEST_NAME])


def _keep(session: Session, console: Console, as_json: bool, name: str) -> None:
    """Keep what a climb came to as a profile, where it came to anything."""
    book = session.snapshot
    position = book.position
    if position is None or position.verdict is not Verdict.HELD or book.in_force == book.declaration.stock:
        return
    kept = session.do(KeepProfile(name))
    if not as_json:
        console.print(say("Kept as the profile '{name}'.", name=kept.name))


def _asked(
    book: Snapshot, kind: Kind | None, benchmarks: list[str] | None, loss: float | None, knobs: list[str] | None,
    restarts: bool, hands: bool,
) -> Goal:  # fmt: skip
    """Make the goal of what was asked, the one that is kept in the logbook where nothing was."""
    if kind is None and not benchmarks:
        wanted = goal_of(book)
    else:
        wanted = usual_goal(book.declaration, kind or Kind.SCORE)
        if benchmarks:
            weighed = [one for each in benchmarks for one in _of_group(book, *_weighed(each))]
            wanted = replace(
                wanted, benchmarks=tuple((book.declaration.workload(name).id, weight) for name, weight in weighed)
            )
    if loss is not None:
        wanted = replace(wanted, loss=loss / 100.0)
    if knobs:
        wanted = replace(wanted, knobs=tuple(book.declaration.settable(name).id for name in knobs))
    return replace(wanted, restarts=restarts or wanted.restarts, hands=hands or wanted.hands)


def _of_group(book: Snapshot, name: str, weight: float) -> list[tuple[str, float]]:
    """Give the benchmarks of a group that is named, alike, together with its weight; else the one of that name."""
    group = [w.id for w in book.declaration.benchmarks if not w.by_hand and str(w.subsystem) == name.casefold()]
    return [(each, weight / len(group)) for each in group] or [(name, weight)]


def _weighed(text: str) -> tuple[str, float]:
    name, equals, weight = text.partition("=")
    if not equals:
        return text, 1.0
    try:
        return name, float(weight)
    except ValueError:
        raise KnownError(
            say("'{weight}' is no weight.", weight=weight), say("Write NAME=2 to have a benchmark count twice.")
        ) from None


def _print_way(console: Console, number: int, way: Way) -> None:
    console.print(f"{number}. {way.title}")
    if figures := way_figures(way):
        console.print(f"   {figures}")
    console.print(f"   {way.reason}")
    if way.unknown:
        console.print(say("   Unknown: {what}.", what=way.unknown))


def _values(told: NextView) -> dict[str, Any]:
    return {
        "goal": str(told.goal.kind),
        "benchmarks": dict(told.goal.benchmarks),
        "ways": [
            {
                "kind": str(way.kind), "changes": [{"knob": k, "value": v} for k, v in way.changes], "brings": way.brings,
                "range_95": [way.low, way.high], "chance_to_hold": way.chance, "seconds": round(way.seconds), "title": way.title,
                "reason": way.reason, "unknown": way.unknown,
            }
            for way in told.ways
        ],
        "worth_of_knobs": dict(told.worth),
        "caveat": told.caveat,
    }  # fmt: skip
