"""`yondle plan …`: look at a plan, run it, go on with it, end it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.analysis.stability import Standard
from yondle.app.plans.nights import AN_HOUR, IN_ALL, Bounds
from yondle.app.plans.plans import AfterMove, EndPlan, GoOnWithPlan, PlanEnd, StartPlan, preview
from yondle.app.session.opening import open_logbook
from yondle.app.session.session import Session
from yondle.app.system.telling import notify
from yondle.cli.running import AsJson, Asks, Interrupts, LogbookPath, Pace, Together, interruptible, listen, opened
from yondle.cli.shown import print_json, print_outcome, print_resumed, print_waiting, status_values, tell
from yondle.language.saying import say
from yondle.model.plan_runs import GOES_ON
from yondle.model.quantities import count
from yondle.model.steps import StepRecord
from yondle.planning.climb import GoBack, Move, Recall, Try
from yondle.planning.edge_search import Style
from yondle.planning.finding import Edge
from yondle.planning.ladder import usual_passes
from yondle.planning.plan_files import MOST_ROOM, edge_text, parse_plan, read_plan
from yondle.planning.plans import DryRun
from yondle.views.edge.edge import EdgeView, edge_view
from yondle.views.edge.plan_runs import plan_views
from yondle.views.tune.proposal import dry_words
from yondle.views.tune.summary import latest_attempt, summary_words

Unattended = Annotated[
    bool,
    typer.Option(
        "--unattended-restarts",
        help="This machine: a watchdog restarts it where it freezes, and the plan comes back by itself after a crash.",
    ),
]
AnHour = Annotated[int, typer.Option("--an-hour", min=1, max=1000, help="Come back at most so often within an hour.")]
InAll = Annotated[int, typer.Option("--in-all", min=1, max=1000, help="Come back at most so often in all.")]
PlanFile = Annotated[Path, typer.Argument(help="A plan file (TOML); see docs/plan-file.md.", show_default=False)]


def plan_app(console: Console) -> typer.Typer:
    """Make the commands about plans."""
    app = typer.Typer(add_completion=False, help="Sweeps, ladders and lists of steps that run by themselves.")

    @app.command()
    def check(logbook: LogbookPath, file: PlanFile, as_json: AsJson = False) -> None:
        """Say what a plan would do: tests, time, restarts, and what your limits leave out. Nothing is set."""
        with opened(lambda: open_logbook(logbook)) as session:
            plan, _ = read_plan(file, session.snapshot.declaration)
            seen = preview(session.snapshot, plan)
            if as_json:
                print_json(_dry_values(seen))
            else:
                console.print(f"{plan.name}: {dry_words(seen)}")
                for words in seen.left_out:
                    console.print(say("  Left out: {words}.", words=words))
                for words in seen.otherwise:
                    console.print(say("  Otherwise than asked: {words}.", words=words))

    @app.command()
    def run(
        logbook: LogbookPath,
        file: PlanFile,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        unattended: Unattended = False,
        an_hour: AnHour = AN_HOUR,
        in_all: InAll = IN_ALL,
        as_json: AsJson = False,
    ) -> None:
        """Run a plan. Ctrl+C stops it and puts the rig back; after that, a crash or a restart 'plan go-on' goes on."""
        bounds = Bounds(an_hour, in_all) if unattended else None
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            _, text = read_plan(file, session.snapshot.declaration)
            begin = StartPlan(text, str(file), comes_back=bounds)
            carry_on(session, console, as_json, lambda after: session.do(replace(begin, after=after)))

    @app.command("go-on")
    def go_on(
        logbook: LogbookPath,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        unattended: Unattended = False,
        an_hour: AnHour = AN_HOUR,
        in_all: InAll = IN_ALL,
        as_json: AsJson = False,
    ) -> None:
        """Go on with the plan that is not finished."""
        bounds = Bounds(an_hour, in_all) if unattended else None
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            go_on = GoOnWithPlan(comes_back=bounds)
            carry_on(session, console, as_json, lambda after: session.do(replace(go_on, after=after)))

    @app.command()
    def end(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """End the plan that is not finished; what it tested stays."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(EndPlan())
            tell(console, as_json, say("The plan is ended."))

    @app.command()
    def show(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """Show every plan that was run: how it ended, what it tested, and what it found."""
        with opened(lambda: open_logbook(logbook)) as session:
            told = plan_views(session.snapshot, session.logbook.keeping.plan_runs())
            if as_json:
                print_json({"plans": [{**asdict(each), "found": [asdict(f) for f in each.found]} for each in told]})
                return
            if not told:
                console.print(say("No plan was run yet."))
            for each in told:
                console.print(each.title)
                for words in each.lines:
                    console.print(f"  {words}")

    return app


def add_plan_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about plans."""
    app.add_typer(plan_app(console), name="plan")


def add_edge_command(app: typer.Typer, console: Console) -> None:
    """Add the search for an edge, which is a plan of its own."""

    @app.command()
    def edge(
        logbook: LogbookPath,
        knob: Annotated[str, typer.Argument(help="A knob with a risky end.", show_default=False)],
        load: Annotated[
            list[str] | None,
            typer.Option(help="A workload it has to hold under, again for more; by default the hard load."),
        ] = None,
        standard: Annotated[Standard, typer.Option(help="How rarely it may fail.")] = Standard.DAILY,
        style: Annotated[Style, typer.Option(help="What a crash may cost.")] = Style.EVEN,
        to: Annotated[str | None, typer.Option(help="The riskiest value that may be tried.")] = None,
        hours: Annotated[
            float | None, typer.Option(min=0.05, max=1000.0, help="Stop after so long under load.")
        ] = None,
        room: Annotated[
            int, typer.Option(min=0, max=MOST_ROOM, help="Leave the rig so many notches safer than recommended.")
        ] = 0,
        along: Annotated[
            str | None, typer.Option(help="Search the edge at several values of this knob, too.", show_default=False)
        ] = None,
        at: Annotated[
            list[str] | None, typer.Option(help="A value of that knob, again for more.", show_default=False)
        ] = None,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        unattended: Unattended = False,
        an_hour: AnHour = AN_HOUR,
        in_all: InAll = IN_ALL,
        as_json: AsJson = False,
    ) -> None:
        """Find the riskiest value of a knob that holds, test by test, from where the rig is now."""
        bounds = Bounds(an_hour, in_all) if unattended else None
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            session.must_run_things()
            declaration = session.snapshot.declaration
            searched = declaration.settable(knob)
            limit = searched.parsed(to) if to is not None else None
            loads = tuple(declaration.workload(name).id for name in load or [declaration.hard_load])
            other = declaration.settable(along) if along is not None else None
            places = tuple(other.parsed(value) for value in at or ()) if other is not None else ()
            over = other.id if other is not None else None
            part = Edge(searched.id, loads, standard, style, limit, hours, room, over, places)
            text = edge_text(declaration, part, usual_passes(searched))
            parse_plan(text, say("the search"), declaration)
            begin = StartPlan(text, say("the search"), comes_back=bounds)
            carry_on(session, console, as_json, lambda after: session.do(replace(begin, after=after)))


def carry_on(session: Session, console: Console, as_json: bool, going: Callable[[AfterMove], PlanEnd]) -> PlanEnd:
    """Carry a plan on to its end or its next pause, telling every move as it comes, and tell how far it came."""
    listen(session)
    before = latest_attempt(session.snapshot)
    found: EdgeView | None = None
    if not as_json:
        print_resumed(session.snapshot, console)

    def after(move: Move | None, record: StepRecord) -> None:
        nonlocal found
        run = session.snapshot.reader.open_plan_run()
        found = edge_view(session.snapshot, run) if run is not None else None
        if as_json or isinstance(move, Recall):
            return
        if isinstance(move, GoBack):
            console.print(say("  Back to step {step}: {why}.", step=move.step, why=move.why))
            return
        if isinstance(move, Try) and move.origin is not None:
            console.print(f"  {move.why[:1].upper()}{move.why[1:]}.")
        print_outcome(session.snapshot, record, console)

    interrupts = Interrupts()
    with interruptible(session, interrupts):
        ended = going(after)
    _tell_end(session, console, as_json, ended, before, found)
    interrupts.leave()
    return ended


def _tell_end(
    session: Session, console: Console, as_json: bool, ended: PlanEnd, before: int, found: EdgeView | None
) -> None:
    if as_json:
        plan = {
            "ended": str(ended.ended), "reason": ended.reason, "moves": ended.moves,
            "summary": summary_words(session.snapshot, before),
        }  # fmt: skip
        print_json({**status_values(session.snapshot), "plan": plan, "edge": _edge_values(found) if found else None})
        return
    if session.snapshot.waiting is not None:
        print_waiting(session.snapshot, console)
    console.print(
        say(
            "The plan is {ended}: {reason}. {moves} made.",
            ended=ended.ended,
            reason=ended.reason,
            moves=count(ended.moves, "move"),
        )
    )
    if ended.ended in GOES_ON and session.snapshot.waiting is None:
        book = session.snapshot.path
        console.print(say("To go on with it: yondle plan go-on {book}. To end it: yondle plan end {book}", book=book))
    summary = summary_words(session.snapshot, before)
    if summary:
        console.print(summary)
        notify(
            say("{info}: the plan is {ended}", info=session.snapshot.declaration.info.name, ended=ended.ended), summary
        )
    if found is not None:
        for line in found.line_words or (found.verdict,):
            console.print(line)
        console.print(found.tested)


def _edge_values(found: EdgeView) -> dict[str, Any]:
    return {
        "knob": found.knob.id,
        "recommended": found.recommended,
        "probability": dict(found.chances)[found.recommended],
        "edge_95": list(found.edge),
        "chances": {f"{value:g}": chance for value, chance in found.chances},
        "tests": len(found.runs),
        "failures": sum(run.failures > 0 for run in found.runs),
        "line": [
            {"at": p.at, "recommended": p.recommended, "probability": p.probability, "edge_95": list(p.edge)}
            for p in found.line
        ],
    }


def _dry_values(seen: DryRun) -> dict[str, Any]:
    return {
        "tests": seen.tests,
        "seconds": round(seen.seconds),
        "restarts": seen.restarts,
        "entries_by_hand": seen.entries,
        "waits_for_hands": seen.waits_for_hands,
        "left_out": list(seen.left_out),
        "otherwise": list(seen.otherwise),
    }
