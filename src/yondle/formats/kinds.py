"""Files dropped onto the window: logbooks are opened, plans, profiles and descriptions go to Tune, tables to their page."""

from __future__ import annotations

import re
from enum import StrEnum
from pathlib import Path

from yondle.language.saying import say
from yondle.model.errors import KnownError

BOOK, DESCRIPTION = ".yondle", ".toml"
_LOOKED_AT = 4096
_FORMAT = re.compile(r'^\s*format\s*=\s*"(yondle-[a-z-]+) \d+"', re.MULTILINE)


class Dropped(StrEnum):
    """What a description is of, by the format it names."""

    PLAN = "yondle-plan"
    PROFILE = "yondle-profile"
    OWN = "yondle-own"
    WORKLOAD = "yondle-workload"


def kind_of(path: Path) -> Dropped:
    """Tell what a description describes; raises KnownError for one that names no format of these, or can't be read."""
    try:
        with path.open(encoding="utf-8", errors="replace") as file:
            found = _FORMAT.search(file.read(_LOOKED_AT))
    except OSError as error:
        raise KnownError(say("{path} can't be read.", path=path.name), f"{error.strerror}.") from error
    if found is None or found[1] not in set(Dropped):
        known = ", ".join(f'format = "{kind} 1"' for kind in Dropped)
        raise KnownError(
            say("{path} isn't one of Yondle's files.", path=path.name),
            say("A plan, profile, workload or description says so in a line of its own: {known}.", known=known),
        )
    return Dropped(found[1])
