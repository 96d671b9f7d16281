"""The command line of `yondle`. Errors that can be put right end with code 2 and a sentence; faults of the program with 1."""

from __future__ import annotations

from typing import Annotated

import typer

from yondle import __version__
from yondle.cli.lazy import LazyGroup
from yondle.cli.orders import OpenWindow, WindowOrder


def build(open_window: OpenWindow) -> typer.Typer:
    """Make the command line; `open_window` shows the window and returns an exit code."""
    app = typer.Typer(
        cls=LazyGroup, add_completion=True, no_args_is_help=False, pretty_exceptions_enable=False, rich_markup_mode=None,
        help="Yondle: a logbook for PC tuners. Without a command it opens the window.",
    )  # fmt: skip

    @app.callback(invoke_without_command=True)
    def root(
        context: typer.Context,
        version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
        quiet: Annotated[
            bool, typer.Option("--quiet", help="Say nothing but troubles; may stand anywhere, also after a command.")
        ] = False,
    ) -> None:
        context.obj = open_window
        if version:
            print(f"yondle {__version__}")
            raise typer.Exit
        if context.invoked_subcommand is None:
            raise typer.Exit(open_window(WindowOrder(None)))

    return app
