"""Which columns of a table mean what: remembered for the next table with the same heading."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.formats.documents import Mappings
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.views.shared.snapshot import Snapshot

_MOST = 100
"""So many headings are remembered; the oldest are forgotten first."""


def remembered(snapshot: Snapshot, kind: str, columns: tuple[str, ...], told: dict[str, Any]) -> dict[str, Any]:
    """Fill in what wasn't told from the last table of a kind with these columns; raises KnownError where nothing tells it."""
    kept = snapshot.kept.of(Mappings).root.get(_key(kind, columns), {})
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


@dataclass(frozen=True)
class RememberColumns(Command[None]):
    """Keep what the columns of a table of a kind mean."""

    kind: str
    columns: tuple[str, ...]
    told: Mapping[str, Any]
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep it as the latest."""
        key = _key(self.kind, self.columns)
        kept = {name: told for name, told in session.snapshot.kept.of(Mappings).root.items() if name != key}
        kept[key] = dict(self.told)
        session.keep(Mappings(dict(list(kept.items())[-_MOST:])))


def _key(kind: str, columns: tuple[str, ...]) -> str:
    return "\t".join((kind, *(column.strip().casefold() for column in columns)))
