"""A running test can be stopped from everywhere in the window, whatever is opened, and every key means one thing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QDialog, QFileDialog, QLineEdit
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.driving import button_of, settle, tune_of, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline
from yondle.desktop.shell.rooms import NAMES
from yondle.desktop.shell.window import MainWindow
from yondle.main import run
from yondle.model.verdicts import Failure
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text

Open = Callable[..., MainWindow]
SLOW = 20.0
"""A pace at which a test lasts much longer than any of these."""


def begin(qtbot: QtBot, window: MainWindow) -> None:
    """Begin a test that takes a while."""
    tune = tune_of(window)
    tune.book.do(Propose("core_clock", 4350))
    tune.refresh()
    tune.actions_by_name["test"].trigger()
    qtbot.waitUntil(lambda: tune.progress.running and tune.progress.number > 0, timeout=20_000)


def ended(window: MainWindow) -> Failure | None:
    outcome = tune_of(window).book.now.steps[-1].outcome
    return outcome.failure if outcome is not None else None


@pytest.mark.parametrize("place", range(len(NAMES)))
def test_a_test_is_stopped_by_its_keys_in_every_place(
    measured: Path, open_book: Open, qtbot: QtBot, place: int
) -> None:
    window = open_book(measured, SLOW)
    begin(qtbot, window)
    window.go_to(place)
    fields = [f for f in window.findChildren(QLineEdit) if f.isVisible()]
    if fields:
        fields[0].setFocus()
    by = Qt.KeyboardModifier.ShiftModifier if place % 2 else Qt.KeyboardModifier.NoModifier
    qtbot.keyClick(window.focusWidget() or window, Qt.Key.Key_Escape, by)
    settle(qtbot, window)
    assert ended(window) is Failure.STOPPED
    stock = tune_of(window).book.now.declaration.stock
    assert (tune_of(window).book.now.in_force == stock) is (place % 2 == 1)


def test_the_emergency_stop_is_heard_in_an_open_dialog(measured: Path, open_book: Open, qtbot: QtBot) -> None:
    window = open_book(measured, SLOW)
    begin(qtbot, window)
    dialog = QDialog(window)
    dialog.setModal(True)
    dialog.show()
    qtbot.waitUntil(dialog.isVisible)
    qtbot.keyClick(dialog, Qt.Key.Key_Escape, Qt.KeyboardModifier.ShiftModifier)
    settle(qtbot, window)
    assert ended(window) is Failure.STOPPED
    dialog.close()


def test_opening_another_book_asks_to_stop_the_test_first(
    measured: Path, open_book: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    other = tmp_path / "other.yondle"
    create_logbook(other, RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(measured, SLOW)
    begin(qtbot, window)
    window.go_to(NAMES.index("Map"))
    window.open_logbook(other)
    tune = tune_of(window)
    assert window.book is tune.book
    assert tune.book.now.path == measured
    assert "A test is running here" in words(tune.side)
    button_of(tune.side, "Let it run").click()
    assert tune.progress.running
    window.open_logbook(other)
    button_of(tune.side, "Stop it").click()
    qtbot.waitUntil(lambda: window.book is not None and window.book.now.path == other, timeout=20_000)
    session = open_logbook(measured)
    assert session.snapshot.steps[-1].outcome is not None
    assert session.snapshot.steps[-1].outcome.failure is Failure.STOPPED
    assert session.snapshot.resumed == ()
    session.close()


def test_of_two_books_opened_at_once_the_latest_is_shown_and_the_other_let_go(
    measured: Path, window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    other = tmp_path / "other.yondle"
    create_logbook(other, RigChoice("simulated", "Heron", quick_rig())).close()
    window.open_logbook(measured)
    window.open_logbook(other)
    qtbot.waitUntil(lambda: window.book is not None and not window.bridge.busy, timeout=20_000)
    assert window.book is not None
    assert window.book.now.path == other
    open_logbook(measured).close()


def test_choosing_no_book_leaves_the_one_that_is_open(
    measured: Path, open_book: Open, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_book(measured)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: ("", ""))
    next(a for a in window.actions() if a.text().startswith("Open a logbook")).trigger()
    assert window.book is not None
    assert window.places is not None
    assert window.places.isVisible()


def test_the_command_line_stops_a_test_of_the_window(
    measured: Path, open_book: Open, qtbot: QtBot, capsys: pytest.CaptureFixture[str]
) -> None:
    window = open_book(measured, SLOW)
    begin(qtbot, window)
    assert run(["stop", str(measured)]) == 0
    assert "stopped" in capsys.readouterr().out
    settle(qtbot, window)
    assert ended(window) is Failure.STOPPED
    assert run(["stop", str(measured)]) == 2
    assert "no test of it runs" in capsys.readouterr().err


def test_every_key_means_one_thing_in_every_place(measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    assert window.places is not None
    for i in range(len(NAMES)):
        window.go_to(i)
        place = window.places.currentWidget()
        heard = {a for widget in (window, place) if widget is not None for a in widget.actions() if a.isEnabled()}
        keys = Counter(key.toString() for action in heard for key in action.shortcuts())
        assert [key for key, count in keys.items() if count > 1] == [], NAMES[i]


def test_a_rig_without_knobs_can_be_measured_and_looked_at(tmp_path: Path, open_book: Open, qtbot: QtBot) -> None:
    names = ", ".join(f'"knobs.{name}"' for name in parse_rig_file(rig_text("heron")[0], "Heron").knobs)
    (tmp_path / "bare.toml").write_text(f'like = "heron"\nwithout = [{names}]\n')
    text, _ = rig_text(str(tmp_path / "bare.toml"))
    session = create_logbook(tmp_path / "bare.yondle", RigChoice("simulated", "Bare", text))
    session.do(RunBaseline(2))
    session.close()
    window = open_book(tmp_path / "bare.yondle")
    tune = tune_of(window)
    for i in range(len(NAMES)):
        window.go_to(i)
        qtbot.wait(20)
    window.go_to(0)
    tune.trail.choose(1)
    for action in (*tune.actions_by_name.values(), *window._actions[7:14]):
        if action.isEnabled() and "…" not in action.text() and "baseline" not in action.text():
            action.trigger()
    settle(qtbot, window)
    window._close_book()
    qtbot.waitUntil(lambda: window.first is not None and not window.bridge.busy, timeout=20_000)
    for command in ("status", "scaling", "limits", "efficiency", "log", "compare"):
        assert run([command, str(tmp_path / "bare.yondle")]) in (0, 2)


def test_a_window_that_closes_over_a_test_stops_it(measured: Path, open_book: Open, qtbot: QtBot) -> None:
    window = open_book(measured, SLOW)
    begin(qtbot, window)
    QTimer.singleShot(0, window.close)
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=20_000)
    session = open_logbook(measured)
    assert session.snapshot.steps[-1].outcome is not None
    assert session.snapshot.steps[-1].outcome.failure is Failure.STOPPED
    session.close()
