"""Fifteen things by keyboard alone, each with no more keys than are told in docs/window.md; letters of names aren't counted."""

from __future__ import annotations

import re
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import settle, tune_of

from yondle.desktop.shell.help import HelpPage
from yondle.desktop.tune.limits import SensorLimitsCard

TOLD = Path(__file__).parent.parent.parent / "docs" / "window.md"
CTRL, SHIFT, ALT = (getattr(Qt.KeyboardModifier, f"{name}Modifier") for name in ("Control", "Shift", "Alt"))


class Keys:
    """Presses keys on whatever has the focus, and counts them."""

    def __init__(self) -> None:
        self.counts: dict[str, int] = {}
        self._what = ""

    def begin(self, what: str) -> None:
        """Begin another thing."""
        self._what = what
        self.counts[what] = 0

    def press(self, *keys: Qt.Key, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """Press keys one after the other."""
        for key in keys:
            focused = QApplication.focusWidget()
            assert focused is not None, self._what
            QTest.keyClick(focused, key, held)
            self.counts[self._what] += 1
            QApplication.processEvents()

    def type(self, words: str) -> None:
        """Type words, which aren't counted."""
        QTest.keyClicks(QApplication.focusWidget(), words)


def told() -> dict[str, int]:
    """Give what docs/window.md says each thing takes."""
    rows = re.findall(r"^\| ([^|]+?) \| [^|]+ \| (\d+) \|$", TOLD.read_text("utf-8"), re.MULTILINE)
    return {what: int(keys) for what, keys in rows}


def test_fifteen_things_by_keyboard_alone(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune, keys = tune_of(window), Keys()
    book = tune.book

    keys.begin("propose the next value")
    keys.press(Qt.Key.Key_Right)
    assert book.now.proposal is not None
    keys.begin("drop the proposal")
    keys.press(Qt.Key.Key_Escape)
    assert book.now.proposal is None
    keys.begin("take that back")
    keys.press(Qt.Key.Key_Z, held=CTRL)
    assert book.now.proposal is not None
    keys.begin("test it")
    keys.press(Qt.Key.Key_Return)
    settle(qtbot, window)
    assert len(book.now.steps) == 3
    keys.begin("select the step before on the trail")
    keys.press(Qt.Key.Key_2, held=ALT)
    keys.press(Qt.Key.Key_Down)
    assert tune.trail.selected() == 2
    keys.begin("go back to it")
    keys.press(Qt.Key.Key_G)
    settle(qtbot, window)
    assert book.now.position.step.number == 2
    keys.begin("write a note")
    keys.press(Qt.Key.Key_N)
    keys.type("quiet")
    keys.press(Qt.Key.Key_Return, held=CTRL)
    assert [note.text for note in book.now.step(2).notes] == ["quiet"]
    keys.begin("keep it as a profile")
    keys.press(Qt.Key.Key_2, held=ALT)
    keys.press(Qt.Key.Key_K)
    keys.type("Planet night")
    keys.press(Qt.Key.Key_Return)
    assert [p.name for p in book.now.profiles] == ["Planet night"]
    keys.begin("compare two steps")
    keys.press(Qt.Key.Key_2, held=ALT)
    keys.press(Qt.Key.Key_Down, held=SHIFT)
    keys.press(Qt.Key.Key_C)
    compare = window.places.place("Compare")
    qtbot.waitUntil(lambda: compare.isVisible() and compare.complete)
    assert [column.address for column in compare.view.columns] == ["1", "2"]
    keys.begin("go to another place")
    keys.press(Qt.Key.Key_2, held=CTRL)
    scaling = window.places.place("Scaling")
    qtbot.waitUntil(lambda: scaling.isVisible() and scaling.complete)
    keys.begin("read a chart's figures as a table")
    keys.press(Qt.Key.Key_T)
    assert scaling.beside.table.hasFocus()
    keys.begin("have help about what has the focus")
    keys.press(Qt.Key.Key_F1)
    assert isinstance(window.over.page, HelpPage)
    keys.press(Qt.Key.Key_Escape)
    keys.begin("do anything by its name")
    keys.press(Qt.Key.Key_1, held=CTRL)
    keys.press(Qt.Key.Key_K, held=CTRL)
    keys.type("sweep or")
    keys.press(Qt.Key.Key_Return)
    assert tune.side.cards.get("sweep") is not None
    keys.begin("look for the edge")
    keys.press(Qt.Key.Key_1, held=ALT)
    keys.press(Qt.Key.Key_E)
    assert tune.side.cards.get("edge question") is not None
    keys.begin("stop a test")
    keys.press(Qt.Key.Key_1, held=ALT)
    keys.press(Qt.Key.Key_Right, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.bridge.busy or len(book.now.steps) > 3)
    keys.press(Qt.Key.Key_Escape)
    settle(qtbot, window)
    assert keys.counts == told()


def test_return_in_a_field_ends_what_is_typed_and_tests_nothing(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    """Else a stop that was typed a moment ago would not be one in the test that Return begins."""
    window = open_book(measured)
    tune = tune_of(window)
    steps = len(tune.book.now.steps)
    tune._propose("core_clock", 4325)
    tune.actions_by_name["sensors"].trigger()
    card = tune.side.cards.get("limits")
    assert isinstance(card, SensorLimitsCard)
    channel, box = next((c, b) for c, b in card.boxes.items() if b.value() > 0.0)
    box.setFocus()
    box.selectAll()
    QTest.keyClicks(box, "81")
    QTest.keyClick(box, Qt.Key.Key_Return)
    settle(qtbot, window)
    assert {limit.channel: limit.most for limit in tune.book.now.declaration.limits}[channel] == 81.0
    tune.filter.setFocus()
    QTest.keyClicks(tune.filter, "core cl")
    QTest.keyClick(tune.filter, Qt.Key.Key_Enter)
    settle(qtbot, window)
    assert len(tune.book.now.steps) == steps, "nothing is tested"
    assert tune.book.now.proposal is not None
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
    settle(qtbot, window)
    assert len(tune.book.now.steps) == steps + 1, "on a ruler it is"
