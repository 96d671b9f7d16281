"""`yondle status`: what a logbook stands at; apart from the others, so that looking loads nothing that tests."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.console import Console

from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_in_force, print_json, print_resumed, print_trail, print_waiting, status_values


def add_status_command(app: typer.Typer, console: Console) -> None:
    """Add it."""

    @app.command()
    def status(
        logbook: LogbookPath,
        benchmark: Annotated[str, typer.Option(help="The benchmark whose gains are shown.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Show the trail, what is in force, and what was found open."""
        with opened(lambda: open_logbook(logbook)) as session:
            if as_json:
                print_json(status_values(session.snapshot))
                return
            print_resumed(session.snapshot, console)
            if session.snapshot.waiting is not None:
                print_waiting(session.snapshot, console)
            print_trail(session.snapshot, console, benchmark)
            print_in_force(session.snapshot, console)
