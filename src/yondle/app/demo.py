"""Heron's evening: the demo logbook, made by really running the example climb on the simulated rig."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from platformdirs import user_data_path

from yondle.app.plans import AfterMove, make_move
from yondle.app.session import Session
from yondle.model.errors import KnownError
from yondle.planning.climb import Tried, first_evening

DEMO_PACE = 20.0


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
    number = session.position.step.number
    moves = first_evening(session.declaration, Tried(baseline.verdict, session.in_force, number, number))
    try:
        move = next(moves)
        while True:
            record = make_move(session, move)
            after(move, record)
            if stopped() or session.position is None:
                moves.close()
                return
            here = session.position.step.number
            move = moves.send(Tried(record.verdict, session.in_force, here, record.step.number))
    except StopIteration:
        return
