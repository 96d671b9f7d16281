"""Nights through crashes on this machine: a plan that comes back by itself after a restart, where the tuner allows it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from yondle.app.machine.restarting import Restarts, restart_of
from yondle.app.session.returning import ReturnToStock
from yondle.app.session.session import Session
from yondle.app.system.desktop_entries import running_command
from yondle.app.system.kept_tells import tell_at_login
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.kept import Keeper
from yondle.rigs.linux.privilege import brought_back

if TYPE_CHECKING:
    from yondle.rigs.bench.rig import BenchRig
    from yondle.rigs.linux.guarding import PlanGuard

GO_ON = "--unattended-restarts"
AN_HOUR, IN_ALL = 6, 50
NIGHT_WITHIN_S = 1800.0
"""How long a bench that is away is waited for at night."""


@dataclass(frozen=True, slots=True)
class Bounds:
    """How often a plan may come back: within an hour, and in all."""

    an_hour: int = AN_HOUR
    in_all: int = IN_ALL


@contextmanager
def over_restarts(session: Session, bounds: Bounds | None) -> Iterator[Callable[[], str]]:
    """Have the plan under way come back after a restart that nobody ordered, until it ends; without bounds it doesn't.

    Gives what says why the plan is over, once the machine has gone down too often. Raises KnownError for a simulated rig, and
    where nothing can bring it back: then nothing is set.
    """
    machine = session.machine
    if bounds is None:
        yield lambda: ""
    elif machine.bench is not None:
        with _on_a_bench(session, machine.bench, bounds) as over:
            yield over
    elif machine.keeper is not None:
        with _on_this_machine(session, machine.keeper, machine.guard, bounds):
            yield lambda: ""
    else:
        raise KnownError(
            say("{rig} is a simulated rig, which restarts by itself.", rig=session.declaration.info.name),
            say("Leave --unattended-restarts out."),
        )


@contextmanager
def _on_this_machine(session: Session, keeper: Keeper, guard: PlanGuard | None, bounds: Bounds) -> Iterator[None]:
    """Have the service of this machine bring the plan back, after an administrator's word, unless it has just done so."""
    if guard is not None and brought_back():
        with guard.watching():
            yield
        return
    if guard is None:
        raise KnownError(
            say("Nothing can bring a plan back here: no helper can be started."), say("See 'yondle inspect'.")
        )
    book = session.logbook.path.absolute()
    command = [*running_command(), "plan", "go-on", str(book), GO_ON]
    request = {"command": command, "book": str(book), "an_hour": bounds.an_hour, "in_all": bounds.in_all}
    keeper.tell("night", request)
    tell_at_login()
    try:
        with guard.watching():
            yield
    finally:
        guard.watchdog.end_night()


@contextmanager
def _on_a_bench(session: Session, bench: BenchRig, bounds: Bounds) -> Iterator[Callable[[], str]]:
    """Wait longer for a bench that goes down, have it restarted where that may be, and rest at stock once it was too often."""
    restarts = Restarts(bounds.an_hour, bounds.in_all, restart_of(session.snapshot.kept))
    guarded = bench.can_be_guarded()
    if guarded and restarts.command is None:
        raise KnownError(
            say("Nothing would restart the bench where it freezes: {why}", why=guarded),
            say(
                "Name a command that does ('yondle bench BOOK --restart-with …'), or allow its watchdog: docs/bench.md."
            ),
        )
    before, patience = bench.patience, bench.patience
    bench.patience = replace(
        patience, within_s=NIGHT_WITHIN_S, guards=not guarded, came_down=restarts.count,
        restart=restarts.run if restarts.command is not None else None,
    )  # fmt: skip
    try:
        yield restarts.over
    finally:
        bench.patience = before
        bench.let_go_of_guard()
        if restarts.over() and not bench.away:
            ReturnToStock().do(session)
