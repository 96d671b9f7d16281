"""One thread owns the open logbook: what comes while a test runs is done at a moment of its own, or refused in a sentence."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.life import TRANSITIONS, Life, LifeEvent
from yondle.app.session.limits import LimitRange, LimitReading
from yondle.app.session.opening import open_logbook
from yondle.app.session.owner import Answer, Closed, Ended, Errand, Heard, Latest, NotOpened, Opened, Owner, OwnerNews
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.requests import Stop
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.errors import KnownError
from yondle.model.events import PassEnded, PassOpened, Record, Sampled
from yondle.model.transitions import IllegalTransitionError
from yondle.model.verdicts import Failure, Verdict

WITHIN_S = 30.0


class Face:
    """Hears an owner, and holds it up at a record until the main thread has said something."""

    def __init__(self) -> None:
        self.told: list[OwnerNews] = []
        self.lives: list[Life] = []
        self.records: list[Record] = []
        self._news = threading.Condition()
        self._holds: Callable[[Record], bool] = lambda _: False
        self._held, self._go = threading.Event(), threading.Event()
        self.owner = Owner(self._hear)

    def _hear(self, told: OwnerNews) -> None:
        if isinstance(told, Heard):
            self.records.append(told.record)
            if self._holds(told.record):
                self._holds = lambda _: False
                self._held.set()
                assert self._go.wait(WITHIN_S)
            return
        with self._news:
            self.told.append(told)
            self.lives.append(self.owner.life)
            self._news.notify_all()

    def hold_at(self, holds: Callable[[Record], bool]) -> None:
        self._held.clear()
        self._go.clear()
        self._holds = holds

    def until_held(self) -> None:
        assert self._held.wait(WITHIN_S)

    def let_go(self) -> None:
        self._go.set()

    def wait_for(self, kind: type[OwnerNews], after: int = 0) -> Any:
        with self._news:
            found = lambda: [told for told in self.told[after:] if isinstance(told, kind)]  # noqa: E731
            assert self._news.wait_for(lambda: bool(found()), WITHIN_S), self.told
            return found()[-1]

    def open(self, path: Path) -> Latest:
        already = len(self.told)
        self.owner.open(lambda: open_logbook(path))
        opened = self.wait_for(Opened, already)
        return opened.latest  # type: ignore[no-any-return]

    def ask(self, latest: Latest, command: Command[Any]) -> list[Answer[Any]]:
        answers: list[Answer[Any]] = []
        self.owner.ask(latest, command, answers.append)
        return answers


@pytest.fixture
def face() -> Iterator[Face]:
    made = Face()
    yield made
    made.let_go()
    made.owner.end()


@pytest.fixture
def book(new_session: Any) -> Path:
    session = new_session()
    session.do(RunBaseline(2))
    session.close()
    path: Path = session.logbook.path
    return path


def test_what_comes_at_rest_is_answered_at_once_and_the_snapshot_has_it(face: Face, book: Path) -> None:
    latest = face.open(book)
    before = latest.now
    (answer,) = face.ask(latest, Propose("core_clock", 4300.0))
    assert answer.error is None
    assert latest.now.proposal is not None
    assert before.proposal is None, "a snapshot never changes"
    assert latest.now.steps is before.steps, "what is worked out of the steps is kept by them"
    (refused,) = face.ask(latest, Propose("core_clock", 99.0))
    assert isinstance(refused.error, KnownError)
    assert latest.now.proposal.value("core_clock") == 4300.0


def test_while_a_test_runs_notes_come_at_the_next_reading_limits_between_passes_and_proposals_are_refused(
    face: Face, book: Path
) -> None:
    latest = face.open(book)
    face.ask(latest, Propose("core_clock", 4300.0))
    face.hold_at(lambda record: isinstance(record, PassOpened))
    face.owner.order(TryProposal(2))
    face.until_held()
    assert face.owner.life is Life.RUNNING
    (refused,) = face.ask(latest, Propose("core_clock", 4400.0))
    assert refused.error is not None
    assert "A test is running" in str(refused.error)
    note = face.ask(latest, WriteNote(1, "sparks at the plug"))
    limit = face.ask(latest, LimitReading("processor_temperature", 91.0))
    assert (note, limit) == ([], []), "done later"
    seen: dict[str, int] = {}

    def watch(record: Record) -> bool:
        for name, answers in (("note", note), ("limit", limit)):
            if answers and name not in seen:
                seen[name] = len(face.records)
        return isinstance(record, PassEnded) and bool(seen)

    at = len(face.records)
    face.hold_at(watch)
    face._go.set()
    face.until_held()
    ended = next(i for i, r in enumerate(face.records[at:], at) if isinstance(r, PassEnded))
    readings = [i for i, r in enumerate(face.records[at:], at) if isinstance(r, Sampled)]
    assert seen["note"] <= readings[0] + 1, "kept with the first reading, long before the pass ends"
    assert seen.get("limit", ended + 1) == ended + 1, "not within the pass"
    assert limit
    assert latest.now.step(1).notes[-1].text == "sparks at the plug"
    assert {x.channel: x.most for x in latest.now.declaration.limits}["processor_temperature"] == 91.0
    face.let_go()
    answer = face.wait_for(Ended).answer
    assert answer.result.verdict is Verdict.HELD
    assert face.owner.life is Life.AT_REST


def test_a_stop_is_heeded_though_nothing_else_gets_through(face: Face, book: Path) -> None:
    latest = face.open(book)
    face.ask(latest, Propose("core_clock", 4300.0))
    face.hold_at(lambda record: isinstance(record, PassOpened))
    face.owner.order(TryProposal(2))
    face.until_held()
    (stopped,) = face.ask(latest, Stop())
    assert stopped.error is None
    face.let_go()
    outcome = face.wait_for(Ended).answer.result.outcome
    assert outcome.failure is Failure.STOPPED


@dataclass(frozen=True)
class WhoAmI(Command[int]):
    """Gives the thread it is done in."""

    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> int:
        return threading.get_ident()


@dataclass(frozen=True)
class Falls(Command[None]):
    """A command with a fault."""

    def do(self, session: Session) -> None:
        raise RuntimeError("no such thing")


@dataclass(frozen=True)
class Runs(Errand[str]):
    """An errand that tells its thread."""

    seen: list[int] = field(default_factory=list)

    def run(self) -> str:
        self.seen.append(threading.get_ident())
        return "ran"


def test_everything_is_done_in_one_thread_and_a_fault_ends_nothing(face: Face, book: Path) -> None:
    errand = Runs()
    face.owner.order(errand)
    assert face.wait_for(Ended).answer.result == "ran"
    assert face.owner.life is Life.CLOSED, "an errand needs no logbook"
    latest = face.open(book)
    (mine,) = face.ask(latest, WhoAmI())
    face.owner.order(WhoAmI())
    ordered = face.wait_for(Ended, 2).answer
    assert {mine.result, ordered.result} == set(errand.seen)
    assert mine.result != threading.get_ident()
    (fell,) = face.ask(latest, Falls())
    assert isinstance(fell.error, RuntimeError)
    (still,) = face.ask(latest, Propose("core_clock", 4300.0))
    assert still.error is None


def test_a_logbook_that_was_left_takes_no_command_any_more_and_one_that_does_not_open_leaves_none(
    face: Face, book: Path, tmp_path: Path
) -> None:
    latest = face.open(book)
    already = len(face.told)
    face.owner.open(lambda: open_logbook(tmp_path / "none.yondle"))
    assert isinstance(face.wait_for(NotOpened, already).error, KnownError)
    assert any(isinstance(told, Closed) for told in face.told[already:])
    (answer,) = face.ask(latest, WriteNote(1, "too late"))
    assert "isn't open any more" in str(answer.error)
    assert face.owner.life is Life.CLOSED
    again = face.open(book)
    assert not again.now.step(1).notes


def test_what_was_postponed_to_a_test_that_ends_first_is_done_after_it(face: Face, book: Path) -> None:
    latest = face.open(book)
    face.ask(latest, Propose("core_clock", 4300.0))
    face.owner.order(TryProposal(2))
    answers = face.ask(latest, LimitRange("core_clock", None, 4500.0))
    face.wait_for(Ended)
    face.owner.order(WhoAmI())
    face.wait_for(Ended, len(face.told))
    assert [a.error for a in answers] == [None]
    assert latest.now.declaration.ceilings["core_clock"] == 4500.0


def test_the_life_of_a_book_goes_by_its_table() -> None:
    for life in Life:
        for event in LifeEvent:
            if (life, event) in TRANSITIONS.then:
                assert TRANSITIONS.follow(life, event) in Life
            else:
                with pytest.raises(IllegalTransitionError):
                    TRANSITIONS.follow(life, event)
    written = (Path(__file__).resolve().parents[2] / "docs" / "architecture.md").read_text("utf-8")
    assert TRANSITIONS.table() in written
