"""Commands about what is measured: which benchmarks are run and how, and figures from elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.session.limits import ChooseBenchmarks
from yondle.app.session.mappings import RememberColumns, remembered
from yondle.app.session.measuring import ChangeRunSettings
from yondle.app.session.opening import open_logbook
from yondle.app.session.results import (
    ImportFrames,
    ImportLogs,
    ImportScores,
    ImportSensors,
    MeasuredWith,
    TypeIn,
    columns_of,
)
from yondle.app.session.session import Session
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, tell
from yondle.cli.table_commands import add_import_table
from yondle.language.saying import named, say
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
            float | None, typer.Option(help="Tolerate this much work of other programs, in % of the machine.")
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

    imports = typer.Typer(help="Read whole tables, figures, frame times or sensor logs of other programs.")
    app.add_typer(imports, name="import")

    add_import_table(imports, console)

    @imports.command("logs")
    def logs(
        logbook: LogbookPath,
        step: StepNumber,
        files: Annotated[
            list[Path], typer.Argument(help="Logs of frame times or sensors, as CSV.", show_default=False)
        ],
        benchmark: Annotated[str, typer.Option(help="What frame times are of; else the file's name.")] = "",
        zone: Annotated[str, typer.Option(help="The time zone of dates, such as Europe/Berlin.")] = "",
        decimal_comma: Comma = False,
        as_json: AsJson = False,
    ) -> None:
        """Read logs of frame times and of sensors, as many as there are, told by their heads."""
        with opened(lambda: open_logbook(logbook)) as session:
            read = session.do(ImportLogs(step, tuple(files), benchmark, zone, decimal_comma))
            if read.figures or as_json:
                _print_added(session.snapshot, list(read.figures), console, as_json)
            if read.samples and not as_json:
                console.print(say("{n} samples are kept with step {step}.", n=read.samples, step=step))

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
        stamps: Annotated[bool, typer.Option("--stamps", help="They are points in time, not durations.")] = False,
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
