"""Asks a file or a command for its number: whatever hangs, prints too much or rubbish ends in a sentence, and leaves nothing."""

from __future__ import annotations

import math
import os
import re
import signal
import stat
import subprocess
import tempfile
import time
from contextlib import suppress

from yondle.language.saying import say
from yondle.model.errors import KnownError

LARGEST_ANSWER = 64 * 1024
LOOKED_AT_S = 0.005


def text_of(file: str) -> str:
    """Read a file of few words; raises KnownError for one that isn't there, is none, or gives nothing at once."""
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            about = os.fstat(handle)
            if not stat.S_ISREG(about.st_mode):
                raise KnownError(say("{file} is no file.", file=file), say("Name one that holds a number or a word."))
            if about.st_size > LARGEST_ANSWER:
                raise KnownError(
                    say("{file} is too large to be rewritten for one value.", file=file),
                    say("Name one of {kib} KiB at most.", kib=LARGEST_ANSWER // 1024),
                )
            return os.read(handle, LARGEST_ANSWER).decode("utf-8", "surrogateescape")
        finally:
            os.close(handle)
    except OSError as error:
        raise KnownError(
            say("{file} can't be read ({strerror}).", file=file, strerror=error.strerror),
            say("Check that it is there, and its permissions."),
        ) from error


def write_to(file: str, text: str) -> None:
    """Write into a file that is there and is no link; raises KnownError where that can't be."""
    try:
        handle = os.open(file, os.O_WRONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                raise KnownError(say("{file} is no file.", file=file), say("Name one that holds a number or a word."))
            written = os.write(handle, text.encode("utf-8", "surrogateescape"))
            if not is_the_kernels(file):
                os.ftruncate(handle, written)
        finally:
            os.close(handle)
    except OSError as error:
        raise KnownError(
            say("{file} can't be written ({strerror}).", file=file, strerror=error.strerror),
            say("Check its permissions; what only root may write takes a command that may."),
        ) from error


def is_the_kernels(file: str) -> bool:
    """Tell whether a file is one of the kernel's, which take a value and nothing else."""
    return file.startswith(("/sys/", "/proc/"))


def answer_of(command: tuple[str, ...], at_most_s: float) -> str:
    """Run a command and give what it printed; raises KnownError for one that fails or doesn't end.

    It runs in a group of its own, without a shell and without input; whatever it has left behind is ended with it.
    """
    with tempfile.TemporaryFile() as said:
        try:
            process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.DEVNULL, start_new_session=True,
                env={**os.environ, "LC_ALL": "C"},
            )  # fmt: skip
        except (OSError, ValueError) as error:
            raise KnownError(
                say("'{command}' can't be started ({error}).", command=command[0], error=error),
                say("Check that it is there and may be run."),
            ) from error
        try:
            _wait(process, said.fileno(), command[0], at_most_s)
        finally:
            with suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        if process.returncode != 0:
            raise KnownError(
                say("'{command}' ended with code {code}.", command=command[0], code=process.returncode),
                say("Run it by hand to see why."),
            )
        said.seek(0)
        return said.read(LARGEST_ANSWER).decode("utf-8", "replace")


def _wait(process: subprocess.Popen[bytes], said: int, name: str, at_most_s: float) -> None:
    until = time.monotonic() + at_most_s
    while process.poll() is None:
        if os.fstat(said).st_size > LARGEST_ANSWER:
            raise KnownError(
                say("'{command}' prints without an end.", command=name), say("It has to print one number.")
            )
        if time.monotonic() > until:
            raise KnownError(
                say("'{command}' had not ended after {at_most_s:g} s.", command=name, at_most_s=at_most_s),
                say("Run it by hand to see why, or give it more time with at_most_s."),
            )
        time.sleep(LOOKED_AT_S)


def found_in(text: str, pattern: re.Pattern[str]) -> str:
    """Give the one thing a pattern finds; raises KnownError for none, and for several that differ."""
    found = {match.group(1) for match in pattern.finditer(text[:LARGEST_ANSWER])}
    if len(found) != 1:
        shown = " ".join(text.split())[:60]
        raise KnownError(
            say("'{shown}' has no number that the pattern finds.", shown=shown)
            if not found
            else say("'{shown}' has {many} numbers where one is meant.", shown=shown, many=len(found)),
            say("Write a pattern with the one in brackets that is meant."),
        )
    return found.pop()


def number_in(text: str, pattern: re.Pattern[str], scale: float) -> float:
    """Give the number a pattern finds, by its scale; raises KnownError for what is none that ends."""
    word = found_in(text, pattern)
    try:
        value = float(word) / scale
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise KnownError(say("'{word}' is no number.", word=word[:60]), say("Write a pattern that finds one."))
    return round(value, 9)
