"""The desktop is told over a real session bus: how a long test ended, in a notification that leads back, and how far it is."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot
from tests.desktop.bus import Desktop, session_bus
from tests.desktop.conftest import Open
from tests.desktop.driving import settle, tune_of

from yondle.app.session.requests import SetPace
from yondle.app.system.preferences import Preferences, keep_preferences
from yondle.app.system.telling import notify
from yondle.desktop.shell import news as shell


@pytest.fixture
def desktop(monkeypatch: pytest.MonkeyPatch) -> Iterator[Desktop]:
    with session_bus() as address:
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", address)
        made = Desktop(address)
        yield made
        made.close()


def test_a_long_test_is_told_of_and_a_click_leads_to_its_step(
    qtbot: QtBot, desktop: Desktop, measured: Path, open_book: Open, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(shell, "LONG_S", 0.0)
    keep_preferences(Preferences(sound=True))
    window = open_book(measured, pace=300.0)
    tune = tune_of(window)
    monkeypatch.setattr(window, "isActiveWindow", lambda: False)
    tune._propose("core_clock", 4400.0)
    tune._test()
    settle(qtbot, window)
    qtbot.waitUntil(lambda: len(desktop.notified) == 1, timeout=5_000)
    assert desktop.signatures == ["susssasa{sv}i"]
    _, _, _, title, _, actions, hints, _ = desktop.notified[0]
    assert title.startswith("Heron: step 3 ")
    assert actions[0] == "default"
    assert hints["sound-name"] == ("s", "complete")
    qtbot.waitUntil(lambda: bool(desktop.progress) and not desktop.progress[-1]["progress-visible"], timeout=5_000)
    shares = [each["progress"] for each in desktop.progress if each["progress-visible"]]
    assert shares == sorted(shares)
    assert len(set(shares)) > 3
    window.go_to(1)
    tune.trail.choose(1)
    desktop.click()
    qtbot.waitUntil(lambda: tune.trail.selected() == 3, timeout=5_000)
    assert tune.isVisible()
    window.news.tell_ended()
    qtbot.waitUntil(lambda: len(desktop.notified) == 2, timeout=5_000)
    keep_preferences(Preferences(notify=False))
    window.news.tell_ended()
    window.book.ask(SetPace(None))  # type: ignore[union-attr]
    qtbot.wait(200)
    assert len(desktop.notified) == 2, "who wants none gets none"


def test_what_is_told_at_once_is_taken_or_not_and_markup_in_names_is_escaped(desktop: Desktop) -> None:
    assert notify("<b>Heron</b>", "<img src=x> & more")
    assert desktop.notified[0][3:5] == ("<b>Heron</b>", "&lt;img src=x&gt; &amp; more")
    assert desktop.notified[0][5] == []


def test_without_a_bus_or_with_a_dead_one_nobody_is_told(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS", raising=False)
    assert not notify("Heron", "")
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/none")
    assert not notify("Heron", "")
    code = (
        "from yondle.app.system.telling import DesktopTeller\n"
        "teller = DesktopTeller(print)\nteller.notify('a', 'b', '1')\nteller.progress(0.5)\nteller.close()\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], env=dict(os.environ), capture_output=True, text=True, timeout=20
    )
    assert (done.returncode, done.stderr) == (0, "")
