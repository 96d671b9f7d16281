"""A table of transitions between states: what follows on what, and that nothing else does."""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum
from typing import Generic, TypeVar

S = TypeVar("S", bound=Enum)
E = TypeVar("E", bound=Enum)


class IllegalTransitionError(Exception):
    """Something came in a state that has no place for it: a fault of the program."""


class Transitions(Generic[S, E]):
    """The states that follow, by state and event."""

    def __init__(self, then: Mapping[tuple[S, E], S]) -> None:
        self.then = dict(then)

    def follow(self, state: S, event: E) -> S:
        """Give the state that follows; raises IllegalTransitionError where the table has none."""
        try:
            return self.then[state, event]
        except KeyError:
            raise IllegalTransitionError(f"'{event.value}' while '{state.value}'") from None

    def table(self) -> str:
        """Write the table as Markdown."""
        lines = ["| while | on | then |", "| --- | --- | --- |"]
        lines += [f"| {state.value} | {event.value} | {then.value} |" for (state, event), then in self.then.items()]
        return "\n".join(lines)
