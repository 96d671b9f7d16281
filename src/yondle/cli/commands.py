"""The commands of `yondle`. Errors that can be put right end with code 2 and a sentence; faults of the program with 1."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle import __version__
from yondle.app.demo import DEMO_PACE, data_folder, free_name, run_evening, run_neighbours
from yondle.app.export import write
from yondle.app.inspection import Inspection, inspect_rig
from yondle.app.machines import choose_rig, make_machine
from yondle.app.pictures import chart_svg
from yondle.app.plans import is_failure
from yondle.app.readiness import not_ready, readiness
from yondle.app.session import Session
from yondle.cli.bench_commands import add_bench_commands
from yondle.cli.compare_commands import add_compare_commands
from yondle.cli.inspected import print_inspection
from yondle.cli.plan_commands import add_edge_command, plan_app
from yondle.cli.profile_commands import profile_app
from yondle.cli.record_commands import add_record_commands
from yondle.cli.report_commands import add_report_command
from yondle.cli.rig_commands import add_rig_commands
from yondle.cli.running import (
    AsJson,
    Asks,
    LogbookPath,
    Pace,
    Passes,
    Strict,
    Together,
    listen,
    named_value,
    opened,
    run_test,
)
from yondle.cli.scaling_commands import add_scaling_command
from yondle.cli.shown import (
    console_for,
    print_in_force,
    print_json,
    print_outcome,
    print_resumed,
    print_trail,
    print_waiting,
    status_values,
    tell,
)
from yondle.cli.trace_command import add_trace_command
from yondle.cli.watch_command import add_watch_command
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import count, duration
from yondle.model.steps import StepRecord
from yondle.model.workloads import Workload
from yondle.planning.climb import GoBack, Move, Try
from yondle.views.shared.gains import benchmark_of
from yondle.views.tune.charting import chart


@dataclass(frozen=True, slots=True)
class WindowOrder:
    """What the window shall show: a logbook, or the first-start page; `evening` asks for Heron's example to be run."""

    logbook: Path | None
    pace: float | None = None
    evening: bool = False


OpenWindow = Callable[[WindowOrder], int]


def build(open_window: OpenWindow) -> typer.Typer:
    """Make the command line; `open_window` shows the window and returns an exit code."""
    app = typer.Typer(
        add_completion=True, no_args_is_help=False, pretty_exceptions_enable=False, rich_markup_mode=None,
        help="Yondle: a logbook for PC tuners. Without a command it opens the window.",
    )  # fmt: skip
    console = console_for()

    @app.callback(invoke_without_command=True)
    def root(
        context: typer.Context, version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False
    ) -> None:
        if version:
            print(f"yondle {__version__}")
            raise typer.Exit
        if context.invoked_subcommand is None:
            raise typer.Exit(open_window(WindowOrder(None)))

    @app.command("open")
    def open_(
        logbook: Annotated[Path | None, typer.Argument(help="The logbook; without one the first page.")] = None,
        pace: Pace = DEMO_PACE,
    ) -> None:
        """Open a logbook in the window."""
        raise typer.Exit(open_window(WindowOrder(logbook, pace)))

    @app.command()
    def new(
        logbook: LogbookPath,
        rig: Annotated[
            str, typer.Option(help="heron, heron-ii, bittern, this (the machine Yondle runs on), or a rig file.")
        ] = "heron",
        seed: Annotated[int | None, typer.Option(help="Simulated rig: another course of chance.")] = None,
        by_hand: Annotated[
            Path | None, typer.Option(help="This machine: a file of knobs set by hand (docs/by-hand-file.md).")
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Start a logbook for a rig."""
        if logbook.suffix != ".yondle":
            raise KnownError(say("{logbook} is no name for a logbook.", logbook=logbook), say("End it in .yondle."))
        with opened(lambda: Session.create(logbook, choose_rig(rig, seed, by_hand))) as session:
            if as_json:
                print_json(status_values(session))
                return
            info = session.declaration.info
            console.print(
                say(
                    "{logbook} is ready for {info}: {knobs}.",
                    logbook=logbook,
                    info=info.name,
                    knobs=count(len(session.declaration.knobs), "knob"),
                )
            )
            console.print(say("Next, measure stock: yondle baseline {logbook}", logbook=logbook))

    @app.command()
    def baseline(
        logbook: LogbookPath,
        passes: Passes = None,
        pace: Pace = None,
        together: Together = False,
        anyway: Annotated[bool, typer.Option("--anyway", help="Go on although something isn't ready.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Measure stock, so that gains can be told from noise."""
        with opened(lambda: Session.open(logbook, pace, together)) as session:
            missing = not_ready(readiness(session))
            if missing and not anyway:
                raise KnownError(
                    say("Not ready: {missing}.", missing="; ".join(missing)),
                    say("'yondle ready' says what to do; --anyway starts all the same, and that is recorded."),
                )
            run_test(session, lambda: session.baseline(passes, missing), console, as_json)

    @app.command()
    def step(
        logbook: LogbookPath,
        values: Annotated[list[str], typer.Argument(help="What to try, as knob=value.", show_default=False)],
        joint: Annotated[bool, typer.Option("--joint", help="Change several knobs in one step on purpose.")] = False,
        passes: Passes = None,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        as_json: AsJson = False,
        strict: Strict = False,
    ) -> None:
        """Propose one step and test it."""
        with opened(lambda: Session.open(logbook, pace, together, asks)) as session:
            for knob, value in [named_value(session.declaration, text) for text in values]:
                session.propose(knob.id, value, joint=joint)
            if session.proposal is None:
                raise KnownError(say("These values are already in force."), say("Name another value."))
            run_test(session, lambda: session.test(passes), console, as_json, strict)

    @app.command()
    def back(
        logbook: LogbookPath, number: Annotated[int, typer.Argument(help="A step that held.")], as_json: AsJson = False
    ) -> None:
        """Put the settings of an earlier step in force again."""
        with opened(lambda: Session.open(logbook)) as session:
            record = session.go_back(number)
            if as_json:
                print_json(status_values(session))
            else:
                console.print(say("Step {number} is active again.", number=record.step.number))

    @app.command()
    def status(
        logbook: LogbookPath,
        benchmark: Annotated[str, typer.Option(help="The benchmark whose gains are shown.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Show the trail, what is in force, and what was found open."""
        with opened(lambda: Session.open(logbook)) as session:
            if as_json:
                print_json(status_values(session))
                return
            print_resumed(session, console)
            if session.waiting is not None:
                print_waiting(session, console)
            print_trail(session, console, benchmark)
            print_in_force(session, console)

    @app.command()
    def inspect(
        what: Annotated[str, typer.Argument(metavar="RIG", help="this, heron, or a rig file.")] = "this",
        rig: Annotated[str, typer.Option(help="The same.", hidden=True)] = "",
        as_json: AsJson = False,
    ) -> None:
        """Say what a rig offers: what can be set and by whom, what can be read, what is missing and why it matters."""
        found = inspect_rig(choose_rig(rig or what))
        if as_json:
            print_json(_inspected(found))
        else:
            print_inspection(found, console)

    @app.command()
    def workloads(
        rig: Annotated[str, typer.Option(help="heron, this, or a rig file.")] = "this", as_json: AsJson = False
    ) -> None:
        """List the benchmarks and loads of a rig."""
        machine = make_machine(choose_rig(rig), None, None)
        declared = machine.rig.declaration
        machine.rig.close()
        if as_json:
            print_json({"workloads": [_workload_values(w) for w in declared.workloads]})
            return
        for work in declared.workloads:
            figure = f"{work.metric.unit}, {named(work.metric.direction)}" if work.scored else say("a load, not scored")
            cap = say(", capped at {cap:g}", cap=work.metric.cap) if work.metric.cap else ""
            console.print(
                say(
                    "{id}: {work} ({figure}{cap}; a pass lasts {pass_s})\n  {about}",
                    id=work.id,
                    work=work.name,
                    figure=figure,
                    cap=cap,
                    pass_s=duration(work.pass_s),
                    about=work.about,
                )
            )

    @app.command()
    def demo(
        headless: Annotated[bool, typer.Option("--headless", help="Run Heron's evening without a window.")] = False,
        into: Annotated[Path | None, typer.Option(help="Folder for the logbook and the picture.")] = None,
        neighbours: Annotated[
            bool, typer.Option("--neighbours", help="Run Heron II and Bittern, too, to compare with, and end.")
        ] = False,
        fresh: Annotated[bool, typer.Option("--fresh", help="Start the evening over in a new logbook.")] = False,
        pace: Annotated[float, typer.Option(help="Virtual seconds per second in the window.")] = DEMO_PACE,
        seed: Annotated[int | None, typer.Option(help="Another course of chance.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Heron, the simulated PC in a shed observatory: an evening's climb to look at and to go on with."""
        folder = into or data_folder()
        if not folder.is_dir():
            raise KnownError(say("There is no folder {folder}.", folder=folder), say("Make it first, or name another."))
        if neighbours:
            made = run_neighbours(folder)
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
            Session.create(path, choose_rig("heron", seed)).close()
        raise typer.Exit(open_window(WindowOrder(path, pace, evening)))

    add_record_commands(app, console)
    add_report_command(app, console)
    add_trace_command(app, console)
    add_watch_command(app, console)
    add_rig_commands(app, console)
    add_bench_commands(app, console)
    add_edge_command(app, console)
    add_scaling_command(app, console)
    add_compare_commands(app, console)
    app.add_typer(plan_app(console), name="plan")
    app.add_typer(profile_app(console), name="profile")
    return app


def _headless_demo(folder: Path, seed: int | None, console: Console, as_json: bool) -> None:
    began = time.monotonic()
    path = free_name(folder, "heron-evening")
    with opened(lambda: Session.create(path, choose_rig("heron", seed))) as session:
        listen(session)

        def after(move: Move | None, record: StepRecord) -> None:
            if as_json:
                return
            match move:
                case GoBack():
                    console.print(say("  Back to step {step}: {why}.", step=move.step, why=move.why))
                case Try() | None:
                    print_outcome(session, record, console)

        run_evening(session, after)
        knob, benchmark = session.declaration.knob("core_clock"), benchmark_of(session.snapshot)
        view = chart(session.snapshot, knob, benchmark)
        picture = path.with_suffix(".svg")
        write(picture, chart_svg(view, session.declaration.info.name))
        if as_json:
            print_json({**status_values(session), "picture": str(picture)})
            return
        console.print()
        print_trail(session, console)
        failures = sum(1 for record in session.steps if is_failure(record))
        virtual = session.machine.clock.now()
        console.print(f"\n{view.sentence}")
        console.print(
            say(
                "{steps}, {failures}; {lasted} of Heron's evening in {took}.",
                steps=count(len(session.steps), "step"),
                failures=count(failures, "failure"),
                lasted=duration(virtual),
                took=duration(time.monotonic() - began),
            )
        )
        console.print(say("Logbook: {path}\nPicture: {picture}", path=path, picture=picture))


def _has_display() -> bool:
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def _workload_values(work: Workload) -> dict[str, Any]:
    metric = {"unit": work.metric.unit, "direction": str(work.metric.direction), "cap": work.metric.cap}
    return {
        "id": work.id,
        "name": work.name,
        "about": work.about,
        "scored": work.scored,
        "pass_s": work.pass_s,
        **metric,
    }


def _inspected(found: Inspection) -> dict[str, Any]:
    declared = found.declaration
    return {
        "rig": {"id": declared.info.id, "name": declared.info.name, "place": declared.info.place, "facts": declared.info.facts},
        "knobs": [
            {
                "id": k.id, "name": k.name, "unit": k.unit, "low": k.low, "high": k.high, "step": k.step, "stock": k.stock,
                "when": str(k.when), "ceiling": declared.ceilings.get(k.id),
            }
            for k in declared.knobs
        ],
        "readings": [
            {"id": c.id, "name": c.name, "unit": c.unit, "value": v}
            for c, v in zip(declared.channels, found.readings, strict=True)
        ],
        "interfaces": [asdict(family) for family in found.families],
        "helper": {"by": found.helper, "missing": found.helper_missing, "knobs": list(found.settable)},
        "workloads": [_workload_values(w) for w in declared.workloads],
    }  # fmt: skip
