"""Several logbooks open at once: each with its own running test, read together by Compare, closed one by one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.driving import settle

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.shelf import Shelf
from yondle.model.verdicts import Failure, Verdict


@pytest.fixture
def shelf(qtbot: QtBot, theme: Theme) -> Iterator[Shelf]:
    theme.force("paper")
    made = Shelf(theme)
    made.show()
    yield made
    made.close()
    qtbot.waitUntil(lambda: not made.books, timeout=20_000)
    made.deleteLater()


def tabs(shelf: Shelf) -> list[str]:
    return [each.text() for each in shelf._strip.findChildren(QPushButton) if not each.isHidden()]


def test_two_benches_through_one_night(
    new_session: Callable[..., Session], shelf: Shelf, qtbot: QtBot, tmp_path: Path
) -> None:
    session = new_session(quick_rig())
    session.do(RunBaseline(2))
    session.close()
    (tmp_path / "other").mkdir()
    other = tmp_path / "other" / "bittern.yondle"
    create_logbook(
        other, RigChoice("simulated", "Bittern", quick_rig().replace('name = "Heron"', 'name = "Bittern"'))
    ).close()
    first = shelf.shown
    first.open_logbook(session.logbook.path, 4.0)
    qtbot.waitUntil(lambda: first.tune is not None and first.tune.complete, timeout=20_000)
    assert first.book is not None
    assert tabs(shelf) == [], "one book needs no tab"
    first.book.do(Propose("core_clock", 4300))
    first.bridge.order(TryProposal(2))
    qtbot.waitUntil(lambda: first.tune is not None and first.tune.progress.running)
    first.open_logbook(other, None)
    assert len(shelf.books) == 2
    second = shelf.shown
    assert second is not first
    qtbot.waitUntil(lambda: second.tune is not None and second.tune.complete, timeout=20_000)
    assert first.bridge.busy, "it goes on with its test"
    qtbot.waitUntil(lambda: tabs(shelf) == ["Heron · testing", "Bittern"])
    second.bridge.order(RunBaseline(2))
    settle(qtbot, second)
    assert second.book is not None
    assert second.book.now.baseline_step is not None
    assert first.bridge.busy, "both have run at once"
    first.open_logbook(other)
    assert shelf.shown is second, "what is open already is shown"
    assert len(shelf.books) == 2
    qtbot.keyClick(shelf, Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: shelf.shown is first)
    first.go_to(3)
    assert first.places is not None
    compare = first.places.place("Compare")
    qtbot.waitUntil(lambda: compare.view is not None)
    compare.read(other)
    qtbot.waitUntil(lambda: compare._addresses[-1] == f"{other.resolve()}#stock", timeout=20_000)
    both = ["stock", f"{other.resolve()}#stock"]
    compare.refresh()
    qtbot.waitUntil(lambda: [column.address for column in compare.view.columns] == both, timeout=20_000)
    assert other.resolve() in first.book.beside()
    shelf.show_book(second)
    second._close_book()
    qtbot.waitUntil(lambda: shelf.books == [first])
    assert tabs(shelf) == []
    path = session.logbook.path
    shelf.close()
    assert shelf.books, "the test is stopped and the rig put back before anything closes"
    qtbot.waitUntil(lambda: not shelf.books, timeout=20_000)
    read = open_logbook(path)
    outcome = read.snapshot.steps[-1].outcome
    assert outcome is not None
    assert (outcome.failure, outcome.verdict) == (Failure.STOPPED, Verdict.UNPROVEN)
    read.close()


def test_another_is_begun_on_a_first_page_of_its_own(
    new_session: Callable[..., Session], shelf: Shelf, qtbot: QtBot
) -> None:
    session = new_session(quick_rig())
    session.close()
    first = shelf.shown
    first._begin_another()
    assert len(shelf.books) == 1, "this is a first page"
    first.open_logbook(session.logbook.path)
    qtbot.waitUntil(lambda: first.tune is not None and first.tune.complete, timeout=20_000)
    first._begin_another()
    qtbot.waitUntil(lambda: tabs(shelf)[-1:] == ["First page"])
    assert shelf.shown.first is not None
