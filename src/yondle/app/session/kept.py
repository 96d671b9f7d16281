"""A logbook takes up, as it is opened, what its profiles kept over restarts have lived through, and tells what went wrong."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError

from yondle.analysis.judging import failed
from yondle.app.session.session import Session
from yondle.formats.documents import KeptOverRestarts, Lived
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, StepOpened, VerdictGiven
from yondle.model.quantities import duration
from yondle.model.steps import KEPT_STAGE, Check, StepRecord
from yondle.model.verdicts import Failure, Outcome
from yondle.rigs.linux.keeping import kept_now, lived, said
from yondle.views.shared.proof import long_time


def look_at_kept(session: Session, root: Path = Path("/"), owner: int = 0) -> None:
    """Take up what kept profiles have lived through, and tell what stands against them."""
    take_up(session, root, owner)
    session.kept_here = kept_now(root, owner)


def must_be_at_stock(root: Path = Path("/"), owner: int = 0) -> None:
    """Raise KnownError while a profile is kept in force on this machine."""
    name = kept_now(root, owner).in_force
    if name:
        raise KnownError(
            say("'{name}' is kept in force on this machine, so what it is at now isn't its stock.", name=name),
            say("Go on in the logbook it comes from, or end it first:  yondle keep --off"),
        )


def take_up(session: Session, root: Path = Path("/"), owner: int = 0) -> list[StepRecord]:
    """Write down what the service has counted for this logbook since it was last open; gives the steps that failed.

    A restart that nobody ordered, or a fault, is a failure of the profile's step.
    """
    document = session.snapshot.kept.of(KeptOverRestarts)
    if not document.id:
        return []
    known = {(each.boot, each.number): each for each in document.lived}
    told = [each for each in (_lived(one) for one in lived(root, owner) if one.get("logbook") == document.id) if each]
    steps = {record.step.number for record in session.book.steps}
    fresh = [each for each in told if known.get((each.boot, each.number)) != each and each.step in steps]
    if not fresh:
        return []
    failures = [each for each in fresh if each.failures and not _failed_before(known, each)]
    merged = {**known, **{(each.boot, each.number): each for each in fresh}}
    document = document.model_copy(update={"lived": sorted(merged.values(), key=lambda each: each.began)})
    first = session.free_attempt()
    records = [record for i, each in enumerate(failures) for record in _as_attempt(session, first + i, each)]
    session.logbook.take_with(records, document)
    session.take_documents()
    for each in failures:
        session.reload(each.step)
    return [session.book.step(each.step) for each in failures]


def _failed_before(known: dict[tuple[str, int], Lived], each: Lived) -> bool:
    before = known.get((each.boot, each.number))
    return before is not None and before.failures > 0


def _lived(told: dict[str, Any]) -> Lived | None:
    try:
        return Lived.model_validate({**{key: told[key] for key in told if key != "from"}, "began": told["from"]})
    except (KeyError, ValidationError):
        return None


def _as_attempt(session: Session, attempt: int, each: Lived) -> tuple[StepOpened, VerdictGiven, AttemptClosed]:
    """Give the records of a test that was daily use, and ended in a failure; nothing moves the rig.

    It is dated when it is written down: the rig's clock, which goes on from its latest attempt, takes date and seconds as one.
    """
    here, record = session.rests.in_force, session.book.step(each.step)
    opened = StepOpened(
        attempt, record.step, here, session.rests.position, each.boot, session.wall(), session.machine.clock.now(), {},
        Check(()), {},
    )  # fmt: skip
    closed = AttemptClosed(attempt, each.step, here, False, session.rests.position, session.wall())
    return opened, VerdictGiven(attempt, each.step, _outcome(each)), closed


def _outcome(each: Lived) -> Outcome:
    down = "went down" in each.why
    reason = say(
        "While '{name}' was kept in force from {began} on, for {awake}, {load} of it under load: {why}.",
        name=each.name,
        began=each.began[:16].replace("T", " "),
        awake=long_time(each.awake_s),
        load=duration(each.load_s),
        why=said(each.why),
    )
    return failed(Failure.RESTARTED if down else Failure.PROGRAM_CRASHED, reason, KEPT_STAGE, each.load_s)
