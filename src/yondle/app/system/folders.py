"""Where logbooks are kept when no place is named, and names that are free there."""

from __future__ import annotations

from pathlib import Path

from platformdirs import user_data_path

from yondle.formats.whole_files import own_folder
from yondle.language.saying import say
from yondle.model.errors import KnownError


def data_folder() -> Path:
    """Where logbooks are kept when no place is named; made when missing."""
    folder: Path = user_data_path("yondle", appauthor=False)
    try:
        own_folder(folder)
    except OSError as error:
        raise KnownError(
            say("The folder for logbooks can't be made ({strerror}).", strerror=error.strerror),
            say("Name a place for the logbook yourself."),
        ) from error
    return folder


def free_name(folder: Path, stem: str, ending: str = ".yondle") -> Path:
    """Give the first name of its kind that is not taken: heron.yondle, heron-2.yondle, ..."""
    path = folder / f"{stem}{ending}"
    count = 2
    while path.exists():
        path = folder / f"{stem}-{count}{ending}"
        count += 1
    return path
