"""`yondle plan …`: look at a plan, run it, go on with it, end it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.app.plan_files import read_plan
from yondle.app.plans import PlanEnd, end_plan, go_on_with_plan, preview, start_plan
from yondle.app.session import Session
from yondle.app.views.proposal import dry_words
from yondle.cli.running import AsJson, Asks, LogbookPath, Pace, Together, interruptible, listen, opened
from yondle.cli.shown import print_json, print_outcome, print_resumed, print_waiting, status_values
from yondle.model.quantities import count
from yondle.model.steps import StepRecord
from yondle.planning.climb import GoBack, Move
from yondle.planning.plans import DryRun

PlanFile = Annotated[Path, typer.Argument(help="A plan file (TOML); see docs/plan-file.md.", show_default=False)]


def plan_app(console: Console) -> typer.Typer:
    """Make the commands about plans."""
    app = typer.Typer(add_completion=False, help="Sweeps, ladders and lists of steps that run by themselves.")

    @app.command()
    def check(logbook: LogbookPath, file: PlanFile, as_json: AsJson = False) -> None:
        """Say what a plan would do: tests, time, restarts, and what your limits leave out. Nothing is set."""
        with opened(lambda: Session.open(logbook)) as session:
            plan, _ = read_plan(file, session.declaration)
            seen = preview(session, plan)
            if as_json:
                print_json(_dry_values(seen))
            else:
                console.print(f"{plan.name}: {dry_words(seen)}")
                for words in seen.left_out:
                    console.print(f"  Left out: {words}.")

    @app.command()
    def run(
        logbook: LogbookPath,
        file: PlanFile,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        as_json: AsJson = False,
    ) -> None:
        """Run a plan. Ctrl+C stops it and puts the rig back; after a crash or restart 'plan go-on' goes on."""
        with opened(lambda: Session.open(logbook, pace, together, asks)) as session:
            _, text = read_plan(file, session.declaration)
            _carry_on(session, console, as_json, lambda after: start_plan(session, text, str(file), after))

    @app.command("go-on")
    def go_on(
        logbook: LogbookPath, pace: Pace = None, together: Together = False, asks: Asks = False, as_json: AsJson = False
    ) -> None:
        """Go on with the plan that is not finished."""
        with opened(lambda: Session.open(logbook, pace, together, asks)) as session:
            _carry_on(session, console, as_json, lambda after: go_on_with_plan(session, after))

    @app.command()
    def end(logbook: LogbookPath) -> None:
        """End the plan that is not finished; what it tested stays."""
        with opened(lambda: Session.open(logbook)) as session:
            end_plan(session)
            console.print("The plan is ended.")

    return app


def _carry_on(session: Session, console: Console, as_json: bool, going: Any) -> None:
    listen(session)
    if not as_json:
        print_resumed(session, console)

    def after(move: Move | None, record: StepRecord) -> None:
        if as_json:
            return
        if isinstance(move, GoBack):
            console.print(f"  Back to step {move.step}: {move.why}.")
        else:
            print_outcome(session, record, console)

    with interruptible(session):
        ended: PlanEnd = going(after)
    if as_json:
        plan = {"ended": str(ended.ended), "reason": ended.reason, "moves": ended.moves}
        print_json({**status_values(session), "plan": plan})
        return
    if session.waiting is not None:
        print_waiting(session, console)
    console.print(f"The plan is {ended.ended}: {ended.reason}. {count(ended.moves, 'move')} made.")


def _dry_values(seen: DryRun) -> dict[str, Any]:
    return {
        "tests": seen.tests,
        "seconds": round(seen.seconds),
        "restarts": seen.restarts,
        "entries_by_hand": seen.entries,
        "waits_for_hands": seen.waits_for_hands,
        "left_out": list(seen.left_out),
    }
