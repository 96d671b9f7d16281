"""The two kinds of trouble that have names: what somebody can put right, and a machine that went down."""

from __future__ import annotations

from yondle.model.verdicts import Failure


class KnownError(Exception):
    """Something the user or the machine can put right: what is wrong, and what to do about it."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(f"{problem} {remedy}")
        self.problem = problem
        self.remedy = remedy


class MachineDownError(Exception):
    """The machine under test froze, restarted or never started; raised by whatever touched it next."""

    def __init__(self, failure: Failure, code: str = "") -> None:
        super().__init__(failure.value)
        self.failure = failure
        self.code = code
