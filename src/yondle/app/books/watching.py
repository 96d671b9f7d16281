"""What a logbook that another program writes is at: the step on trial, its pass, what sensors say, and what came before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yondle.app.books.reading import read_book
from yondle.language.saying import later, named, say
from yondle.logbook.reading import OpenAttempt
from yondle.logbook.records import reading
from yondle.model.acts import Act
from yondle.model.quantities import count, duration, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.planning.ladder import passes_of
from yondle.views.shared.steps import failure_words, step_title

_ACTS = {
    Act.STEP_OPENED: later("opening the step"),
    Act.APPLY_OPENED: later("setting values"),
    Act.APPLIED: later("reading back"),
    Act.SETTLE_OPENED: later("cooling down"),
    Act.SETTLED: later("cooled down"),
    Act.ENTRY_OPENED: later("waiting for values entered by hand"),
    Act.ENTERED: later("values were entered"),
    Act.RESTART_OPENED: later("restarting"),
    Act.RESTARTED: later("started again"),
    Act.PASS_ENDED: later("between passes"),
    Act.VERDICT_GIVEN: later("judging"),
    Act.PUT_BACK_OPENED: later("putting back"),
}
_LATEST = 5


@dataclass(frozen=True, slots=True)
class Watched:
    """A moment of a logbook in words; `running` is None where no test is under way.

    `done` are the latest tests with their verdicts, the newest first; `failed` counts those that went down or wrong in all.
    """

    rig: str
    running: str | None
    doing: str
    passes: str
    lasted: str
    readings: tuple[tuple[str, str], ...]
    done: tuple[tuple[str, Verdict, str], ...]
    tests: int
    failed: int


def watch(path: Path) -> Watched:
    """Look at a logbook, also while another program writes it; raises KnownError for what can't be read."""
    book = read_book(path)
    with reading(path) as records:
        open_ = next(iter(reversed(records.unclosed())), None)
        block = records.latest_block(open_.attempt.id) if open_ is not None else None
    running = book.step(open_.step.number) if open_ is not None else None
    read = dict(zip(block.channels, block.rows[-1], strict=True)) if block is not None and block.rows else {}
    told = []
    for channel in book.declaration.channels:
        value = read.get(channel.id)
        if value is not None and channel.nature.watched and channel.core is None:
            told.append((channel.name, quantity(value, channel.unit, channel.digits)))
    tests = [a for r in book.steps for a in r.attempts if a.outcome is not None]
    return Watched(
        book.declaration.info.name,
        say(
            "Step {number} · {step_title}",
            number=running.step.number,
            step_title=step_title(book.declaration, running.step),
        )
        if running is not None
        else None,
        _doing(book.declaration, open_) if open_ is not None else say("resting"),
        _passes(running, open_) if running is not None and open_ is not None else "",
        _lasted(open_) if open_ is not None else "",
        tuple(told),
        tuple(_done(book.declaration, book.steps)[:_LATEST]),
        len(tests),
        sum(a.outcome is not None and a.outcome.verdict in (Verdict.DOWN, Verdict.WRONG) for a in tests),
    )


def _doing(declaration: RigDeclaration, open_: OpenAttempt) -> str:
    if open_.last_act is Act.PASS_OPENED:
        return declaration.workload(str(open_.last_detail["workload"])).name
    return named(_ACTS.get(open_.last_act, later("under way")))


def _passes(record: StepRecord, open_: OpenAttempt) -> str:
    made = next((a for a in record.attempts if a.id == open_.attempt.id), None)
    if made is None or made.check is None:
        return ""
    of = passes_of(made.check)
    return say("{passes} of about {of}", passes=count(len(made.all_passes), "pass", "passes"), of=of)


def _lasted(open_: OpenAttempt) -> str:
    """How long the test has been under way on the rig's clock, as far as it was recorded."""
    return duration(open_.last_sample_s - open_.attempt.started_s) if open_.last_sample_s is not None else ""


def _done(declaration: RigDeclaration, steps: Sequence[StepRecord]) -> list[tuple[str, Verdict, str]]:
    ended = [(a.id, r, a.outcome) for r in steps for a in r.attempts if a.outcome is not None]
    ended.sort(key=lambda each: -each[0])
    return [
        (
            say("Step {number} · {step_title}", number=r.step.number, step_title=step_title(declaration, r.step)),
            outcome.verdict,
            failure_words(declaration, outcome),
        )
        for _, r, outcome in ended
    ]
