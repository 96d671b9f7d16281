"""How a command stands in a desktop entry (freedesktop.org, Desktop Entry Specification, "The Exec key")."""

from __future__ import annotations

import re

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
