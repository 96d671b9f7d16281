"""What the user prefers on this machine, whatever logbook is open, as a small file; and which logbooks were open last."""

from __future__ import annotations

import json
import tomllib
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from platformdirs import user_config_path, user_state_path

from yondle.formats.whole_files import own_folder, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError

MOST_RECENT = 12


@dataclass(frozen=True, slots=True)
class Preferences:
    """`scheme` is paper or night, and `language` a code such as 'de'; where they are empty the desktop's own is followed.

    `temperatures` is F for those to be shown in °F; else they are in °C, as they are kept.
    """

    scheme: str = ""
    language: str = ""
    temperatures: str = ""
    notify: bool = True
    sound: bool = False


def preferences_file() -> Path:
    """Where they are kept."""
    found: Path = user_config_path("yondle", appauthor=False) / "preferences.toml"
    return found


def preferences() -> Preferences:
    """Read them; what the file doesn't have, or has wrong, is as usual."""
    try:
        told = tomllib.loads(preferences_file().read_text("utf-8"))
    except (OSError, ValueError):
        return Preferences()
    usual = Preferences()
    names = {f.name for f in fields(Preferences)}
    known = {k: v for k, v in told.items() if k in names and type(v) is type(getattr(usual, k))}
    return Preferences(**known)


def keep_preferences(wanted: Preferences) -> None:
    """Keep them; raises KnownError where that can't be."""
    import tomlkit

    path = preferences_file()
    try:
        own_folder(path.parent)
    except OSError as error:
        raise KnownError(say("{path} can't be made ({why}).", path=path.parent, why=error.strerror), "") from error
    write_whole(path, tomlkit.dumps(asdict(wanted)), replaces=True)


def recent_books() -> tuple[Path, ...]:
    """List the logbooks that were open last, the latest first; those that are gone are left out."""
    try:
        told = json.loads(_recent_file().read_text("utf-8"))
    except (OSError, ValueError):
        return ()
    paths = [Path(each) for each in told if isinstance(each, str)] if isinstance(told, list) else []
    return tuple(path for path in paths if path.is_file())


def remember_book(path: Path) -> None:
    """Remember that a logbook was opened; where that can't be written nobody is bothered."""
    whole = path.resolve()
    kept = [whole, *(each for each in recent_books() if each != whole)][:MOST_RECENT]
    try:
        own_folder(_recent_file().parent)
        write_whole(_recent_file(), json.dumps([str(each) for each in kept], indent=1), replaces=True)
    except (OSError, KnownError):
        return


def _recent_file() -> Path:
    found: Path = user_state_path("yondle", appauthor=False) / "recent-books.json"
    return found
