"""Keeping a profile over restarts, in the window: asked for by hand, told when it was given up."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of

from yondle.app.profiles import keeping
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.commands import Command
from yondle.app.session.opening import open_logbook
from yondle.app.session.session import Session
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.keeping import KeepCard
from yondle.formats.documents import KeptOverRestarts
from yondle.model.kept import BATTERY, Incident, KeptNow
from yondle.model.profiles import Purpose


class Set(Command[None]):
    """Have the machine keep something."""

    def __init__(self, now: KeptNow) -> None:
        self.now = now

    def do(self, session: Session) -> None:
        session.kept_here = self.now


def shown(window: MainWindow, qtbot: QtBot, now: KeptNow) -> Any:
    tune = window.tune
    assert tune is not None
    tune.book.ask(Set(now), lambda _: None, lambda error: None)
    qtbot.waitUntil(lambda: tune.book.now.kept_here == now)
    return tune


def test_a_profile_is_kept_after_a_question_and_ended_or_taken_up_again(
    measured: Path, open_book: Open, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = open_logbook(measured)
    session.do(KeepProfile("Daily", Purpose.DAILY))
    session.keep(KeptOverRestarts(id="5f0c"))
    session.close()
    asked: list[Any] = []
    state = [KeptNow({})]
    monkeypatch.setattr(keeping, "must_be_this", lambda session: None)
    monkeypatch.setattr(keeping, "standard_held", lambda book, record: "quick")
    monkeypatch.setattr(keeping, "kept_part", lambda *_: keeping.KeptPart({"core_clock": 4300.0}, ("Fan level",)))
    monkeypatch.setattr(keeping, "tell_keeper", lambda *words: asked.append(words))
    monkeypatch.setattr(keeping, "kept_now", lambda: state[0])
    window = open_book(measured)
    tune = shown(window, qtbot, state[0])
    tune.profiles.show()
    button_of(tune.side, "Keep after restart").click()
    card = tune.side.findChild(KeepCard)
    assert card is not None
    card.source.setCurrentIndex(2)
    state[0] = KeptNow({BATTERY: ("Daily", "5f0c", 2)}, "", "Daily")
    card.keep_button.click()
    qtbot.waitUntil(lambda: len(asked) == 1)
    word, request = asked[0]
    assert (word, request["for"], request["instead"]) == ("set", BATTERY, False)
    assert request["profile"] == {"name": "Daily", "logbook": "5f0c", "step": 2, "values": {"core_clock": 4300.0}}
    qtbot.waitUntil(lambda: "Kept over restarts on battery, in force now" in texts(tune))
    qtbot.waitUntil(lambda: "Not kept, since the kernel doesn't set it: fan level." in " ".join(texts(tune)))
    stopped = KeptNow(state[0].profiles, "the machine went down", "", (Incident("it went down", "", "Daily", "5f0c"),))
    shown(window, qtbot, stopped)
    tune.profiles.tell_given_up()
    qtbot.waitUntil(lambda: "'Daily' is no longer kept over restarts: the machine went down." in " ".join(texts(tune)))
    button_of(tune.side, "Show the profiles").click()
    button_of(tune.side, "Keep it again").click()
    qtbot.waitUntil(lambda: asked[-1] == ("again",))
    state[0] = KeptNow({})
    button_of(tune.side, "Keep nothing over restarts").click()
    qtbot.waitUntil(lambda: asked[-1] == ("off",))
    qtbot.waitUntil(lambda: not any(text.startswith("Kept over restarts") for text in texts(tune)))


def texts(tune: Any) -> list[str]:
    from PySide6.QtWidgets import QLabel

    return [each.text() for each in tune.side.findChildren(QLabel) if each.isVisible()]
