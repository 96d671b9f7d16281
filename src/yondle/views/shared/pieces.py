"""What is worked out in pieces, for a face that has to answer in between."""

from __future__ import annotations

from collections.abc import Generator
from typing import TypeVar

T = TypeVar("T")
Pieces = Generator[None, None, T]
"""Works something out, with a pause after each piece, and returns it."""


def at_once(pieces: Pieces[T]) -> T:
    """Work it out to its end, and give what came of it."""
    while True:
        try:
            next(pieces)
        except StopIteration as end:
            made: T = end.value
            return made
