"""Nights through crashes on this machine: a plan that comes back by itself after a restart, where the tuner allows it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from yondle.app.session.session import Session
from yondle.app.system.desktop_entries import running_command
from yondle.app.system.kept_tells import tell_at_login
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.rigs.linux.privilege import brought_back

GO_ON = "--unattended-restarts"
AN_HOUR, IN_ALL = 6, 50


@dataclass(frozen=True, slots=True)
class Bounds:
    """How often a plan may come back: within an hour, and in all."""

    an_hour: int = AN_HOUR
    in_all: int = IN_ALL


@contextmanager
def over_restarts(session: Session, bounds: Bounds | None) -> Iterator[None]:
    """Have the plan under way come back after a restart that nobody ordered, until it ends; without bounds it doesn't.

    An administrator's word is asked for, but of a plan that has just been brought back. Raises KnownError for a simulated rig,
    and where nothing can bring it back or no watchdog can be had: then nothing is set.
    """
    if bounds is None:
        yield
        return
    keeper, guard = session.machine.keeper, session.machine.guard
    if keeper is None:
        raise KnownError(
            say("{rig} is a simulated rig, which restarts by itself.", rig=session.declaration.info.name),
            say("Leave --unattended-restarts out."),
        )
    if guard is not None and brought_back():
        with guard.watching():
            yield
        return
    book = session.logbook.path.absolute()
    command = [*running_command(), "plan", "go-on", str(book), GO_ON]
    request = {"command": command, "book": str(book), "an_hour": bounds.an_hour, "in_all": bounds.in_all}
    if guard is None:
        raise KnownError(
            say("Nothing can bring a plan back here: no helper can be started."), say("See 'yondle inspect'.")
        )
    keeper.tell("night", request)
    tell_at_login()
    try:
        guard.watchdog.guard()
        guard.watchdog.unguard()
        with guard.watching():
            yield
    finally:
        guard.watchdog.end_night()
