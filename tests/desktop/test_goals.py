"""Goals in the window: what is worth trying next, its first step proposed, and a climb as it goes and ends."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, tune_of, words

from yondle.analysis.stability import Standard
from yondle.app.machine.machines import RigChoice
from yondle.app.session.limits import LimitRange
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.desktop.tune.goal_cards import ClimbCard, NextCard
from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.profiles import ProfileCard
from yondle.planning.edge_search import Style
from yondle.planning.goals.goal import Kind
from yondle.views.next.next import goal_of


@pytest.fixture
def tune(open_book: Open, tmp_path: Path) -> TunePlace:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(3))
    session.do(LimitRange("core_voltage", None, 1.3))
    session.close()
    return tune_of(open_book(path))


def asked(qtbot: QtBot, tune: TunePlace) -> NextCard:
    tune.actions_by_name["next"].trigger()
    card = tune.side.cards.get("next")
    assert isinstance(card, NextCard)
    assert "Working it out" in words(card)
    qtbot.waitUntil(lambda: "1. " in words(card) and card.climb.isEnabled(), timeout=20_000)
    return card


def test_ways_are_told_with_what_they_bring_and_a_click_proposes_the_first_step(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    told = words(card)
    assert "to hold, about" in told
    assert "for each 1\u202f% of" in told
    assert "What each knob is worth now" in told
    qtbot.mouseClick(button_of(card, "Propose its first step"), Qt.MouseButton.LeftButton)
    proposal = tune.book.now.proposal
    assert proposal is not None
    assert len(proposal.changes) == 1
    card.form.kind.setCurrentIndex(list(Kind).index(Kind.QUIET))
    assert card.form.loss.isVisibleTo(card)
    assert not card.climb.isEnabled()
    qtbot.waitUntil(card.climb.isEnabled, timeout=10_000)
    qtbot.waitUntil(lambda: "Fan level to 20" in words(card))


def test_a_climb_shows_its_way_and_ends_with_what_it_found(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    card.form.hours.setValue(2.0)
    qtbot.waitUntil(card.climb.isEnabled, timeout=10_000)
    seen: list[tuple[float, str]] = []
    tune.plans.goals._moved.connect(lambda view: seen.append((view.hours, view.setup)))
    qtbot.mouseClick(card.climb, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: isinstance(tune.side.cards.get("climb"), ClimbCard), timeout=20_000)
    assert "Climbing: highest Stacking" in words(tune.side)
    qtbot.waitUntil(lambda: not tune.running and not tune.progress.running, timeout=120_000)
    ended = tune.side.cards.get("climb")
    assert isinstance(ended, ClimbCard)
    assert ended.title == "The climb is done: highest Stacking"
    assert "of score" in ended.words.text()
    assert "core voltage" in words(ended)
    assert len(seen) > 10
    assert [hours for hours, _ in seen] == sorted(hours for hours, _ in seen)
    assert goal_of(tune.book.now).hours == 2.0
    button_of(ended, "Keep it as a profile").click()
    assert isinstance(tune.side.cards.get("profile"), ProfileCard)


def test_a_goal_that_nothing_serves_says_what_to_do(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    card.form.benchmark.setCurrentIndex(0)
    qtbot.waitUntil(lambda: "the mean of" in words(card))


def test_standard_crashes_target_and_knobs_are_chosen_and_kept(qtbot: QtBot, tune: TunePlace) -> None:
    card = asked(qtbot, tune)
    form = card.form
    assert not form.standard.isVisibleTo(card), "what is seldom changed is folded"
    form.more.click()
    form.standard.setCurrentIndex(list(Standard).index(Standard.SESSION))
    form.crashes.setCurrentIndex(list(Style).index(Style.CAREFUL))
    form.target.setValue(9999.0)
    rows = {form.knobs.item(i).text(): form.knobs.item(i) for i in range(form.knobs.count())}
    for name, item in rows.items():
        item.setCheckState(Qt.CheckState.Checked if name == "Core clock" else Qt.CheckState.Unchecked)
    wanted = card.goal()
    assert (wanted.standard, wanted.style, wanted.target) == (Standard.SESSION, Style.CAREFUL, 9999.0)
    assert wanted.knobs == ("core_clock",)
    qtbot.waitUntil(lambda: card.climb.isEnabled(), timeout=10_000)
    assert "Fan level" not in words(card._ways)
    rows["Core clock"].setCheckState(Qt.CheckState.Unchecked)
    qtbot.waitUntil(lambda: "tick what it may touch" in words(card), timeout=10_000)
    assert not card.climb.isEnabled()
    form.kind.setCurrentIndex(list(Kind).index(Kind.QUIET))
    assert card.goal().target is None
