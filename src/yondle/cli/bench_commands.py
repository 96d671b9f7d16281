"""Commands about what is measured and with what: benchmarks, own commands, results from elsewhere, meters, the helper."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.machine import this_machine
from yondle.app.session.limits import ChooseBenchmarks
from yondle.app.session.mappings import RememberColumns, remembered
from yondle.app.session.measuring import (
    AddMeter,
    AddOwn,
    AddWorkload,
    ChangeRunSettings,
    RemoveMeter,
    RemoveOwn,
    RemoveWorkload,
    must_be_this,
)
from yondle.app.session.opening import open_logbook
from yondle.app.session.results import (
    ImportFrames,
    ImportScores,
    ImportSensors,
    MeasuredWith,
    TypeIn,
    columns_of,
)
from yondle.app.session.session import Session
from yondle.app.system import helper_install
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, tell
from yondle.language.saying import listed, named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import quantity
from yondle.model.steps import AddedResult
from yondle.model.workloads import Direction
from yondle.views.shared.snapshot import Snapshot

StepNumber = Annotated[int, typer.Argument(help="The step at whose settings it was measured.")]
Unit = Annotated[str, typer.Option(help="The unit of the figures, such as frames/s or s.")]
Lower = Annotated[bool, typer.Option("--lower", help="A smaller figure is the better one, as with durations.")]
Preset = Annotated[str, typer.Option(help="The settings it was measured with.")]
Passage = Annotated[str, typer.Option(help="The passage, scene or file it was measured on.")]
NoteText = Annotated[str, typer.Option(help="Anything else about it.")]
Comma = Annotated[bool, typer.Option("--decimal-comma", help="Numbers have a comma before their decimals.")]
Csv = Annotated[Path, typer.Argument(help="A CSV file.")]
Yes = Annotated[bool, typer.Option("--yes", help="Allow the command it runs without being asked.")]


AGAIN = "Remembered for the next table with the same heading."


def add_bench_commands(app: typer.Typer, console: Console) -> None:
    """Add these commands."""

    @app.command()
    def benchmarks(
        logbook: LogbookPath,
        use: Annotated[str, typer.Option(help="Run these from now on: names with commas between, or 'all'.")] = "",
        memory: Annotated[
            int | None, typer.Option(help="What memory loads may take, in MiB; 0 leaves it to them.")
        ] = None,
        folder: Annotated[Path | None, typer.Option(help="Where storage is tested.")] = None,
        nice: Annotated[int | None, typer.Option(help="Lower the priority of workloads by this much.")] = None,
        processors: Annotated[
            str | None, typer.Option(help="Put workers on these only: numbers with commas between.")
        ] = None,
        others_at_most: Annotated[
            float | None, typer.Option(help="Put up with so much work of other programs, in % of the machine.")
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Show which benchmarks are run, or choose them and how they are run."""
        with opened(lambda: open_logbook(logbook)) as session:
            if use:
                every = tuple(w.id for w in session.snapshot.declaration.workloads if w.scored and not w.by_hand)
                session.do(ChooseBenchmarks(every if use == "all" else tuple(each.strip() for each in use.split(","))))
            changes = {"memory_mib": memory, "folder": str(folder.resolve()) if folder else None, "nice": nice,
                       "processors": _processors(processors)}  # fmt: skip
            _keep_settings(session, {k: v for k, v in changes.items() if v is not None}, others_at_most)
            chosen = {w.id for w in session.snapshot.declaration.benchmarks}
            scored = [w for w in session.snapshot.declaration.workloads if w.scored]
            if as_json:
                print_json({"benchmarks": [{"id": w.id, "name": w.name, "run": w.id in chosen} for w in scored]})
                return
            for work in scored:
                mark = say("typed in") if work.by_hand else say("run") if work.id in chosen else "-"
                console.print(f"{mark:9} {work.id}: {work.name} ({work.metric.unit}, {named(work.metric.direction)})")

    @app.command()
    def result(
        logbook: LogbookPath,
        step: StepNumber,
        benchmark: Annotated[str, typer.Argument(help="What was measured.")],
        score: Annotated[float, typer.Argument(help="The figure.")],
        unit: Unit = "",
        lower: Lower = False,
        preset: Preset = "",
        passage: Passage = "",
        note: NoteText = "",
        part: Annotated[list[str] | None, typer.Option(help="A sub-score, as name=figure; may be given again.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Type in a figure that was measured elsewhere, at a step's settings."""
        told = MeasuredWith(preset, passage, note, tuple(_part(text) for text in part or ()))
        with opened(lambda: open_logbook(logbook)) as session:
            added = session.do(TypeIn(step, benchmark, score, unit, _direction(lower), told))
            _print_added(session.snapshot, [added], console, as_json)

    imports = typer.Typer(help="Read figures, frame times or sensor logs of other programs from CSV files.")
    app.add_typer(imports, name="import")

    @imports.command("scores")
    def scores(
        logbook: LogbookPath,
        step: StepNumber,
        file: Csv,
        name_column: Annotated[str | None, typer.Option(help=f"The column with the benchmarks' names. {AGAIN}")] = None,
        score_column: Annotated[str | None, typer.Option(help=f"The column with the figures. {AGAIN}")] = None,
        unit: Unit = "",
        lower: Lower = False,
        preset: Preset = "",
        passage: Passage = "",
        note: NoteText = "",
        decimal_comma: Comma = False,
        leave: Annotated[
            list[str] | None,
            typer.Option(
                help="A column that tells no settings apart and is left out; again for more.", show_default=False
            ),
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Read a table of figures, all of them measured at the settings of one step."""
        with opened(lambda: open_logbook(logbook)) as session:
            told = MeasuredWith(preset, passage, note)
            head, asked = columns_of(file), {"name_column": name_column, "score_column": score_column}
            meant = remembered(session.snapshot, "scores", head, asked)
            columns = (meant["name_column"], meant["score_column"])
            found = session.do(
                ImportScores(step, file, columns, unit, _direction(lower), told, decimal_comma, tuple(leave or ()))
            )
            _print_added(session.snapshot, found, console, as_json)
            session.do(RememberColumns("scores", head, meant))

    @imports.command("frames")
    def frames(
        logbook: LogbookPath,
        step: StepNumber,
        file: Csv,
        benchmark: Annotated[str, typer.Argument(help="What was measured.")],
        column: Annotated[
            str | None, typer.Option(help=f"The column with the frame times, by name or number. {AGAIN}")
        ] = None,
        unit: Annotated[str, typer.Option(help="Their unit: ms, s or us.")] = "ms",
        stamps: Annotated[bool, typer.Option("--stamps", help="They are moments, not durations.")] = False,
        preset: Preset = "",
        passage: Passage = "",
        note: NoteText = "",
        decimal_comma: Comma = False,
        as_json: AsJson = False,
    ) -> None:
        """Read a series of frame times: its mean rate, its lows and its late frames are kept."""
        with opened(lambda: open_logbook(logbook)) as session:
            told = MeasuredWith(preset, passage, note)
            head = columns_of(file)
            meant = remembered(session.snapshot, "frames", head, {"column": column})
            added = session.do(ImportFrames(step, file, benchmark, meant["column"], unit, told, stamps, decimal_comma))
            _print_added(session.snapshot, [added], console, as_json)
            session.do(RememberColumns("frames", head, meant))

    @imports.command("sensors")
    def sensors(
        logbook: LogbookPath,
        step: StepNumber,
        file: Csv,
        time: Annotated[
            str | None, typer.Option(help=f"The column with the times: seconds, or dates and times. {AGAIN}")
        ] = None,
        column: Annotated[
            list[str] | None,
            typer.Option(help=f"A column to keep, as 'column=name in unit'; may be given again. {AGAIN}"),
        ] = None,
        zone: Annotated[str, typer.Option(help="The time zone of its dates, such as Europe/Berlin.")] = "",
        decimal_comma: Comma = False,
        as_json: AsJson = False,
    ) -> None:
        """Read another program's log of sensors and keep it with the step."""
        with opened(lambda: open_logbook(logbook)) as session:
            head = columns_of(file)
            meant = remembered(session.snapshot, "sensors", head, {"time": time, "column": column})
            pairs = (text.partition("=") for text in meant["column"])
            channels = {name: kept or name for name, _, kept in pairs}
            count = session.do(ImportSensors(step, file, meant["time"], channels, zone, decimal_comma))
            session.do(RememberColumns("sensors", head, meant))
            words = say(
                "{count} samples of {values} are kept with step {step}.",
                count=count,
                values=", ".join(channels.values()),
                step=step,
            )
            tell(console, as_json, words, step=step, samples=count, channels=list(channels.values()))


def add_own_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about workloads of your own, meters and the helper."""
    own = typer.Typer(help="Workloads of your own: any command with a number in what it prints.")
    app.add_typer(own, name="workload")

    @own.command("add")
    def add(logbook: LogbookPath, file: Path, yes: Yes = False, as_json: AsJson = False) -> None:
        """Add a workload from its file (docs/workload-file.md)."""
        with opened(lambda: open_logbook(logbook)) as session:
            workload = session.do(AddWorkload(this_machine.read_command(file), str(file)))
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
            names = session.do(AddOwn(this_machine.read_own(file), file.name))
            allowed = _ask_to_allow(session, yes, console, as_json)
            words = say("Kept: {names}.", names=listed(list(names)))
            tell(console, as_json, words, names=list(names), allowed=allowed)

    @own.command("list")
    def own_list(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """List them, with what they run, and which aren't offered and why."""
        with opened(lambda: open_logbook(logbook)) as session:
            things, missing = (
                this_machine.own_things(session.snapshot.kept),
                this_machine.not_offered(session.snapshot.kept),
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
                say("Allowed: {names}.", names=listed(allowed) or say("nothing was asked")),
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

    helper = typer.Typer(help="The helper that sets, as root, what only root may set (docs/helper.md).")
    app.add_typer(helper, name="helper")

    @helper.command("install")
    def install(as_json: AsJson = False) -> None:
        """Install the helper and the policy for it; needs root."""
        made = helper_install.install()
        words = "\n".join(say("installed {path}", path=path) for path in made)
        tell(console, as_json, words, files=[str(path) for path in made])

    @helper.command("remove")
    def uninstall(as_json: AsJson = False) -> None:
        """Remove the helper and its policy; needs root."""
        gone = helper_install.remove()
        words = "\n".join(say("removed {path}", path=path) for path in gone)
        tell(console, as_json, words, files=[str(path) for path in gone])


def _keep_settings(session: Session, changes: dict[str, object], others_at_most: float | None) -> None:
    if changes or others_at_most is not None:
        session.do(ChangeRunSettings(changes, others_at_most))


def _processors(text: str | None) -> tuple[int, ...] | None:
    if text is None:
        return None
    try:
        return tuple(int(part) for part in text.split(",") if part.strip())
    except ValueError:
        raise KnownError(
            say("'{words}' are no processors.", words=text), say("Write their numbers, such as 0,2,4.")
        ) from None


def _part(text: str) -> tuple[str, float]:
    name, _, value = text.partition("=")
    try:
        return name.strip(), float(value)
    except ValueError:
        raise KnownError(say("'{words}' names no sub-score.", words=text), say("Write it as name=figure.")) from None


def _direction(lower: bool) -> Direction:
    return Direction.LOWER if lower else Direction.HIGHER


def _print_added(book: Snapshot, found: list[AddedResult], console: Console, as_json: bool) -> None:
    if as_json:
        told = [
            {"id": a.id, "step": a.step, "benchmark": a.workload, "score": a.score, "facts": a.measured.facts()}
            for a in found
        ]
        print_json({"figures": told})
        return
    for added in found:
        metric = book.declaration.workload(added.workload).metric
        parts = ", ".join(f"{name} {value:.1f}" for name, value in added.measured.parts.items())
        words = f"{metric.name} {quantity(added.score, metric.unit, metric.digits)}"
        told_parts = f" ({parts})" if parts else ""
        console.print(say("Kept with step {step}: {words}{parts}.", step=added.step, words=words, parts=told_parts))


def _ask_to_allow(session: Session, yes: bool, console: Console, as_json: bool) -> list[str]:
    """Allow the commands that aren't yet, asking unless `yes`; gives their names."""
    allowed = []
    for asked in this_machine.not_allowed(session.snapshot.kept):
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
