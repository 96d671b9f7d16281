"""Brings Yondle back after login when something waits for a restart: an entry in the desktop's autostart folder.

The format is the Desktop Entry and Autostart specifications of freedesktop.org.
"""

from __future__ import annotations

import logging
from pathlib import Path

from platformdirs import user_config_path

from yondle.app.system.desktop_entries import quoted, running_command
from yondle.formats.whole_files import own_folder, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError

logger = logging.getLogger(__name__)

NAME = "yondle-goes-on.desktop"


def entry_path(name: str = NAME) -> Path:
    """Where an entry lies."""
    return user_config_path() / "autostart" / name


def come_back_with(logbook: Path) -> bool:
    """Have this logbook opened after the next login; tells whether that could be arranged."""
    if "\n" in str(logbook):
        return False
    more = f"Comment={say('A step waits for this restart')}\nX-Yondle-Logbook={logbook.absolute()}\n"
    return write_entry(NAME, say("Yondle goes on"), ("open", str(logbook.absolute())), more)


def write_entry(name: str, title: str, words: tuple[str, ...], more: str = "") -> bool:
    """Have a command of this Yondle run after every login, by an entry of a name; tells whether it could be written."""
    path = entry_path(name)
    command = " ".join(quoted(word) for word in (*running_command(), *words))
    text = f"[Desktop Entry]\nType=Application\nVersion=1.5\nName={title}\nExec={command}\nTerminal=false\n{more}"
    try:
        own_folder(path.parent)
        write_whole(path, text)
    except (OSError, KnownError):
        logger.warning("no autostart entry could be written to %s", path)
        return False
    return True


def stay_away(logbook: Path) -> None:
    """Take the entry away, if it is about this logbook."""
    path = entry_path()
    try:
        if f"X-Yondle-Logbook={logbook.absolute()}\n" in path.read_text("utf-8"):
            path.unlink()
    except OSError:
        return
