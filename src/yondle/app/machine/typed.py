"""Figures as they are typed."""

from __future__ import annotations

from yondle.language.saying import DECIMAL_MARK, say
from yondle.model.errors import KnownError
from yondle.workloads.commands import number


def figure(text: str) -> float:
    """Read a figure as it was typed, with a point or the language's decimal mark; raises KnownError for what is no number."""
    try:
        return number(text.replace(DECIMAL_MARK, "."))
    except ValueError:
        raise KnownError(
            say("'{words}' is no figure.", words=text), say("Type it as a number with a point, such as 61.5.")
        ) from None
