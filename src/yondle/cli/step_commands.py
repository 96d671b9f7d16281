"""`yondle new`, `baseline`, `step`, `back`, `status`, `inspect`, `workloads`: a logbook made, steps tested, both looked at."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.app.machine.inspection import Inspection, inspect_rig
from yondle.app.machine.machines import choose_rig, make_machine
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.readiness import CheckReady, not_ready
from yondle.app.session.returning import ReturnTo
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.cli.inspected import print_inspection
from yondle.cli.running import (
    AsJson,
    Asks,
    LogbookPath,
    Pace,
    Passes,
    Strict,
    Together,
    named_value,
    opened,
    run_test,
)
from yondle.cli.shown import (
    print_json,
    status_values,
)
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import count, duration
from yondle.model.workloads import Workload


def add_step_commands(app: typer.Typer, console: Console) -> None:
    """Add these commands."""

    @app.command()
    def new(
        logbook: LogbookPath,
        rig: Annotated[
            str,
            typer.Option(
                help="heron, heron-ii, bittern, this (this machine), ssh://user@host (across the room), elsewhere (a machine "
                "that runs no Yondle), or a rig file."
            ),
        ] = "heron",
        seed: Annotated[int | None, typer.Option(help="Simulated rig: a seed, for another course of chance.")] = None,
        by_hand: Annotated[
            Path | None, typer.Option(help="A real machine: a file of knobs set by hand (docs/by-hand-file.md).")
        ] = None,
        name: Annotated[str, typer.Option(help="Elsewhere: what the machine is called; else the file's name.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Start a logbook for a rig."""
        if logbook.suffix != ".yondle":
            raise KnownError(say("{logbook} is no name for a logbook.", logbook=logbook), say("End it in .yondle."))
        with opened(lambda: create_logbook(logbook, choose_rig(rig, seed, by_hand, name or logbook.stem))) as session:
            if as_json:
                print_json(status_values(session.snapshot))
                return
            info = session.snapshot.declaration.info
            console.print(
                say(
                    "{logbook} is ready for {info}: {knobs}.",
                    logbook=logbook,
                    info=info.name,
                    knobs=count(len(session.snapshot.declaration.knobs), "knob"),
                )
            )
            if session.machine.elsewhere:
                console.print(say("Next, bring in a table: yondle import table {logbook} FILE", logbook=logbook))
                return
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
        with opened(lambda: open_logbook(logbook, pace, together)) as session:
            missing = not_ready(session.do(CheckReady()).items)
            if missing and not anyway:
                raise KnownError(
                    say("Not ready: {missing}.", missing="; ".join(missing)),
                    say("'yondle ready' says what to do; --anyway starts all the same, and that is recorded."),
                )
            run_test(session, lambda: session.do(RunBaseline(passes, missing)), console, as_json)

    @app.command()
    def step(
        logbook: LogbookPath,
        values: Annotated[list[str], typer.Argument(help="What to try, as knob=value.", show_default=False)],
        joint: Annotated[bool, typer.Option("--joint", help="Change several knobs in one step on purpose.")] = False,
        passes: Passes = None,
        without_turns: Annotated[
            bool,
            typer.Option(
                "--without-turns", help="Measure it alone, not in turns with what it starts from: half the time."
            ),
        ] = False,
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        as_json: AsJson = False,
        strict: Strict = False,
    ) -> None:
        """Propose one step and test it."""
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            for knob, value in [named_value(session.snapshot.declaration, text) for text in values]:
                session.do(Propose(knob.id, value, joint=joint))
            if session.snapshot.proposal is None:
                raise KnownError(say("These values are already in force."), say("Name another value."))
            run_test(session, lambda: session.do(TryProposal(passes, not without_turns)), console, as_json, strict)

    @app.command()
    def back(
        logbook: LogbookPath, number: Annotated[int, typer.Argument(help="A step that held.")], as_json: AsJson = False
    ) -> None:
        """Put the settings of an earlier step in force again."""
        with opened(lambda: open_logbook(logbook)) as session:
            record = session.do(ReturnTo(number))
            if as_json:
                print_json(status_values(session.snapshot))
            else:
                console.print(say("Step {number} is active again.", number=record.step.number))


def add_looking_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands that look at a rig."""

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
