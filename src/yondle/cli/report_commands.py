"""`yondle report`: what was found, written so that others can judge it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.reports.report_choices import AskQuestion, ChooseSections, parts_named
from yondle.app.reports.report_files import write_report
from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import tell
from yondle.language.saying import say


def add_report_command(app: typer.Typer, console: Console) -> None:
    """Add `report`, which writes a report as a page, a document or text."""

    @app.command()
    def report(
        logbook: LogbookPath,
        file: Annotated[
            Path, typer.Argument(help="Where to write it; .html, .pdf or .md says as what.", show_default=False)
        ],
        question: Annotated[str | None, typer.Option(help="The question it answers; kept in the logbook.")] = None,
        sections: Annotated[str | None, typer.Option(help="Which sections, in which order; kept, too.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Write a report: conditions, what was tried, gains with margins, failures, limits, settings, how to repeat it."""
        with opened(lambda: open_logbook(logbook)) as session:
            if question is not None:
                session.do(AskQuestion(question))
            if sections is not None:
                session.do(ChooseSections(parts_named(sections)))
            written = write_report(session.snapshot, file)
        words = say("{file} is written ({written} bytes).", file=file, written=written)
        tell(console, as_json, words, file=str(file), bytes=written)
