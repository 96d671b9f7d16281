"""Reads the TOML files that people write or pass on, and says in a sentence what is wrong with one."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from yondle.language.saying import say
from yondle.model.errors import KnownError

Model = TypeVar("Model", bound=BaseModel)

LARGEST_FILE = 256 * 1024
_MOST_TOLD = 4


def read_text(path: Path, document: str) -> str:
    """Read a text file; raises KnownError for one that is missing, too large, not readable or no text."""
    try:
        if path.stat().st_size > LARGEST_FILE:
            raise KnownError(
                say("{path} is too large.", path=path),
                say("Such a file has at most {largest_file} KiB.", largest_file=LARGEST_FILE // 1024),
            )
        return path.read_text("utf-8")
    except OSError as error:
        raise KnownError(
            say("{path} can't be read ({strerror}).", path=path, strerror=error.strerror),
            say("Check the name and its permissions."),
        ) from error
    except UnicodeDecodeError as error:
        raise KnownError(
            say("{path} is no text file.", path=path),
            say("It has to be TOML in UTF-8; see {document}.", document=document),
        ) from error


def tables(text: str, source: str) -> dict[str, Any]:
    """Parse TOML; raises KnownError with the line that is wrong."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise KnownError(
            say("{source} is no valid TOML: {error}.", source=source, error=error),
            say("Correct that line and try again."),
        ) from error
    except RecursionError as error:
        raise KnownError(
            say("{source} holds lists that lie too deep in each other.", source=source),
            say("No file of Yondle's needs that; was it meant for another program?"),
        ) from error


def validated(model: type[Model], text: str, source: str, is_no: str, document: str) -> Model:
    """Validate TOML text; raises KnownError that names the first things wrong, where they stand, and the document to read."""
    try:
        return model.model_validate(tables(text, source))
    except ValidationError as error:
        found = error.errors()
        wrong = "; ".join(
            f"{'.'.join(str(part) for part in item['loc']) or 'file'}: {_plainly(item['type'], item['msg'])}"
            for item in found[:_MOST_TOLD]
        )
        more = say(" (and {found} more)", found=len(found) - _MOST_TOLD) if len(found) > _MOST_TOLD else ""
        raise KnownError(
            f"{source} {is_no}: {wrong}{more}.", say("{document} lists every key with its type.", document=document)
        ) from error


def one_group(text: str, source: str, document: str) -> re.Pattern[str]:
    """Read a pattern that finds one number or word; raises KnownError for what is none, or has not just one group."""
    try:
        pattern = re.compile(text, re.MULTILINE)
    except (re.error, RecursionError, OverflowError) as error:
        raise KnownError(
            say("{source}: '{words}' is no pattern ({error}).", source=source, words=text, error=error),
            say("See {document}.", document=document),
        ) from error
    if pattern.groups != 1:
        raise KnownError(
            say("{source}: '{words}' has {groups} groups.", source=source, words=text, groups=pattern.groups),
            say("Put the number, and only it, in one pair of brackets."),
        )
    return pattern


def _plainly(kind: str, message: str) -> str:
    if kind == "extra_forbidden":
        return say("unknown key")
    if kind == "missing":
        return "missing"
    return message.removeprefix("Value error, ").replace("Input should", "should")
