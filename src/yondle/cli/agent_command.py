"""`yondle agent`: what ssh starts on a bench."""

from __future__ import annotations

import typer
from rich.console import Console

from yondle.app.machine.agent import serve_notebook


def add_agent_command(app: typer.Typer, console: Console) -> None:
    """Add it; `main` runs it without this, since loading the command line takes longer than all it does."""
    del console

    @app.command()
    def agent() -> None:
        """Be the bench of a Yondle elsewhere, over standard input and output; its ssh starts this."""
        serve_notebook()
