"""What a rig file's figures lead to when they don't fit together: a sentence, never a fault of the program."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

from yondle.language.saying import say
from yondle.model.errors import KnownError

_Held = TypeVar("_Held")


def reckons(*methods: str) -> Callable[[type[_Held]], type[_Held]]:
    """Have methods of a class say in a sentence where the figures of a rig file lead beyond what can be reckoned with.

    Each figure of a file lies within sense, but no check of single ones can tell what some of them give together.
    """

    def told(method: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(method)
        def reckoned(*args: Any, **kwargs: Any) -> Any:
            try:
                return method(*args, **kwargs)
            except (ArithmeticError, ValueError, IndexError, TypeError) as error:
                raise KnownError(
                    say("The figures of this simulated rig can't be reckoned with ({error}).", error=error),
                    say("Correct its rig file: see docs/rig-model.md for what each of them does."),
                ) from error

        return reckoned

    def of(kind: type[_Held]) -> type[_Held]:
        for name in methods:
            setattr(kind, name, told(getattr(kind, name)))
        return kind

    return of
