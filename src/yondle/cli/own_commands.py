"""Commands about what the tuner brings along: workloads, knobs and sensors of their own, meters, and the helper."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.machine.own_things import not_allowed, not_offered, own_things, read_own
from yondle.app.machine.this_machine import read_command
from yondle.app.session.measuring import (
    AddMeter,
    AddOwn,
    AddWorkload,
    RemoveMeter,
    RemoveOwn,
    RemoveWorkload,
    must_be_this,
)
from yondle.app.session.opening import open_logbook
from yondle.app.session.session import Session
from yondle.app.system import helper_install
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, tell
from yondle.language.saying import listed, say
from yondle.model.errors import KnownError

Yes = Annotated[bool, typer.Option("--yes", help="Allow the command it runs without being asked.")]


def add_own_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about workloads, knobs and sensors of your own, meters and the helper."""
    _add_workload(app, console)
    _add_own(app, console)
    _add_meter(app, console)
    _add_helper(app, console)


def _add_workload(app: typer.Typer, console: Console) -> None:
    own = typer.Typer(help="Workloads of your own: any command with a number in what it prints.")
    app.add_typer(own, name="workload")

    @own.command("add")
    def add(logbook: LogbookPath, file: Path, yes: Yes = False, as_json: AsJson = False) -> None:
        """Add a workload from its file (docs/workload-file.md)."""
        with opened(lambda: open_logbook(logbook)) as session:
            workload = session.do(AddWorkload(read_command(file), str(file)))
            _ask_to_allow(session, yes, console, as_json)
            words = say(
                "{workload} is known. Run it with: yondle benchmarks {logbook} --use …",
                workload=workload.name,
                logbook=logbook,
            )
            tell(console, as_json, words, workload=workload.id)

    @own.command("allow")
    def allow(logbook: LogbookPath, yes: Yes = False, as_json: AsJson = False) -> None:
        """Look at the commands a logbook would run, and allow them on this machine."""
        with opened(lambda: open_logbook(logbook)) as session:
            must_be_this(session.snapshot)
            asked = _ask_to_allow(session, yes, console, as_json)
            tell(console, as_json, say("All of them are allowed here."), allowed=asked)

    @own.command("remove")
    def remove(logbook: LogbookPath, workload: str, as_json: AsJson = False) -> None:
        """Forget a workload of your own; its results stay."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(RemoveWorkload(workload))
            tell(console, as_json, say("{workload} is forgotten.", workload=workload), workload=workload)


def _add_own(app: typer.Typer, console: Console) -> None:
    own = typer.Typer(help="Knobs and sensors of your own (docs/own-file.md).")
    app.add_typer(own, name="own")

    @own.command("add")
    def own_add(
        logbook: LogbookPath,
        file: Annotated[Path, typer.Argument(help="A TOML file that describes them.")],
        yes: Yes = False,
        as_json: AsJson = False,
    ) -> None:
        """Keep knobs and sensors of your own; they are used from when the logbook is opened next."""
        with opened(lambda: open_logbook(logbook)) as session:
            names = session.do(AddOwn(read_own(file), file.name))
            allowed = _ask_to_allow(session, yes, console, as_json)
            words = say("Kept: {names}.", names=listed(list(names)))
            tell(console, as_json, words, names=list(names), allowed=allowed)

    @own.command("list")
    def own_list(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """List them, with what they run, and which aren't offered and why."""
        with opened(lambda: open_logbook(logbook)) as session:
            things, missing = (
                own_things(session.snapshot.kept),
                not_offered(session.snapshot.kept),
            )
            if as_json:
                told = [{"id": t.id, "name": t.entry.name, "knob": t.is_knob, "runs": t.runs()} for t in things]
                print_json({"own": told, "not offered": missing})
                return
            for thing in things:
                console.print(f"{thing.id:20} {thing.entry.name}: {thing.runs()}", highlight=False)
            for words in missing:
                console.print(say("not offered  {words}", words=words), highlight=False)

    @own.command("allow")
    def own_allow(logbook: LogbookPath, yes: Yes = False, as_json: AsJson = False) -> None:
        """Allow what a logbook from someone else would run, read and write."""
        with opened(lambda: open_logbook(logbook)) as session:
            allowed = _ask_to_allow(session, yes, console, as_json)
            tell(
                console,
                as_json,
                say("Allowed: {names}.", names=listed(allowed) or say("there was nothing to ask about")),
                allowed=allowed,
            )

    @own.command("remove")
    def own_remove(
        logbook: LogbookPath, id_: Annotated[str, typer.Argument(metavar="ID")], as_json: AsJson = False
    ) -> None:
        """Forget the file that a knob or sensor is of."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(RemoveOwn(id_))
            tell(console, as_json, say("{name} is forgotten.", name=id_), id=id_)


def _add_meter(app: typer.Typer, console: Console) -> None:
    meter = typer.Typer(help="Meters outside the machine, over a serial line or the network.")
    app.add_typer(meter, name="meter")

    @meter.command("add")
    def meter_add(
        logbook: LogbookPath,
        name: Annotated[str, typer.Argument(help="What it measures, such as 'wall power'.")],
        address: Annotated[str, typer.Argument(help="A serial device, or host or host:port.")],
        unit: Annotated[str, typer.Option(help="V, A, W, °C or dBA.")],
        ask: Annotated[str, typer.Option(help="A SCPI query; without one the meter says a line a reading.")] = "",
        field: Annotated[int, typer.Option(help="Which number of the line counts.")] = 1,
        factor: Annotated[float, typer.Option(help="What its numbers are multiplied by.")] = 1.0,
        baud: Annotated[int, typer.Option(help="The speed of a serial line.")] = 115_200,
        follows: Annotated[str, typer.Option(help="The knob whose value it measures, as with a voltage.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Add a meter; its readings are sampled with all others."""
        with opened(lambda: open_logbook(logbook)) as session:
            words = session.do(AddMeter(name, address, unit, ask, field, factor, baud, follows))
            tell(console, as_json, words, meter=name)

    @meter.command("remove")
    def meter_remove(logbook: LogbookPath, name: str, as_json: AsJson = False) -> None:
        """Forget a meter."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(RemoveMeter(name))
            tell(console, as_json, say("{name} is forgotten.", name=name), meter=name)


def _add_helper(app: typer.Typer, console: Console) -> None:
    helper = typer.Typer(help="The helper that sets, as root, what only root may set (docs/helper.md).")
    app.add_typer(helper, name="helper")

    @helper.command("install")
    def install(as_json: AsJson = False) -> None:
        """Install the helper, the policy for it and its services, which stay off; needs root."""
        made = helper_install.install()
        words = "\n".join(say("installed {path}", path=path) for path in made)
        tell(console, as_json, words, files=[str(path) for path in made])

    @helper.command("remove")
    def uninstall(as_json: AsJson = False) -> None:
        """Remove all of that, and what is kept over restarts; needs root."""
        gone = helper_install.remove()
        words = "\n".join(say("removed {path}", path=path) for path in gone)
        tell(console, as_json, words, files=[str(path) for path in gone])


def _ask_to_allow(session: Session, yes: bool, console: Console, as_json: bool) -> list[str]:
    """Allow the commands that aren't yet, asking unless `yes`; gives their names."""
    allowed = []
    for asked in not_allowed(session.snapshot.kept):
        if not as_json:
            console.print(f"{asked.name}: {asked.words}", highlight=False)
        if not yes:
            if not sys.stdin.isatty():
                raise KnownError(
                    say("The command isn't allowed yet, and nobody can be asked here."),
                    say("Look at it, then say --yes."),
                )
            if not typer.confirm(say("Run this command on this machine?")):
                raise KnownError(
                    say("The command isn't allowed."), say("It is kept, and not run until 'yondle workload allow'.")
                )
        asked.allow()
        allowed.append(asked.name)
    return allowed
