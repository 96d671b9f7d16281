"""What may be run on this machine: allowed by its user, as fingerprints, kept with the user and never in a logbook."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import Protocol

from platformdirs import user_config_path

from yondle.formats.whole_files import own_folder, write_whole
from yondle.model.errors import KnownError
from yondle.rigs.own.own_file import OwnThing
from yondle.rigs.own.own_file import fingerprint as own_fingerprint
from yondle.workloads.command_file import fingerprint
from yondle.workloads.commands import OwnCommand


def allowed_commands_file() -> Path:
    """Where the commands are kept that this user has allowed, as fingerprints, one a line."""
    return user_config_path("yondle", appauthor=False) / "allowed-commands"


class Marked(Protocol):
    """Anything else that can be allowed: it knows its fingerprint."""

    @property
    def fingerprint(self) -> str:
        """What it is known by."""


Allowable = OwnCommand | OwnThing | Marked


def is_allowed(what: Allowable) -> bool:
    """Tell whether this user has allowed a command, a knob or a sensor on this machine."""
    try:
        return _fingerprint(what) in _allowed()
    except KnownError:
        return False


def _fingerprint(what: Allowable) -> str:
    if isinstance(what, OwnThing):
        return own_fingerprint(what)
    return fingerprint(what) if isinstance(what, OwnCommand) else what.fingerprint


def _allowed() -> list[str]:
    """List the fingerprints that were allowed; a file that others could have written is not believed."""
    try:
        with allowed_commands_file().open("r", encoding="ascii", errors="replace") as file:
            about = os.fstat(file.fileno())
            safe = about.st_uid == os.getuid() and not about.st_mode & (stat.S_IWGRP | stat.S_IWOTH)
            return file.read().split() if safe else []
    except OSError:
        return []


def allow(what: Allowable) -> None:
    """Allow a command, a knob or a sensor on this machine from now on; raises KnownError where its program isn't there.

    That is kept with the user, never in a logbook, which may be another's.
    """
    if is_allowed(what):
        return
    file = allowed_commands_file()
    own_folder(file.parent)
    write_whole(file, "".join(f"{each}\n" for each in (*_allowed(), _fingerprint(what))), mode=0o600)
