"""What the commands share: opening a session, running a test with a progress line, and Ctrl+C as a stop."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import FrameType
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.session.progress import Progress
from yondle.app.session.requests import EmergencyStop, Stop
from yondle.app.session.session import Session
from yondle.cli.exits import EXIT_INTERRUPTED, EXIT_NOT_HELD
from yondle.cli.shown import (
    ProgressLine,
    closing,
    print_json,
    print_outcome,
    print_resumed,
    print_waiting,
    step_values,
    waiting_values,
)
from yondle.cli.terminal import console_for
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.views.tune.proposal import expected_seconds

LogbookPath = Annotated[Path, typer.Argument(help="The logbook, a file ending in .yondle.", show_default=False)]
AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document instead of text.")]
Passes = Annotated[int | None, typer.Option("--passes", "-n", help="Score passes of every benchmark (2 to 200).")]
Pace = Annotated[
    float | None, typer.Option(help="Simulated rig: virtual seconds per second; by default as fast as it goes.")
]
Together = Annotated[
    bool,
    typer.Option("--together", help="Simulated rig: when it goes down, Yondle goes down with it, as on a real one."),
]
Asks = Annotated[
    bool,
    typer.Option("--ask", help="Simulated rig: wait for you where values are set by hand, as on a real one."),
]


Strict = Annotated[bool, typer.Option("--strict", help=f"Exit with {EXIT_NOT_HELD} unless it held, for scripts.")]


def run_test(
    session: Session, test: Callable[[], StepRecord | None], console: Console, as_json: bool, strict: bool = False
) -> None:
    """Run a test to its end and print what came of it; raises Exit where it has to hold and doesn't."""
    interrupts = Interrupts()
    record = _run_test(session, test, console, as_json, interrupts)
    interrupts.leave()
    if strict and (record is None or record.outcome is None or record.outcome.verdict is not Verdict.HELD):
        raise typer.Exit(EXIT_NOT_HELD)


def _run_test(
    session: Session, test: Callable[[], StepRecord | None], console: Console, as_json: bool, interrupts: Interrupts
) -> StepRecord | None:
    listen(session)
    if not as_json:
        print_resumed(session.snapshot, console)
    with interruptible(session, interrupts):
        record = test()
    if as_json:
        position = session.snapshot.position.step.number if session.snapshot.position else None
        values = step_values(session.snapshot, record) if record is not None else {}
        print_json({**values, "position": position, "waiting": waiting_values(session.snapshot)})
        return record
    if session.snapshot.waiting is not None:
        print_waiting(session.snapshot, console)
    elif record is not None:
        print_outcome(session.snapshot, record, console)
    return record


def listen(session: Session) -> None:
    """Show one line of progress on a terminal."""
    line = ProgressLine(Progress(session.snapshot.declaration), lambda check: expected_seconds(session.snapshot, check))
    session.subscribe(line.take)


@contextmanager
def opened(open_: Callable[[], Session]) -> Iterator[Session]:
    """Open a session and close it whatever happens."""
    session = open_()
    with closing(session, console_for()):
        yield session


@dataclass(slots=True)
class Interrupts:
    """How often Ctrl+C was pressed."""

    pressed: int = 0

    def leave(self) -> None:
        """Raise Exit with the code of an interrupted command, where it was."""
        if self.pressed:
            raise typer.Exit(EXIT_INTERRUPTED)


@contextmanager
def interruptible(session: Session, interrupts: Interrupts) -> Iterator[None]:
    """Turn the first Ctrl+C into a stop that puts the rig back, and the second into an emergency stop."""

    def interrupt(_: int, __: FrameType | None) -> None:
        interrupts.pressed += 1
        if interrupts.pressed == 1:
            session.do(Stop())
        else:
            session.do(EmergencyStop())

    before = signal.signal(signal.SIGINT, interrupt)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def named_value(declaration: RigDeclaration, text: str) -> tuple[Knob, float]:
    """Read 'knob=value'; raises KnownError for anything else."""
    name, equals, value = text.partition("=")
    if not equals or not value.strip():
        raise KnownError(
            say("'{words}' is no setting.", words=text),
            say("Write it as knob=value, for example {example}.", example=_example(declaration)),
        )
    knob = declaration.settable(name.strip())
    return knob, knob.parsed(value)


def _example(declaration: RigDeclaration) -> str:
    """Write a knob of this very rig with one of its values."""
    knob = next(iter(declaration.knobs), None)
    if knob is None:
        return "knob=1"
    value = knob.plain(knob.stock)
    return f"{knob.id}={value:g}" if isinstance(value, float) else f"{knob.id}={value}"
