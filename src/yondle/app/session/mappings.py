"""Which columns of a table mean what: remembered for the next table with the same heading."""

from __future__ import annotations

from typing import Any

from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError

MAPPINGS = "mappings"
_MOST = 100
"""So many headings are remembered; the oldest are forgotten first."""


def remembered(session: Session, kind: str, columns: tuple[str, ...], told: dict[str, Any]) -> dict[str, Any]:
    """Fill in what wasn't told from the last table of a kind with these columns; raises KnownError where nothing tells it."""
    kept = (session.logbook.keeping.value(MAPPINGS) or {}).get(_key(kind, columns), {})
    made = {name: kept.get(name) if value in (None, [], ()) else value for name, value in told.items()}
    missing = [name.replace("_", "-") for name, value in made.items() if value in (None, [], ())]
    if missing:
        raise KnownError(
            say(
                "Which column is it? --{missing} isn't told, and no table with this heading was read before.",
                missing=missing[0],
            ),
            say("It has: {columns}.", columns=", ".join(columns)),
        )
    return made


def remember(session: Session, kind: str, columns: tuple[str, ...], told: dict[str, Any]) -> None:
    """Keep what the columns of a table mean."""
    kept: dict[str, Any] = dict(session.logbook.keeping.value(MAPPINGS) or {})
    kept.pop(_key(kind, columns), None)
    kept[_key(kind, columns)] = told
    session.logbook.keeping.keep(MAPPINGS, dict(list(kept.items())[-_MOST:]))


def _key(kind: str, columns: tuple[str, ...]) -> str:
    return "\t".join((kind, *(column.strip().casefold() for column in columns)))
