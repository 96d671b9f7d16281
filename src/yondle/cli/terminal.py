"""The terminal the command line writes to, or what stands in its place."""

from __future__ import annotations

import os
import sys
from typing import IO, Any

from rich.console import Console

from yondle.cli.quiet import is_quiet

WIDEST = 1000
"""Lines and tables are this wide at most where nobody's terminal ends them sooner: programs and files need no breaks."""


def console_for(stream: IO[str] | None = None) -> Console:
    """Make a console as wide as the terminal; where there is none nothing is wrapped or cut, unless COLUMNS says how wide."""
    there = (stream or sys.stdout).isatty() or "COLUMNS" in os.environ
    return _Console(highlight=False, soft_wrap=False, markup=False, width=None if there else WIDEST)


class _Console(Console):
    """A console that says nothing where nothing is to be said, whenever it was made."""

    def print(self, *what: Any, **how: Any) -> None:
        """Print, unless quiet."""
        if not is_quiet():
            super().print(*what, **how)
