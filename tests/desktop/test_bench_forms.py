"""Choosing benchmarks, typing in a figure and reading another program's table, in the real window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot
from tests.desktop.driving import tune_of, words

from yondle.app.machine.machines import choose_rig
from yondle.app.machine.own_things import own_things
from yondle.app.session.measuring import AddWorkload
from yondle.app.session.opening import create_logbook
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.bench_forms import FRAMES, SCORES, BenchmarksCard, ResultCard, TableCard
from yondle.desktop.tune.own_forms import OwnCard
from yondle.desktop.tune.place import TunePlace

Open = Callable[..., MainWindow]


@pytest.fixture
def tune(measured: Path, open_book: Open) -> TunePlace:
    return tune_of(open_book(measured))


def test_benchmarks_that_are_not_chosen_are_neither_run_nor_charted(qtbot: QtBot, tune: TunePlace) -> None:
    qtbot.keyClick(tune.window(), Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier)
    card = tune.side.findChild(BenchmarksCard)
    for name, box in card.boxes.items():
        box.setChecked(name in ("preview", "star_match"))
    qtbot.mouseClick(card.keep_button, Qt.MouseButton.LeftButton)
    assert [b.id for b in tune.book.now.declaration.benchmarks] == ["star_match", "preview"]
    assert "Stacking" not in words(tune.chart_panel)
    assert "Star match" in words(tune.chart_panel)
    tune.bench.ask_benchmarks()
    card = tune.side.findChild(BenchmarksCard)
    for box in card.boxes.values():
        box.setChecked(False)
    card.keep_button.click()
    qtbot.waitUntil(lambda: "No benchmark would be run" in words(tune.side))


def test_a_figure_typed_in_is_kept_shown_and_told_as_a_gain(qtbot: QtBot, tune: TunePlace) -> None:
    for step, figures in ((1, ("60.1", "60.3", "60.2")), (2, ("66.0", "66.2", "66.1"))):
        tune.trail.choose(step)
        for figure in figures:
            qtbot.keyClick(tune.window(), Qt.Key.Key_R)
            card = tune.side.findChild(ResultCard)
            card.fields["benchmark"].setText("Sky tour")
            qtbot.keyClicks(card.fields["score"], figure)
            qtbot.keyClick(card.fields["score"], Qt.Key.Key_Return)
            qtbot.waitUntil(lambda: tune.side.findChild(ResultCard) is None)
    assert len(tune.book.now.step(2).added) == 3
    tune.trail.choose(2)
    assert "Sky tour" in words(tune.side.inspector)
    assert "+9.8\u202f%" in words(tune.side.inspector)
    qtbot.keyClick(tune.window(), Qt.Key.Key_R)
    card = tune.side.findChild(ResultCard)
    card.fields["score"].setText("fast")
    card.keep_button.click()
    qtbot.waitUntil(lambda: "'fast' is no figure" in words(tune.side))


def test_a_table_is_read_as_it_is_told(qtbot: QtBot, tune: TunePlace, tmp_path: Path) -> None:
    table = tmp_path / "frames.csv"
    table.write_text("frame;time\n" + "".join(f"{i};1{i % 3},5\n" for i in range(300)))
    tune.bench.show_table(1, table)
    card = tune.side.findChild(TableCard)
    card.kind.setCurrentText(FRAMES)
    card.benchmark.setText("Sky tour")
    card.read_button.click()
    qtbot.waitUntil(lambda: "is no number" in words(tune.side))
    card.comma.setChecked(True)
    card.read_button.click()
    qtbot.waitUntil(lambda: "1 result kept with step 1" in words(tune.side))
    assert tune.book.now.step(1).added[0].score == pytest.approx(1000 / 11.5)
    tune.bench.show_table(1, tmp_path / "gone.csv")
    qtbot.waitUntil(lambda: "can't be read" in words(tune.side))


def visible_tables(tune: TunePlace) -> list[TableCard]:
    return [each for each in tune.side.findChildren(TableCard) if each.isVisibleTo(tune.side)]


def test_columns_nobody_told_of_stop_the_reading_until_they_are_left_out(
    qtbot: QtBot, tune: TunePlace, tmp_path: Path
) -> None:
    table = tmp_path / "scores.csv"
    table.write_text("name,score,remark\nSky tour,61.5,cold\nSky tour,61.7,cold\n")
    tune.bench.show_table(1, table)
    card = tune.side.findChild(TableCard)
    for kind in (FRAMES, SCORES):
        card.kind.setCurrentText(kind)
        beside = card.parentWidget().layout().contentsMargins()
        assert card.minimumSizeHint().width() <= card.parentWidget().width() - beside.left() - beside.right()
    card.unit.setText("frames/s")
    card.read_button.click()
    qtbot.waitUntil(lambda: "scores.csv has more columns: remark" in words(tune.side))
    assert not tune.book.now.step(1).added
    assert card.others_left.isVisibleTo(tune.side)
    card.others_left.setChecked(True)
    card.read_button.click()
    qtbot.waitUntil(lambda: "2 results kept with step 1" in words(tune.side))
    assert [each.score for each in tune.book.now.step(1).added] == [61.5, 61.7]
    table.write_text("name,score\nSky tour,61.5\n")
    tune.bench.show_table(1, table)
    qtbot.waitUntil(lambda: visible_tables(tune) != [])
    assert [each.others_left.isVisibleTo(tune.side) for each in visible_tables(tune)] == [False]


def test_a_knob_of_ones_own_is_described_tried_and_kept_in_the_window(
    qtbot: QtBot, open_book: Open, tmp_path: Path
) -> None:
    create_logbook(tmp_path / "this.yondle", choose_rig("this")).close()
    level = tmp_path / "level"
    level.write_text("40\n")
    window = open_book(tmp_path / "this.yondle")
    tune, first = tune_of(window), window.book
    tune.actions_by_name["own"].trigger()
    card = tune.side.findChild(OwnCard)

    def tried(**fields: str) -> str:
        for name, text in fields.items():
            card.fields[name].setText(text)
        qtbot.mouseClick(card.try_button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: card.try_button.isEnabled() and card.said.text() != "", timeout=10_000)
        said = card.said.text()
        card.say_tried("")
        return said

    assert "It has no name yet" in tried(file=str(level))
    assert tried(name="Fan level", unit="%") == "It reads 40.0\u202f% now."
    assert "can't be read" in tried(file=str(tmp_path / "gone"))
    card.way.setCurrentIndex(1)
    assert "can't be started" in tried(reads="no-such-program 'x'")
    assert "is no command" in tried(reads="echo 'x")
    assert tried(reads=f"cat {level}") == "It reads 40.0\u202f% now."
    card.kind.setCurrentIndex(1)
    card.way.setCurrentIndex(0)
    assert "is no figure" in tried(file=str(level), low="some", high="100", step="10")
    assert "high must be above low" in tried(low="200")
    assert "that would be its stock" in tried(low="0")
    beside = card.parentWidget().layout().contentsMargins()
    assert card.minimumSizeHint().width() <= card.parentWidget().width() - beside.left() - beside.right()
    qtbot.mouseClick(card.keep_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.book not in (None, first) and tune_of(window).complete, timeout=10_000)
    tune = tune_of(window)
    knob = tune.book.now.declaration.knob("fan_level")
    assert (knob.name, knob.low, knob.high, knob.step, knob.stock, knob.unit) == ("Fan level", 0, 100, 10, 40, "%")
    assert "be used?" not in words(tune.side)
    for name in ("Fan level", "9 Fan level!"):
        first = window.book
        tune_of(window).own.ask()
        card = tune_of(window).side.findChild(OwnCard)
        card.fields["name"].setText(name)
        card.fields["file"].setText(str(level))
        qtbot.mouseClick(card.keep_button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(
            lambda first=first: window.book not in (None, first) and tune_of(window).complete, timeout=10_000
        )
    tune = tune_of(window)
    ids = [thing.id for thing in own_things(tune.book.now.kept)]
    assert ids == ["fan_level", "fan_level_2", "fan_level_3"], "nothing takes the place of what bears its name"
    described = tmp_path / "two.toml"
    described.write_text(
        'format = "yondle-own 1"\n'
        + "".join(f"[sensor.{n}]\nname = '{n}'\nfile = '{level}'\n" for n in ("flow", "rest"))
    )
    tune.own.read_file(described)
    qtbot.waitUntil(lambda: "May these 2 be used?" in words(tune.side))
    assert f"flow: reads {level}" in words(tune.side)
    tune.own.read_file(tmp_path / "gone.toml")
    qtbot.waitUntil(lambda: "gone.toml" in words(tune.side))


def test_a_simulated_rig_takes_no_knob_of_ones_own(qtbot: QtBot, tune: TunePlace) -> None:
    tune.own.ask()
    qtbot.waitUntil(lambda: "That goes with this machine only" in words(tune.side))
    assert tune.side.findChild(OwnCard) is None


def test_a_logbooks_commands_are_shown_and_asked_about_before_any_is_run(
    qtbot: QtBot, open_book: Open, tmp_path: Path
) -> None:
    session = create_logbook(tmp_path / "this.yondle", choose_rig("this"))
    text = """format = "yondle-workload 1"
id = "render"
name = "Render"
command = ["/bin/echo", "total", "12"]
[score]
pattern = "total ([0-9]+)"
"""
    session.do(AddWorkload(text, "a file"))
    session.close()
    window = open_book(tmp_path / "this.yondle")
    first = window.book
    assert "May 'Render' be used?" in words(tune_of(window).side)
    assert "/bin/echo total 12" in words(tune_of(window).side)
    assert "Render" not in [b.name for b in tune_of(window).book.now.declaration.benchmarks]
    allow = next(b for b in tune_of(window).side.findChildren(QPushButton) if b.text() == "Allow it on this machine")
    qtbot.mouseClick(allow, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.book not in (None, first) and tune_of(window).complete, timeout=10_000)
    assert "Render" in [b.name for b in tune_of(window).book.now.declaration.benchmarks]
    assert "May 'Render' be used?" not in words(tune_of(window).side)
