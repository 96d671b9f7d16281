"""`yondle note`, `discard`, `attach`, `log`, `export`, `restore`, `share`, `merge`: writing on the record, passing it on."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.books.export import logbook_text, merge, passes_csv, read_archive, share, write
from yondle.app.session.opening import open_logbook
from yondle.app.session.remarks import (
    AttachFile,
    DiscardFigure,
    DiscardPass,
    WriteNote,
)
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, print_table, tell
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.verdicts import Verdict
from yondle.views.record.log import FIGURE, Filter, Kind, LogRows, book_title, matching, place_of, when_words

_SHOWN = 50


def add_record_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about the record."""

    @app.command()
    def note(
        logbook: LogbookPath,
        number: int,
        text: str,
        caveat: Annotated[bool, typer.Option(help="A caveat: it stands beside the results in every report.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Write a note at a step."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(WriteNote(number, text, caveat))
            tell(console, as_json, say("Noted at step {number}.", number=number), step=number)

    @app.command()
    def discard(
        logbook: LogbookPath,
        number: Annotated[int, typer.Argument(help="The step.")],
        which: Annotated[
            str, typer.Argument(help="The pass or figure, as 'yondle log' names it: test/pass or figure/number.")
        ],
        reason: Annotated[str, typer.Argument(help="Why; an empty one counts the pass again.")],
        as_json: AsJson = False,
    ) -> None:
        """Leave a pass or a typed figure out, or with an empty reason count it again; it stays in the logbook."""
        attempt, slash, ordinal = which.partition("/")
        if not slash or not (attempt == FIGURE or attempt.isdecimal()) or not ordinal.isdecimal():
            raise KnownError(
                say("'{which}' names no pass and no figure.", which=which),
                say("Write it as 'yondle log' does, for example 3/12 or figure/2."),
            )
        with opened(lambda: open_logbook(logbook)) as session:
            if attempt == FIGURE:
                session.do(DiscardFigure(number, int(ordinal), reason))
            else:
                session.do(DiscardPass(number, int(attempt), int(ordinal), reason))
            words = say("It counts again.") if not reason.strip() else say("It is left out of figures.")
            tell(console, as_json, words, step=number, which=which, counts=not reason.strip())

    @app.command(name="attach")
    def attach_(logbook: LogbookPath, number: int, file: Path, as_json: AsJson = False) -> None:
        """Keep a picture or another file at a step as proof."""
        with opened(lambda: open_logbook(logbook)) as session:
            made = session.do(AttachFile(number, file))
            words = say(
                "{made} is kept at step {number} ({bytes} bytes).", made=made.name, number=number, bytes=made.bytes
            )
            tell(console, as_json, words, step=number, name=made.name, bytes=made.bytes, sha256=made.sha256)

    @app.command()
    def log(
        logbook: LogbookPath,
        words: Annotated[list[str] | None, typer.Argument(help="Words that must stand in a row.")] = None,
        kind: Annotated[list[Kind] | None, typer.Option(help="Only rows of this kind.")] = None,
        benchmark: Annotated[str, typer.Option(help="Only rows of this benchmark, by its name.")] = "",
        verdict: Annotated[Verdict | None, typer.Option(help="Only what ended so.")] = None,
        most: Annotated[int, typer.Option(min=1, help="How many rows at the most.")] = _SHOWN,
        as_json: AsJson = False,
    ) -> None:
        """Look through everything the logbook holds: tests, passes, incidents, notes, figures, files."""
        with opened(lambda: open_logbook(logbook)) as session:
            rows = LogRows().rows([(book_title(session.snapshot), session.snapshot)])
            wanted = Filter(" ".join(words or []), frozenset(kind or ()), benchmark, verdict)
            found = matching(rows, wanted)
        if as_json:
            print_json({"rows": [{k: v for k, v in asdict(row).items() if k != "haystack"} for row in found]})
            return
        head = (say("when"), say("step"), say("kind"), say("pass"), say("what"), say("verdict"), say("left out"))
        print_table(
            console,
            head,
            [
                (
                    when_words(row.at), str(row.step), named(row.kind), place_of(row), row.what, row.word,
                    row.left_out,
                )
                for row in found[:most]
            ],
        )  # fmt: skip
        console.print(
            say("{sentence}: {found} of {rows} rows.", sentence=wanted.sentence, found=len(found), rows=len(rows))
        )

    @app.command()
    def export(
        logbook: LogbookPath,
        file: Annotated[
            Path | None,
            typer.Argument(help="Where to: .json holds everything, .csv every pass; - or nothing prints it."),
        ] = None,
        samples: Annotated[bool, typer.Option(help="Whether what the sensors said goes into JSON, too.")] = True,
        as_json: AsJson = False,
    ) -> None:
        """Write the whole logbook as JSON, or its passes as CSV."""
        to_terminal = file is None or str(file) == "-"
        ending = "" if file is None or to_terminal else file.suffix.lower()
        if not to_terminal and ending not in (".json", ".csv"):
            raise KnownError(
                say("A logbook isn't written as '{ending}'.", ending=ending or file),
                say("End the name in .json or .csv."),
            )
        with opened(lambda: open_logbook(logbook)) as session:
            table = ending == ".csv"
            text = passes_csv(session.snapshot) if table else logbook_text(session.snapshot, samples)
        if file is None or to_terminal:
            print(text, end="")
            return
        write(file, text)
        tell(console, as_json, say("{file} is written.", file=file), file=str(file))

    @app.command()
    def restore(archive: Path, logbook: LogbookPath, as_json: AsJson = False) -> None:
        """Make a logbook of what 'yondle export' wrote as JSON."""
        read_archive(archive, logbook)
        tell(console, as_json, say("{logbook} is made.", logbook=logbook), logbook=str(logbook))

    @app.command(name="share")
    def share_(
        logbook: LogbookPath,
        file: Annotated[Path, typer.Argument(help="The copy to make, ending in .yondle.")],
        files: Annotated[bool, typer.Option(help="Put the files kept as proof into it, too.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Make a copy to give away, without serial numbers, host and user names."""
        with opened(lambda: open_logbook(logbook)) as session:
            share(session.snapshot, file, files)
        words = say("{file} is made; look through it with 'yondle log' before you give it away.", file=file)
        tell(console, as_json, words, file=str(file))

    @app.command(name="merge")
    def merge_(
        one: Path,
        other: Path,
        into: Annotated[Path, typer.Argument(help="The logbook to make.")],
        as_json: AsJson = False,
    ) -> None:
        """Make one logbook of two about the same rig; both stay as they are."""
        steps = merge(one, other, into)
        tell(
            console, as_json, say("{into} holds {steps} steps.", into=into, steps=steps), logbook=str(into), steps=steps
        )
