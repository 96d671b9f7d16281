"""Heron's evening: the demo logbook, made by really running the example climb on the simulated rig."""

from __future__ import annotations

from collections.abc import Callable, Generator
from pathlib import Path

from platformdirs import user_data_path

from yondle.app.session import Session
from yondle.model.errors import KnownError
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.planning.climb import GoBack, Move, Tried, Try, first_evening

DEMO_PACE = 20.0

Moves = Generator[Move, Tried, None]
AfterMove = Callable[[Move | None, StepRecord], None]


def data_folder() -> Path:
    """Where logbooks are kept when no place is named; made when missing."""
    folder: Path = user_data_path("yondle", appauthor=False)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise KnownError(
            f"The folder for logbooks can't be made ({error.strerror}).", "Name a place for the logbook yourself."
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


def run_evening(session: Session, after: AfterMove, stopped: Callable[[], bool] = lambda: False) -> None:
    """Run the example: the baseline, then every move of the climb; `after` hears each. Ends early when asked to."""
    baseline = session.baseline()
    after(None, baseline)
    if session.position is None or stopped():
        return
    start = Tried(baseline.verdict, session.in_force, session.position.step.number)
    run_moves(session, first_evening(session.declaration, start), after, stopped)


def run_moves(session: Session, moves: Moves, after: AfterMove, stopped: Callable[[], bool]) -> None:
    """Carry out the moves of a plan, telling it what became of each."""
    try:
        move = next(moves)
        while True:
            record = make_move(session, move)
            after(move, record)
            if stopped() or session.position is None:
                moves.close()
                return
            move = moves.send(Tried(record.verdict, session.in_force, session.position.step.number))
    except StopIteration:
        return


def make_move(session: Session, move: Move) -> StepRecord:
    """Carry out one move of a plan."""
    match move:
        case GoBack():
            return session.go_back(move.step)
        case Try():
            session.drop_proposal()
            for knob, value in move.values.items():
                session.propose(knob, value, joint=len(move.values) > 1)
            return session.test()


def is_failure(record: StepRecord) -> bool:
    """Tell whether a step ended in a failure of the setting."""
    return record.verdict in (Verdict.DOWN, Verdict.WRONG, Verdict.HELD_BACK, Verdict.REFUSED)
