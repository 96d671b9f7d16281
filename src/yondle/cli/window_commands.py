"""`yondle open` and `demo`: what shows a window, or runs Heron's evening without one."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.books.export import write
from yondle.app.demo import DEMO_PACE, RunEvening, RunNeighbours
from yondle.app.machine.machines import choose_rig
from yondle.app.plans.plans import is_failure
from yondle.app.reports.pictures import chart_svg
from yondle.app.session.opening import create_logbook
from yondle.app.system.folders import data_folder, free_name
from yondle.cli.orders import WindowOrder
from yondle.cli.running import (
    AsJson,
    Pace,
    listen,
    opened,
)
from yondle.cli.shown import (
    print_json,
    print_outcome,
    print_trail,
    status_values,
    tell,
)
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import count, duration
from yondle.model.steps import StepRecord
from yondle.planning.climb import GoBack, Move, Try
from yondle.views.shared.gains import benchmark_of
from yondle.views.tune.charting import chart


def add_window_commands(app: typer.Typer, console: Console) -> None:
    """Add these commands."""

    @app.command("open")
    def open_(
        context: typer.Context,
        logbook: Annotated[Path | None, typer.Argument(help="The logbook; by default the first page.")] = None,
        pace: Pace = DEMO_PACE,
    ) -> None:
        """Open a logbook in the window."""
        raise typer.Exit(context.obj(WindowOrder(logbook, pace)))

    @app.command()
    def demo(
        context: typer.Context,
        headless: Annotated[bool, typer.Option("--headless", help="Run Heron's evening without a window.")] = False,
        into: Annotated[Path | None, typer.Option(help="Folder for the logbook and the picture.")] = None,
        neighbours: Annotated[
            bool, typer.Option("--neighbours", help="Run Heron II and Bittern, too, to compare with, and end.")
        ] = False,
        fresh: Annotated[bool, typer.Option("--fresh", help="Start the evening over in a new logbook.")] = False,
        pace: Annotated[float, typer.Option(help="Virtual seconds per second in the window.")] = DEMO_PACE,
        seed: Annotated[int | None, typer.Option(help="A seed: another course of chance.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Heron, the simulated PC in a shed observatory: an evening's climb to look at and to go on with."""
        folder = into or data_folder()
        if not folder.is_dir():
            raise KnownError(say("There is no folder {folder}.", folder=folder), say("Make it first, or name another."))
        if neighbours:
            made = RunNeighbours(folder).run()
            words = "\n".join(say("Logbook: {made}", made=path) for path in made)
            tell(console, as_json, words, logbooks=[str(path) for path in made])
            return
        if headless or as_json or not _has_display():
            if not headless and not as_json:
                console.print(say("No display here, so the evening runs without a window (as with --headless)."))
            _headless_demo(folder, seed, console, as_json)
            return
        path = folder / "heron.yondle"
        evening = fresh or not path.exists()
        if evening:
            path = free_name(folder, "heron")
            create_logbook(path, choose_rig("heron", seed)).close()
        raise typer.Exit(context.obj(WindowOrder(path, pace, evening)))


def _headless_demo(folder: Path, seed: int | None, console: Console, as_json: bool) -> None:
    began = time.monotonic()
    path = free_name(folder, "heron-evening")
    with opened(lambda: create_logbook(path, choose_rig("heron", seed))) as session:
        listen(session)

        def after(move: Move | None, record: StepRecord) -> None:
            if as_json:
                return
            match move:
                case GoBack():
                    console.print(say("  Back to step {step}: {why}.", step=move.step, why=move.why))
                case Try() | None:
                    print_outcome(session.snapshot, record, console)

        session.do(RunEvening(after))
        knob, benchmark = session.snapshot.declaration.knob("core_clock"), benchmark_of(session.snapshot)
        view = chart(session.snapshot, knob, benchmark)
        picture = path.with_suffix(".svg")
        write(picture, chart_svg(view, session.snapshot.declaration.info.name))
        if as_json:
            print_json({**status_values(session.snapshot), "picture": str(picture)})
            return
        console.print()
        print_trail(session.snapshot, console)
        failures = sum(1 for record in session.snapshot.steps if is_failure(record))
        virtual = session.machine.clock.now()
        console.print(f"\n{view.sentence}")
        console.print(
            say(
                "{steps}, {failures}; {lasted} of Heron's evening in {took}.",
                steps=count(len(session.snapshot.steps), "step"),
                failures=count(failures, "failure"),
                lasted=duration(virtual),
                took=duration(time.monotonic() - began),
            )
        )
        console.print(say("Logbook: {path}\nPicture: {picture}", path=path, picture=picture))


def _has_display() -> bool:
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
