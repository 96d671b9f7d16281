"""A logbook made for a rig, or opened: what was left open in it is named, and the rig brought to the settings that held."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yondle.app.machine.machines import (
    BENCH,
    THIS,
    Machine,
    RigChoice,
    elsewhere_of,
    make_machine,
    with_absent,
)
from yondle.app.session.faults import kill_self
from yondle.app.session.kept_declaration import absent_from, keep_declaration, kept_declaration
from yondle.app.session.returning import BringBack
from yondle.app.session.session import Session
from yondle.formats.documents import KeptDeclaration
from yondle.logbook.logbook import Logbook
from yondle.model.rigs import ELSEWHERE


def create_logbook(
    path: Path, choice: RigChoice, pace: float | None = None, together: bool = False, asks: bool = False
) -> Session:
    """Make a new logbook for a rig and open it.

    Raises KnownError for this machine while a profile is kept in force: what it is found at would be taken for its stock.
    """
    if choice.kind == THIS:
        from yondle.app.session.kept import must_be_at_stock

        must_be_at_stock()
    Logbook.create(path, choice.kind, choice.name, choice.definition).close()
    machine_file(path).unlink(missing_ok=True)
    return open_logbook(path, pace, together, asks)


def open_logbook(path: Path, pace: float | None = None, together: bool = False, asks: bool = False) -> Session:
    """Open a logbook, name what was left open in it, and bring the rig to the last settings that held.

    With `together` a simulated machine that goes down takes the program down with it, as the real one does. With
    `asks` the tuner enters values in firmware setup even there; else a simulated rig's owner does.
    """
    logbook = Logbook(path)
    try:
        choice = RigChoice(*logbook.rig())
        goes_down = kill_self if together else None
        if choice.kind in (THIS, BENCH):
            from yondle.app.machine.this_machine import keep_stock

            machine = _real_machine(logbook, path, choice)
            if not machine.away:
                machine = with_absent(machine, absent_from(logbook, path, machine.rig.declaration))
                keep_stock(logbook.keeping, machine.rig.declaration)
                keep_declaration(logbook.keeping, machine.rig.declaration)
        elif choice.kind == ELSEWHERE:
            machine = elsewhere_of(choice, logbook.documents)
        else:
            machine = make_machine(choice, machine_file(path), pace, logbook.last_time_s(), goes_down)
        session = Session(logbook, machine, asks)
    except BaseException:
        logbook.close()
        raise
    if choice.kind == THIS:
        from yondle.app.session.kept import look_at_kept

        try:
            look_at_kept(session)
        except BaseException:
            session.close()
            raise
    return session


def _real_machine(logbook: Logbook, path: Path, choice: RigChoice) -> Machine:
    """Make this machine ready, or reach the one across the room; one that is away stands as it was when it was last reached."""
    from yondle.app.machine.this_machine import setup_of, with_stock

    if choice.kind == THIS:
        return make_machine(choice, None, None, this=setup_of(logbook.documents))
    from yondle.app.machine.bench import keep_session, make_bench

    keep_session(logbook.keeping)
    known = kept_declaration(logbook, path) if logbook.find(KeptDeclaration) is not None else None
    machine = make_bench(choice, logbook.documents, known)
    machine.rig.declaration = with_stock(machine.rig.declaration, setup_of(logbook.documents))  # type: ignore[misc]
    return machine


def settings_in_force(opens: Callable[[], Session]) -> Callable[[], Session]:
    """Put what the logbook stands for in force as it is opened: a window shows the rig at it."""

    def open_() -> Session:
        session = opens()
        try:
            session.do(BringBack())
        except BaseException:
            session.close()
            raise
        return session

    return open_


def machine_file(logbook: Path) -> Path:
    """Where the state of a simulated machine is kept: beside its logbook."""
    return logbook.with_name(logbook.name + ".machine")
