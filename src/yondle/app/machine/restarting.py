"""A bench that froze is made to start again by a command of the tuner's own, so often at most as a plan may."""

from __future__ import annotations

import json
import shlex
import shutil
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from hashlib import sha256

from yondle.app.machine.allowing import is_allowed
from yondle.formats.documents import BenchAcross, Documents
from yondle.language.saying import say
from yondle.model.errors import KnownError

HOUR_S = 3600.0
ENDS_WITHIN_S = 60.0


@dataclass(frozen=True, slots=True)
class RestartCommand:
    """A command of the tuner's own that makes a bench start again: a switch in the wall, a magic packet."""

    words: tuple[str, ...]

    @property
    def fingerprint(self) -> str:
        """What it is allowed by on this computer."""
        return sha256(json.dumps(["yondle-restart 1", *self.words]).encode()).hexdigest()

    def __str__(self) -> str:
        return shlex.join(self.words)


def restart_command(text: str) -> RestartCommand:
    """Read a command line; raises KnownError for none, or one whose program isn't there. No shell looks at it."""
    try:
        words = tuple(shlex.split(text))
    except ValueError as error:
        raise KnownError(
            say("'{text}' is no command ({error}).", text=text, error=error), say("Close its quotes.")
        ) from error
    if not words or shutil.which(words[0]) is None:
        raise KnownError(
            say("There is no program '{program}'.", program=words[0] if words else text), say("Write its whole path.")
        )
    return RestartCommand(words)


@dataclass
class Restarts:
    """How often a bench may go down in a plan, and what makes it start again; beyond that nobody waits for it any more."""

    an_hour: int
    in_all: int
    command: RestartCommand | None
    downs: list[float] = field(default_factory=list)
    now: Callable[[], float] = time.monotonic

    def count(self) -> bool:
        """Count that it went down; tells whether it may go on."""
        self.downs.append(self.now())
        return self.may_go_on

    @property
    def may_go_on(self) -> bool:
        """Tell whether it went down no oftener than it may."""
        lately = sum(self.now() - at < HOUR_S for at in self.downs)
        return lately <= self.an_hour and len(self.downs) <= self.in_all

    def over(self) -> str:
        """Say that it went down too often; nothing while it may go on."""
        if self.may_go_on:
            return ""
        return say("the bench went down {downs} times", downs=len(self.downs))

    def run(self) -> str:
        """Run the command once, and say what came of it."""
        assert self.command is not None
        try:
            done = subprocess.run(
                self.command.words, stdin=subprocess.DEVNULL, capture_output=True, timeout=ENDS_WITHIN_S, check=False
            )
        except (OSError, subprocess.TimeoutExpired) as error:
            return say("the command to restart the bench failed ({error})", error=error)
        if done.returncode:
            return say("the command to restart the bench ended with code {code}", code=done.returncode)
        return say("the bench was made to restart")


def restart_of(kept: Documents) -> RestartCommand | None:
    """Give the command a logbook keeps for its bench; raises KnownError for one that wasn't allowed on this computer."""
    words = kept.of(BenchAcross).restart
    if not words:
        return None
    command = RestartCommand(tuple(words))
    if not is_allowed(command):
        raise KnownError(
            say(
                "This logbook would restart its bench with '{command}', which wasn't allowed here.",
                command=command,
            ),
            say("Allow it:  yondle bench BOOK --restart-with {command}", command=shlex.quote(str(command))),
        )
    return command
