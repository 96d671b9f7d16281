"""`yondle record`, `yondle knob`, `yondle import table`: steps that are only told of, and whole tables brought in."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.books.tables_out import as_cells, finite, table_out, write_table
from yondle.app.session.describing import DescribeKnob
from yondle.app.session.importing import ImportTable, TableLook, look_at_table
from yondle.app.session.opening import open_logbook
from yondle.app.session.recording import HowItWent, Record, Recorded, ToldStep, figure_told, seconds_of, way_of
from yondle.app.session.tables import Role, Shape, Sheet, Wish, Wishes, chosen_sheet, read_sheets, sheet_of_text
from yondle.cli.running import AsJson, LogbookPath, named_value, opened
from yondle.cli.shown import print_json, print_table, tell
from yondle.language.saying import listed, named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import count
from yondle.model.workloads import Direction

COLUMN = "What a column is, as 'head=role:name, unit'; again for more."


def add_table_commands(app: typer.Typer, console: Console) -> None:
    """Add these commands."""

    @app.command()
    def record(
        logbook: LogbookPath,
        values: Annotated[
            list[str] | None, typer.Argument(help="What was set, as knob=value.", show_default=False)
        ] = None,
        figure: Annotated[
            list[str] | None,
            typer.Option(
                "--figure", help="What was measured, as 'name=61.2 frames/s'; again for more.", show_default=False
            ),
        ] = None,
        lower: Annotated[
            list[str] | None,
            typer.Option("--lower", help="A benchmark of which less is better; again for more.", show_default=False),
        ] = None,
        held: Annotated[bool, typer.Option("--held", help="It held.")] = False,
        failed: Annotated[
            str, typer.Option(help="How it failed, such as froze, 'program crashed', 'never started'.")
        ] = "",
        stage: Annotated[str, typer.Option(help="At which stage it failed.")] = "",
        after: Annotated[str, typer.Option(help="After how long it failed, such as 12min.")] = "",
        code: Annotated[str, typer.Option(help="The code that was shown.")] = "",
        load: Annotated[str, typer.Option(help="The load that ran; with --for it counts as time under it.")] = "",
        for_: Annotated[str, typer.Option("--for", help="How long it ran, such as 8h.")] = "",
        note: Annotated[str, typer.Option(help="Anything else about it.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Record a step that Yondle didn't test: settings, how it went, figures."""
        with opened(lambda: open_logbook(logbook)) as session:
            book = session.snapshot
            setup = book.in_force.with_values(
                {k.id: v for k, v in (named_value(book.declaration, t) for t in values or ())}
            )
            went = HowItWent(
                held, way_of(failed) if failed else None, stage, seconds_of(after) if after else None, code, load,
                seconds_of(for_) if for_ else None,
            )  # fmt: skip
            figures = tuple(figure_told(book, text, tuple(lower or ())) for text in figure or ())
            made = session.do(Record((ToldStep(setup, went, figures, note),), moves=True))
            _print_recorded(made, console, as_json)

    @app.command()
    def knob(
        logbook: LogbookPath,
        name: Annotated[str, typer.Argument(help="What it is called.")],
        low: Annotated[float | None, typer.Option(help="Its lowest value.")] = None,
        high: Annotated[float | None, typer.Option(help="Its highest value.")] = None,
        step: Annotated[float | None, typer.Option(help="From one value to the next.")] = None,
        stock: Annotated[str, typer.Option(help="The value the machine came with.")] = "",
        unit: Annotated[str, typer.Option(help="Its unit, such as MHz.")] = "",
        choices: Annotated[str, typer.Option(help="The words of a switch or mode, with commas between.")] = "",
        part: Annotated[
            str, typer.Option(help="The part it belongs to: processor, memory, graphics, cooling …")
        ] = "machine",
        as_json: AsJson = False,
    ) -> None:
        """Describe a knob of a machine elsewhere (--rig elsewhere)."""
        with opened(lambda: open_logbook(logbook)) as session:
            words = tuple(w.strip() for w in choices.split(",") if w.strip())
            made = session.do(DescribeKnob(name, unit, part, low, high, step, stock, words))
            tell(
                console, as_json, say("{knob} is known from now on, as '{id}'.", knob=made.name, id=made.id), id=made.id
            )


def add_table_out(app: typer.Typer, console: Console) -> None:
    """Add `yondle table`."""

    @app.command()
    def table(
        logbook: LogbookPath,
        what: Annotated[
            list[str] | None,
            typer.Argument(
                help="steps, figures, log, sensitivities, 'scaling KNOB', 'map KNOB KNOB', or 'compare COLUMN …'; by default"
                " steps.",
                show_default=False,
            ),
        ] = None,
        to: Annotated[
            Path | None, typer.Option(help="Where to: .csv, .xlsx or .md; else cells for a spreadsheet are printed.")
        ] = None,
        benchmark: Annotated[str, typer.Option(help="Of a map: a benchmark; by default the first.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Take a table out: settings with gains beside the figures, single figures, or what a place shows."""
        with opened(lambda: open_logbook(logbook)) as session:
            made = table_out(session.snapshot, tuple(what or ("steps",)), benchmark)
        if as_json:
            rows = [[finite(value) for value in row] for row in made.rows]
            print_json({"title": made.title, "columns": [column.head for column in made.columns], "rows": rows})
        if to is None:
            if not as_json:
                print(as_cells(made))
            return
        write_table(to, made)
        if not as_json:
            console.print(say("{file}: {rows}.", file=to, rows=count(len(made.rows), "row")))


def add_import_table(imports: typer.Typer, console: Console) -> None:
    """Add `yondle import table`."""

    @imports.command("table")
    def table(
        logbook: LogbookPath,
        file: Annotated[
            str, typer.Argument(help="A sheet: CSV, TSV, Excel or OpenDocument; - reads what is piped in.")
        ],
        look: Annotated[bool, typer.Option("--look", help="Only say what would be made of it.")] = False,
        sheet: Annotated[str, typer.Option(help="Which sheet of the file, by name or number.")] = "",
        column: Annotated[list[str] | None, typer.Option("--column", help=COLUMN, show_default=False)] = None,
        shape: Annotated[str, typer.Option(help="figure, setting or benchmark: what a row is.")] = "",
        setting: Annotated[str, typer.Option(help="The knob whose values are the heads of columns.")] = "",
        benchmark: Annotated[str, typer.Option(help="What was measured, where no column says so.")] = "",
        stock: Annotated[
            list[str] | None,
            typer.Option("--stock", help="Stock of a new knob, as column=value; again for more.", show_default=False),
        ] = None,
        unit: Annotated[
            list[str] | None,
            typer.Option("--unit", help="The unit of a benchmark, as name=unit; again for more.", show_default=False),
        ] = None,
        lower: Annotated[
            list[str] | None,
            typer.Option("--lower", help="A benchmark of which less is better; again for more.", show_default=False),
        ] = None,
        decimal: Annotated[str, typer.Option(help="What stands before decimals: . or ,")] = "",
        head_rows: Annotated[int | None, typer.Option(help="How many rows its head has.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Bring in a whole table: settings, benchmarks, runs, how it went. Bringing it in again adds nothing twice."""
        read = (
            sheet_of_text(sys.stdin.read(), say("the clipboard"))
            if file == "-"
            else chosen_sheet(read_sheets(Path(file)), sheet)
        )
        with opened(lambda: open_logbook(logbook)) as session:
            wishes = Wishes(
                _wishes(read, column or ()), _shape(shape), _decimal(decimal), head_rows,
                benchmark, setting, dict(_pair(text) for text in unit or ()), dict.fromkeys(lower or (), True),
            )  # fmt: skip
            told = dict(_pair(text) for text in stock or ())
            seen = look_at_table(session.snapshot, read, wishes, told)
            if look:
                _print_look(seen, console, as_json)
                return
            if not as_json:
                _print_look(seen, console, False)
            _print_recorded(session.do(ImportTable(read, wishes, told)), console, as_json)


def _wishes(sheet: Sheet, texts: Sequence[str]) -> dict[int, Wish]:
    made: dict[int, Wish] = {}
    for text in texts:
        head, told = _pair(text)
        role, _, rest = told.partition(":")
        name, _, unit = rest.partition(",")
        found = next((r for r in Role if role.strip().casefold() in (r.value, r.name.lower())), None)
        if found is None:
            raise KnownError(
                say("A column can't be '{role}'.", role=role),
                say("It is one of: {roles}.", roles=", ".join(r.name.lower() for r in Role)),
            )
        unit, lower = unit.replace("\u2193", "").strip(), True if "\u2193" in unit else None
        made[sheet.place_of(head)] = Wish(found, name.strip() or None, unit or None, lower)
    return made


def _shape(text: str) -> Shape | None:
    if not text:
        return None
    found = {"figure": Shape.BY_FIGURE, "setting": Shape.BY_SETTING, "benchmark": Shape.BY_BENCHMARK}.get(
        text.casefold()
    )
    if found is None:
        raise KnownError(say("A row can't be a '{text}'.", text=text), say("It is a figure, a setting or a benchmark."))
    return found


def _decimal(text: str) -> str:
    if text not in ("", ".", ","):
        raise KnownError(say("'{text}' doesn't stand before decimals.", text=text), say("Give . or ,"))
    return text


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals or not name.strip() or not value.strip():
        raise KnownError(say("'{text}' says nothing of a column.", text=text), say("Write it as head=what it is."))
    return name.strip(), value.strip()


def _print_look(seen: TableLook, console: Console, as_json: bool) -> None:
    gathered, found = seen.gathered, seen.found
    if as_json:
        print_json(
            {
                "shape": str(found.shape), "settings": gathered.settings, "benchmarks": list(gathered.benchmarks),
                "figures": gathered.figures, "told": list(gathered.told), "left": list(gathered.left),
                "problems": list(gathered.problems),
                "columns": [
                    {"head": c.head.text, "role": str(c.role), "name": c.name.strip(), "unit": c.unit, "why": named(c.why)}
                    for c in found.columns
                ],
            }
        )  # fmt: skip
        return
    rows = [
        (c.head.text, named(c.role), _called(c.name.strip(), c.part, c.value), c.unit, named(c.why))
        for c in found.columns
    ]
    print_table(console, (say("column"), say("is"), say("called"), say("unit"), say("since")), rows)
    console.print(f"{named(found.shape)}: {seen.words}")
    for name, (unit, lower) in gathered.measured_in.items():
        which = named(Direction.LOWER if lower else Direction.HIGHER)
        console.print(f"{name}: {unit or say('no unit')}, {which}")
    for words in gathered.told:
        console.print(words)
    for words in gathered.problems:
        console.print(f"! {words}")


def _called(name: str, part: str, value: str) -> str:
    return " \u00b7 ".join(dict.fromkeys(each for each in (name, part, value) if each))


def _print_recorded(made: Recorded, console: Console, as_json: bool) -> None:
    words = [count(made.figures, "figure")] if made.figures else []
    steps = (
        say("step {steps}", steps=listed([str(n) for n in made.steps]))
        if len(made.steps) < 6
        else count(len(made.steps), "step")
    )
    there = say(" {n} were there already.", n=made.there) if made.there else ""
    kept = say("Recorded: {what}.", what=listed([steps, *words])) if made.steps else say("Nothing in it is new.")
    tell(
        console,
        as_json,
        kept + there,
        steps=list(made.steps),
        new_steps=made.made,
        figures=made.figures,
        there=made.there,
    )
