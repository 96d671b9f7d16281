"""Finding an edge in the window: the question, the search as it narrows, its end, and what can't be searched."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, settle, tune_of, window_of, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.requests import SetPace
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.tune.edge_cards import EdgeCard, SearchCard
from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.profiles import ProfileCard
from yondle.model.verdicts import Verdict


@pytest.fixture
def tune(open_book: Open, tmp_path: Path) -> TunePlace:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    for knob, value in (("power_limit", 120.0), ("fan_level", 80.0), ("core_voltage", 1.25)):
        session.do(Propose(knob, value))
        assert session.do(TryProposal(2)).verdict is Verdict.HELD
    session.close()
    return tune_of(open_book(path))


def asked(qtbot: QtBot, tune: TunePlace, knob: str = "core_clock") -> EdgeCard:
    tune._enter(knob)
    tune.actions_by_name["edge"].trigger()
    card = tune.side.cards.get("edge question")
    assert isinstance(card, EdgeCard)
    qtbot.waitUntil(card.run_button.isEnabled, timeout=10_000)
    return card


def test_the_edge_is_searched_found_and_told_with_its_probability(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    card.standard.setCurrentText("session")
    assert "fails less than once an hour" in card.meaning.text()
    card.standard.setCurrentText("quick")
    assert "fails less than once in 10" in card.meaning.text()
    assert not card.run_button.isEnabled()
    qtbot.waitUntil(card.run_button.isEnabled, timeout=10_000)
    assert "On an average machine" in card.told.text()
    seen: list[str] = []
    tune.plans.edge._moved.connect(lambda view: seen.append(view.coming))
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    told = tune.side.cards.get("edge")
    assert isinstance(told, SearchCard)
    assert told.title == "The edge of core clock is found"
    assert "estimated under the model" in told.words.text()
    assert "by passing alone" in words(told)
    assert any("if it holds" in coming for coming in seen)
    in_force = tune.book.now.declaration.knob("core_clock").text(tune.book.now.in_force["core_clock"])
    assert told.words.text().startswith(in_force)
    assert tune.book.now.position is not None
    assert tune.book.now.position.verdict is Verdict.HELD
    tune.trail.choose(tune.book.now.position.step.number)
    assert "recommended" in words(tune.side.inspector)


def test_what_is_recommended_is_kept_as_a_profile_from_the_card(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    card.standard.setCurrentText("quick")
    card.room.setValue(2)
    qtbot.waitUntil(card.run_button.isEnabled, timeout=10_000)
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert "With 2 notches of room" in words(tune.side)
    ended = tune.side.cards.get("edge")
    assert isinstance(ended, SearchCard)
    qtbot.mouseClick(button_of(ended, "Keep it as a profile"), Qt.MouseButton.LeftButton)
    profile = tune.side.cards.get("profile")
    assert isinstance(profile, ProfileCard)
    profile.name.setText("Quiet daily")
    profile.keep_button.click()
    kept = tune.book.now.profiles
    assert [(p.name, p.setup) for p in kept] == [("Quiet daily", tune.book.now.in_force)]


def test_a_line_of_edges_is_asked_for_told_and_leaves_the_rig_where_it_was(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    card.standard.setCurrentText("quick")
    card.along.setCurrentText("Core voltage")
    assert card.at.text().count(";") == 4
    assert not card.room.isEnabled()
    card.at.setText("1.20; warm")
    card.at.editingFinished.emit()
    qtbot.waitUntil(lambda: "can't be 'warm'" in card.told.text(), timeout=10_000)
    assert not card.run_button.isEnabled()
    card.at.setText("1.20 V; 1,25")
    card.at.editingFinished.emit()
    qtbot.waitUntil(card.run_button.isEnabled, timeout=10_000)
    before = tune.book.now.in_force
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    told = tune.side.cards.get("edge")
    assert isinstance(told, SearchCard)
    assert told.title == "2 edges of core clock, over core voltage"
    assert "1.200\u202fV: 4" in words(told)
    assert "Keep it as a profile" not in words(told)
    assert tune.book.now.in_force == before


def test_a_search_pauses_and_is_taken_up_again(qtbot: QtBot, tune: TunePlace) -> None:
    tune.book.ask(SetPace(100.0))
    card = asked(qtbot, tune)
    card.standard.setCurrentText("quick")
    qtbot.waitUntil(card.run_button.isEnabled, timeout=10_000)
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: isinstance(tune.side.cards.get("edge"), SearchCard), timeout=20_000)
    tune.plans.pause()
    settle(qtbot, window_of(tune))
    assert "A search is not finished" in words(tune.side)
    assert "Next: " in words(tune.side)
    assert tune.side.cards.get("edge") is None
    tested = len(tune.book.now.steps)
    tune.book.ask(SetPace(None))
    tune.plans.go_on()
    settle(qtbot, window_of(tune))
    assert len(tune.book.now.steps) > tested
    assert isinstance(tune.side.cards.get("edge"), SearchCard)


def test_a_knob_without_a_risky_end_has_no_edge(tune: TunePlace) -> None:
    tune._enter("fan_level")
    tune.actions_by_name["edge"].trigger()
    assert "No edge to find" in words(tune.side)
