"""Tune with all of Heron's knobs: groups, filter, own limits, entries by hand, readiness, sweeps and profiles."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from pytestqt.qtbot import QtBot
from tests.desktop.driving import ruler, settle, tune_of, window_of, words

from yondle.app.session.limits import TellConditions
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.by_hand import EntryCard
from yondle.desktop.tune.limits import RangeCard, SensorLimitsCard
from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.plans import SweepCard
from yondle.desktop.tune.profiles import ProfileCard
from yondle.desktop.tune.ruler import SCALE_Y
from yondle.model.events import Record, StepOpened
from yondle.model.knobs import Subsystem
from yondle.model.verdicts import Verdict

Open = Callable[..., MainWindow]


@pytest.fixture
def tune(measured: Path, open_book: Open) -> TunePlace:
    return tune_of(open_book(measured))


def press(
    qtbot: QtBot, tune: TunePlace, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
) -> None:
    qtbot.keyClick(tune.window(), key, modifier)


def test_knobs_stand_in_groups_that_fold_and_stay_as_they_were_left(
    qtbot: QtBot,
    tune: TunePlace,
    measured: Path,
    open_book: Open,
) -> None:
    assert "core_clock" in tune.rulers.shown
    assert "memory_rate" not in tune.rulers.shown
    memory, processor = tune.rulers.head(Subsystem.MEMORY), tune.rulers.head(Subsystem.PROCESSOR)
    assert memory is not None
    assert processor is not None
    assert memory.summary == "12 knobs, all at stock"
    qtbot.mouseClick(memory, Qt.MouseButton.LeftButton)
    processor.setFocus()
    qtbot.keyClick(processor, Qt.Key.Key_Left)
    assert "memory_rate" in tune.rulers.shown
    assert "core_clock" not in tune.rulers.shown
    assert "Core clock 4\u202f300\u202fMHz" in processor.summary
    shown = tune.rulers.shown
    assert tune_of(open_book(measured)).rulers.shown == shown


def test_the_filter_finds_knobs_in_folded_groups_and_escape_clears_it(qtbot: QtBot, tune: TunePlace) -> None:
    press(qtbot, tune, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(tune.filter, "voltage")
    assert tune.rulers.shown == ["core_voltage", "load_line", "memory_voltage", "controller_voltage"]
    tune.filter.setText("changed")
    assert tune.rulers.shown == ["core_clock"]
    tune.filter.setText("quantum")
    assert tune.rulers.shown == []
    assert "No knob of that name" in words(tune.rulers)
    press(qtbot, tune, Qt.Key.Key_Escape)
    assert "core_clock" in tune.rulers.shown


def test_own_limits_are_set_on_the_ruler_by_key_and_by_dragging(qtbot: QtBot, tune: TunePlace) -> None:
    on = ruler(window_of(tune), "core_voltage")
    on.setFocus()
    press(qtbot, tune, Qt.Key.Key_L)
    card = tune.rulers.question
    assert isinstance(card, RangeCard)
    card.high.setValue(1.30)
    qtbot.mouseClick(card.set_button, Qt.MouseButton.LeftButton)
    assert tune.rulers.question is None
    tune._propose("core_voltage", 1.32)
    assert "above your own limit of 1.300" in words(tune.rulers)
    assert tune.book.now.proposal is None
    start = on.centre_of(1.30) + QPointF(0, 7)
    end = on.centre_of(1.25) + QPointF(0, 7)
    assert start.y() > SCALE_Y
    qtbot.mousePress(on, Qt.MouseButton.LeftButton, pos=start.toPoint())
    qtbot.mouseMove(on, end.toPoint())
    qtbot.mouseRelease(on, Qt.MouseButton.LeftButton, pos=QPoint(round(end.x()), round(end.y())))
    assert tune.book.now.declaration.ceilings["core_voltage"] == pytest.approx(1.25, abs=0.0051)


def test_sensor_limits_are_changed_in_place(tune: TunePlace) -> None:
    tune.actions_by_name["sensors"].trigger()
    card = tune.side.cards.get("limits")
    assert isinstance(card, SensorLimitsCard)
    card.boxes["processor_temperature"].setValue(75.0)
    assert {x.channel: x.most for x in tune.book.now.declaration.limits}["processor_temperature"] == 75.0
    card.boxes["processor_temperature"].setValue(0.0)
    assert all(x.channel != "processor_temperature" for x in tune.book.now.declaration.limits)


def test_a_knob_set_by_hand_says_what_to_enter_and_goes_on_after_the_restart(qtbot: QtBot, tune: TunePlace) -> None:
    tune._propose("memory_rate", 5800)
    assert "Entered by hand in firmware setup" in words(tune.side)
    assert "13.79\u202fns" in [value for _, value in tune.rulers.ruler("cas").view.derived]  # type: ignore[union-attr]
    tune.actions_by_name["test"].trigger()
    settle(qtbot, window_of(tune))
    card = tune.side.cards.get("entry")
    assert isinstance(card, EntryCard)
    assert "5\u202f800\u202fMT/s" in words(card)
    assert card.minimumSizeHint().width() <= tune.side.width() - 2 * card.parentWidget().x()
    assert "Waiting for you" in words(tune.side)
    assert not tune.actions_by_name["test"].isEnabled()
    assert not tune.actions_by_name["baseline"].isEnabled()
    seen: list[int | None] = []
    tune.settled.connect(lambda: seen.append(tune.progress.step))
    qtbot.mouseClick(card.go_on_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert 3 in seen, "it is shown running again"
    assert tune.book.now.in_force["memory_rate"] == 5800.0
    assert tune.side.cards.get("entry") is None
    assert "Step 3: held" in words(tune.side)


def test_what_is_not_ready_is_said_before_a_baseline_and_can_be_gone_on_with(qtbot: QtBot, tune: TunePlace) -> None:
    tune.book.ask(TellConditions({"power source": "battery"}))
    press(qtbot, tune, Qt.Key.Key_B, Qt.KeyboardModifier.ControlModifier)
    settle(qtbot, window_of(tune))
    card = tune.side.cards.get("ready")
    assert card is not None
    assert "Power source: battery" in card.text
    qtbot.mouseClick(card.buttons[1], Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    latest = tune.book.now.steps[-1].attempts[-1]
    assert "power source: battery" in str(latest.conditions["not ready, started anyway"])


def test_a_sweep_says_what_it_takes_and_runs_to_its_end(qtbot: QtBot, tune: TunePlace) -> None:
    tune._enter("fan_level")
    tune.actions_by_name["sweep"].trigger()
    card = tune.side.cards.get("sweep")
    assert isinstance(card, SweepCard)
    for box, value in ((card.low, 35), (card.high, 45), (card.by, 10), (card.passes, 2)):
        box.setValue(value)
    assert "2 tests, about" in card.told.text()
    card.low.setValue(36)
    assert "between its steps" in card.told.text()
    assert not card.run_button.isEnabled()
    card.low.setValue(35)
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert "The plan is done" in words(tune.side)
    tried = [r.step.setup["fan_level"] for r in tune.book.now.steps[2:]]
    assert tried == [35.0, 45.0]
    assert tune.book.now.in_force["fan_level"] == 40.0
    tune.actions_by_name["sweep"].trigger()
    card = tune.side.cards.get("sweep")
    assert isinstance(card, SweepCard)
    card.order.setCurrentText("until it fails")
    assert not card.low.isEnabled()
    for box, value in ((card.high, 50), (card.by, 10), (card.passes, 2)):
        box.setValue(value)
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force["fan_level"] == 50.0


def test_a_sweep_in_rounds_comes_back_to_its_start_and_is_read_as_a_whole(qtbot: QtBot, tune: TunePlace) -> None:
    tune._enter("core_clock")
    tune.actions_by_name["sweep"].trigger()
    card = tune.side.cards.get("sweep")
    assert isinstance(card, SweepCard)
    for box, value in ((card.low, 4200), (card.high, 4500), (card.by, 150), (card.passes, 3)):
        box.setValue(value)
    card.order.setCurrentText("in rounds")
    assert card.low.isEnabled()
    start = tune.book.now.in_force
    qtbot.mouseClick(card.run_button, Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force == start
    assert any(r.step.parent == 2 and not r.step.changes for r in tune.book.now.steps)
    assert "In rounds: 4\u202f500\u202fMHz brought most" in words(tune.chart_panel)


def test_a_plan_file_is_shown_before_it_runs_and_pauses_after_the_step(
    qtbot: QtBot,
    tmp_path: Path,
    open_book: Open,
    measured: Path,
) -> None:
    plan = tmp_path / "plan.toml"
    plan.write_text("""
format = "yondle-plan 1"
name = "two steps"
passes = 2
[[do]]
kind = "steps"
steps = [{ memory_rate = 5800 }, { fan_level = 45 }, { core_voltage = 1.40 }]
""")
    tune = tune_of(open_book(measured, 300.0))
    tune.plans.show(plan)
    card = tune.side.cards.get("plan file")
    assert card is not None
    assert "2 tests" in card.text
    assert "1 restart" in card.text
    assert "Left out: Core voltage 1.400" in card.text

    def pause(records: list[Record]) -> None:
        if any(isinstance(record, StepOpened) for record in records):
            tune.plans.pause()

    tune._bridge.records.connect(pause)
    qtbot.mouseClick(card.buttons[0], Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force["memory_rate"] == 5800.0, "the owner enters it while a plan runs"
    assert "A plan is not finished" in words(tune.side)
    tune = tune_of(open_book(measured))
    card = tune.side.cards.get("plan")
    assert card is not None
    assert "two steps: 1 move made" in card.text
    qtbot.mouseClick(card.buttons[0], Qt.MouseButton.LeftButton)
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force["fan_level"] == 45.0
    assert "The plan is done" in words(tune.side)


def test_a_step_that_held_is_kept_by_name_and_put_in_force_again(qtbot: QtBot, tune: TunePlace) -> None:
    tune.trail.choose(2)
    press(qtbot, tune, Qt.Key.Key_K)
    card = tune.side.cards.get("profile")
    assert isinstance(card, ProfileCard)
    qtbot.keyClicks(card.name, "Hush")
    card.purpose.setCurrentText("quiet")
    qtbot.mouseClick(card.keep_button, Qt.MouseButton.LeftButton)
    assert "Hush · quiet · in force" in words(tune.side)
    tune.actions_by_name["stock"].trigger()
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force == tune.book.now.declaration.stock
    tune.actions_by_name["profiles"].trigger()
    assert "On battery use 'Hush'." in words(tune.side)
    tune.profiles.use("Hush")
    settle(qtbot, window_of(tune))
    assert tune.book.now.in_force["core_clock"] == 4300.0


def test_a_failure_names_what_it_points_to_and_is_tested_once_more(qtbot: QtBot, tune: TunePlace) -> None:
    tune._propose("core_clock", 4700)
    tune.actions_by_name["test"].trigger()
    settle(qtbot, window_of(tune))
    failed = tune.book.now.steps[-1]
    assert failed.verdict in (Verdict.DOWN, Verdict.WRONG)
    assert "Points to the processor" in words(tune.side)
    press(qtbot, tune, Qt.Key.Key_O)
    settle(qtbot, window_of(tune))
    assert len(tune.book.now.steps[-1].attempts) == 2
    assert tune.side.inspector.view is not None
    assert ("Tested", "2 times, held 0") in tune.side.inspector.view.rows, tune.side.inspector.view
    qtbot.waitUntil(lambda: "2 times, held 0" in words(tune.side), timeout=5_000)
