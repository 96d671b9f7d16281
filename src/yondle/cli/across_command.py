"""`yondle bench`: how a machine across the room is reached, and what may restart it."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.session.across import LookAtBench, RestartWith
from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json


def add_across_command(app: typer.Typer, console: Console) -> None:
    """Add it."""

    @app.command()
    def bench(
        logbook: LogbookPath,
        restart_with: Annotated[
            str | None,
            typer.Option(
                help="The command on this computer that makes it start again; '' for none.", show_default=False
            ),
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Say how a machine across the room is reached, and what restarts it where it freezes."""
        with opened(lambda: open_logbook(logbook)) as session:
            if restart_with is not None:
                session.do(RestartWith(restart_with))
            told = session.do(LookAtBench())
            if as_json:
                print_json(asdict(told))
                return
            for each in told.lines():
                console.print(each)
