"""What a command ends with, for scripts; 0 is done."""

from __future__ import annotations

from typing import Final

EXIT_BUG: Final = 1
"""A fault of the program."""
EXIT_KNOWN: Final = 2
"""Something to put right, said in a sentence."""
EXIT_NOT_HELD: Final = 3
"""With `--strict`: the step didn't hold."""
EXIT_INTERRUPTED: Final = 130
"""Ended by Ctrl+C, as shells give it."""
