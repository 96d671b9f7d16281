"""How a command stands in a desktop entry (freedesktop.org, Desktop Entry Specification, "The Exec key")."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path

PROGRAM = "yondle"
_RESERVED = '"`$\\'
_PLAIN = re.compile(r"[A-Za-z0-9_./-]+")


def quoted(word: str) -> str:
    """Write an argument of an Exec key: as it is where that is safe, else in double quotes.

    Inside them four characters need a backslash; backslashes are then doubled, since the value is a string of the file
    format besides, and so are percent signs, which begin field codes.
    """
    if _PLAIN.fullmatch(word):
        return word
    escaped = "".join("\\" + letter if letter in _RESERVED else letter for letter in word)
    return '"' + escaped.replace("\\", "\\\\").replace("%", "%%") + '"'


def running_command() -> tuple[str, ...]:
    """Give the command that starts the Yondle that runs now: its program, wherever it lies, else this Python with its module.

    A bare name would start whatever lies on the path of the desktop, which isn't the shell's.
    """
    started = Path(sys.argv[0])
    for program in (started, Path(sys.executable).with_name(PROGRAM)):
        if program.name == PROGRAM and program.is_file() and os.access(program, os.X_OK):
            return (str(program.absolute()),)
    return (sys.executable, "-m", "yondle.main")
