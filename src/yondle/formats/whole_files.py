"""Files that are there whole or not at all: written beside their place, synced, and only then given their name.

A kill, a full disk or a fault in between leaves whatever stood there before as it was.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from yondle.language.saying import say
from yondle.model.errors import KnownError

_MODE = 0o666
"""Before the user's mask, as for any file a program makes."""


@contextmanager
def written_whole(target: Path, replaces: bool = True, keeps_mode: bool = True) -> Iterator[Path]:
    """Give the name of a file to be made, which becomes `target` when the block ends well and is taken away otherwise.

    Raises KnownError where it can't be written, and with `replaces` off where there is something already. What is no
    plain file (a pipe, a device) is written to directly. With `keeps_mode` a file that is replaced keeps its permissions.
    """
    place = Path(os.path.realpath(target))
    if os.path.lexists(place) and not place.is_file():
        if place.is_dir():
            raise KnownError(say("{path} is a folder.", path=target), say("Name a file in it."))
        yield place
        return
    if not replaces and os.path.lexists(place):
        raise _taken(target)
    if not place.parent.is_dir():
        raise KnownError(
            say("There is no folder {parent}.", parent=place.parent), say("Make it first, or give another place.")
        )
    new = place.with_name(f".{place.name[:100]}.{secrets.token_hex(4)}.part")
    try:
        yield new
        _sync(new, os.O_RDWR)
        if replaces:
            if keeps_mode and place.exists():
                os.chmod(new, place.stat().st_mode & 0o7777)
            os.replace(new, place)
        else:
            _link(new, place)
        _sync(place.parent, os.O_RDONLY)
    except FileExistsError:
        raise _taken(target) from None
    except OSError as error:
        raise _cannot(target, error) from error
    finally:
        for left in (new, new.with_name(new.name + "-wal"), new.with_name(new.name + "-shm")):
            with suppress(OSError):
                left.unlink(missing_ok=True)


def write_whole(target: Path, content: bytes | str, replaces: bool = True, mode: int | None = None) -> None:
    """Write a file whole or not at all, text as UTF-8; `mode` are its permissions, as the user's mask has it without.

    Raises KnownError where it can't be written.
    """
    data = content.encode() if isinstance(content, str) else content
    with written_whole(target, replaces, keeps_mode=mode is None) as new:
        how = os.O_WRONLY | (os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW if new.name.endswith(".part") else 0)
        with open(os.open(new, how | os.O_CLOEXEC, _MODE if mode is None else mode & 0o700), "wb") as file:
            file.write(data)
            if mode is not None:
                os.fchmod(file.fileno(), mode)


def own_folder(folder: Path) -> None:
    """Make a folder that nobody but its owner can look into or write in, with those above it; raises OSError."""
    _made(folder, 0o700)


def folder_for_all(folder: Path) -> None:
    """Make a folder that everybody can look into and only its owner can write in, with those above it; raises OSError."""
    _made(folder, 0o755)


def _made(folder: Path, mode: int) -> None:
    """Make what is missing of a path, whatever the user's mask allows to others; what is there stays as it is."""
    if not folder.is_dir():
        _made(folder.parent, mode)
        folder.mkdir(mode, exist_ok=True)


def _link(new: Path, place: Path) -> None:
    """Give a file its name unless that is taken; where a file system knows no links the look and the act are two."""
    try:
        os.link(new, place)
    except FileExistsError:
        raise
    except OSError:
        if os.path.lexists(place):
            raise FileExistsError from None
        os.replace(new, place)


def _sync(path: Path, how: int) -> None:
    handle = os.open(path, how | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _taken(target: Path) -> KnownError:
    return KnownError(say("{path} is already there.", path=target), say("Give another name; it was left as it is."))


def _cannot(target: Path, error: OSError) -> KnownError:
    return KnownError(
        say("{path} can't be written ({strerror}).", path=target, strerror=error.strerror), say("Choose another place.")
    )
