"""Compiles what the kernels do most, and keeps the outcome in a folder of Yondle's own; without one it compiles each time.

The compiler keeps what it made beside the source where it can, which an installed program's folder seldom allows, and ends
in a fault where it finds no place at all. What lies in the folder is run, so nobody else may write in it.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numba
from platformdirs import user_cache_path

_Function = TypeVar("_Function", bound=Callable[..., Any])


def own_cache() -> Path | None:
    """Give the folder for what is compiled, made where there is none; None where it can't be had or others may write in it."""
    folder = user_cache_path("yondle", appauthor=False) / "kernels"
    try:
        folder.mkdir(0o700, parents=True, exist_ok=True)
        about = folder.lstat()
    except OSError:
        return None
    own = stat.S_ISDIR(about.st_mode) and about.st_uid == os.getuid() and not about.st_mode & 0o022
    return folder if own and os.access(folder, os.W_OK | os.X_OK) and _has_room(folder) else None


def _has_room(folder: Path) -> bool:
    """Tell whether anything can be written there: a full disk, or one that may only be read, tells so in no other way."""
    probe = folder / f".{os.getpid()}"
    try:
        probe.write_bytes(b" " * 4096)
        probe.unlink()
    except OSError:
        return False
    return True


_CACHE = own_cache()
if _CACHE is not None:
    numba.config.CACHE_DIR = str(_CACHE)  # type: ignore[attr-defined]  # made as it is imported


def compiled(**options: Any) -> Callable[[_Function], _Function]:
    """Compile a function as it is first called, kept from run to run where there is a place for that."""
    made: Callable[[_Function], _Function] = numba.njit(nogil=True, cache=_CACHE is not None, **options)
    return made
