"""The two kinds of trouble that have names: what somebody can put right, and a machine that went down."""

from __future__ import annotations

from yondle.model.verdicts import Failure

_SPACES = "\n\u00a0\u202f"
"""Not printable by Unicode's word for it, but wanted: line ends, and spaces that don't break a line."""


class KnownError(Exception):
    """Something the user or the machine can put right: what is wrong, and what to do about it.

    Names in it may come from anywhere, so characters that aren't seen, which could steer a terminal, are dots.
    """

    def __init__(self, problem: str, remedy: str) -> None:
        self.problem, self.remedy = _seen(problem), _seen(remedy)
        super().__init__(f"{self.problem} {self.remedy}")

    def __reduce__(self) -> tuple[type[KnownError], tuple[str, str]]:
        """Keep both parts where it goes from one process to another."""
        return type(self), (self.problem, self.remedy)


def _seen(words: str) -> str:
    return words if words.isprintable() else "".join(c if c.isprintable() or c in _SPACES else "·" for c in words)


class MachineDownError(Exception):
    """The machine under test froze, restarted or never started; raised by whatever touched it next."""

    def __init__(self, failure: Failure, code: str = "", signs: tuple[str, ...] = ()) -> None:
        """`signs` describe what the machine kept of it, where it is up again and tells."""
        super().__init__(failure.value)
        self.failure = failure
        self.code = code
        self.signs = signs
