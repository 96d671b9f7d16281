"""`--quiet`: nothing is said but troubles, and documents that were asked for."""

from __future__ import annotations

QUIET = "--quiet"
_asked: list[str] = []


def be_quiet(arguments: list[str]) -> list[str]:
    """Say nothing but troubles from now on where the line asks for it; gives the line without that.

    It may stand anywhere before `--`, which all that comes after is not looked at.
    """
    end = arguments.index("--") if "--" in arguments else len(arguments)
    _asked.clear()
    _asked.extend(each for each in arguments[:end] if each == QUIET)
    return [each for each in arguments[:end] if each != QUIET] + arguments[end:]


def is_quiet() -> bool:
    """Tell whether nothing but troubles, and documents that were asked for, is to be said."""
    return bool(_asked)
