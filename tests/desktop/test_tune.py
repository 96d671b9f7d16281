"""Tune, driven as a tuner drives it: pointer and keyboard on the real window, checked by what it shows."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.driving import drag, ruler, settle, tune_of, words
from tests.desktop.texts import contrast

from yondle.app.session.opening import open_logbook
from yondle.app.session.proposing import DropProposal, Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import TryProposal
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow
from yondle.model.verdicts import Verdict

Open = Callable[..., MainWindow]
MakeSession = Callable[..., Session]


def test_a_new_field_book_says_what_to_do_and_one_key_does_it(
    qtbot: QtBot, new_session: MakeSession, tmp_path: Path, open_book: Open
) -> None:
    new_session(name="new").close()
    window = open_book(tmp_path / "new.yondle")
    assert "Measure stock first" in words(tune_of(window).side)
    assert "Nothing measured yet" in words(tune_of(window))
    assert "The trail begins with the baseline" in words(tune_of(window))
    qtbot.keyClick(window, Qt.Key.Key_B, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: bool(tune_of(window).book.now.steps), timeout=10_000)
    settle(qtbot, window)
    assert "Step 1: held" in words(tune_of(window).side)
    assert "27 of 27 read back as set" in words(window)


def test_dragging_a_marker_proposes_and_return_tests(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    drag(qtbot, ruler(window, "core_clock"), 4400)
    assert tune.book.now.proposal is not None
    assert tune.book.now.proposal.value("core_clock") == 4400.0
    shown = words(tune.side)
    assert "4\u202f300 → 4\u202f400\u202fMHz" in shown
    assert "All else as in step 2" in shown
    qtbot.keyClick(ruler(window, "core_clock"), Qt.Key.Key_Return)
    settle(qtbot, window)
    assert [row.verdict for row in tune.views.trail(tune._benchmark, None)] == [Verdict.HELD] * 3
    assert tune.book.now.in_force["core_clock"] == 4400.0
    assert "Step 3: held" in words(tune.side)
    assert tune.chart is not None
    assert tune.chart.view is not None
    assert [p.value for p in tune.chart.view.points] == [4200.0, 4300.0, 4400.0]
    assert "+1 %" in words(tune)


def test_arrows_move_the_proposal_and_escape_drops_it(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    book = tune_of(window).book
    on = ruler(window, "core_clock")
    on.setFocus()
    for key, modifier, value in (
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier, 4325.0),
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier, 4425.0),
        (Qt.Key.Key_Left, Qt.KeyboardModifier.NoModifier, 4400.0),
    ):
        qtbot.keyClick(on, key, modifier)
        assert book.now.proposal is not None
        assert book.now.proposal.value("core_clock") == value
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert book.now.proposal is None
    qtbot.keyClick(on, Qt.Key.Key_Right)
    qtbot.keyClick(on, Qt.Key.Key_Home)
    assert book.now.proposal is None


def test_the_marker_stops_at_the_tuners_own_ceiling(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    drag(qtbot, ruler(window, "core_clock"), 5200)
    book = tune_of(window).book
    assert book.now.proposal is not None
    assert book.now.proposal.value("core_clock") == 5000.0
    qtbot.keyClick(ruler(window, "core_clock"), Qt.Key.Key_Right)
    assert book.now.proposal.value("core_clock") == 5000.0
    assert "above your own limit" in words(tune_of(window).rulers)


def test_a_second_knob_asks_and_offers_three_ways_on(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)

    def touch_second() -> None:
        tune.book.do(DropProposal())
        drag(qtbot, ruler(window, "core_clock"), 4400)
        drag(qtbot, ruler(window, "fan_level"), 60)
        assert tune.book.now.proposal is not None
        assert tune.book.now.proposal.value("fan_level") is None
        assert "one step changes one knob" in words(tune.rulers)

    touch_second()
    qtbot.mouseClick(tune.rulers.question.buttons[1], Qt.MouseButton.LeftButton)  # type: ignore[union-attr]
    assert tune.book.now.proposal is not None
    assert [c.knob for c in tune.book.now.proposal.changes] == ["fan_level"]
    touch_second()
    qtbot.keyClick(window, Qt.Key.Key_J)
    assert tune.book.now.proposal.joint
    assert "no gain is credited" in words(tune.side)
    touch_second()
    qtbot.mouseClick(tune.rulers.question.buttons[0], Qt.MouseButton.LeftButton)  # type: ignore[union-attr]
    settle(qtbot, window)
    assert [c.knob for c in tune.book.now.steps[-1].step.changes] == ["core_clock"]


def test_a_running_test_shows_its_strips_can_be_paused_and_stopped(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured, pace=20.0)
    tune = tune_of(window)
    drag(qtbot, ruler(window, "core_clock"), 4400)
    qtbot.keyClick(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: len(tune.progress.samples) > 20, timeout=10_000)
    assert "Running · step 3 · pass" in words(tune.side)
    assert "Stop and go back to step 2" in words(tune.side)
    assert tune.side.running.strips.isVisible()
    assert "on trial" in words(window)
    drag(qtbot, ruler(window, "fan_level"), 60)
    assert "A test is running" in words(tune.rulers)
    qtbot.keyClick(window, Qt.Key.Key_P)
    qtbot.waitUntil(lambda: tune.progress.state == "paused", timeout=10_000)
    assert "Go on" in words(tune.side)
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    settle(qtbot, window)
    assert tune.book.now.in_force["core_clock"] == 4300.0
    assert "Stopped by the tuner" in words(tune.side)


def test_a_failure_is_told_with_what_happened_and_where_the_rig_is(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune._propose("core_clock", 5000)
    qtbot.keyClick(window, Qt.Key.Key_Return)
    settle(qtbot, window)
    shown = words(tune.side)
    assert "Step 3: went down" in shown
    assert "Froze when the values were set" in shown
    assert tune.book.now.in_force["core_clock"] == 4300.0
    assert tune.chart is not None
    assert tune.chart.view is not None
    assert [f.value for f in tune.chart.view.failures] == [5000.0]


def test_going_back_and_notes_work_from_the_trail(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    tune.trail.choose(1)
    assert "Baseline · stock" in words(tune.side)
    qtbot.keyClick(tune.trail, Qt.Key.Key_N)
    qtbot.keyClicks(tune.side.inspector.editor, "cold <i>night</i>")
    qtbot.mouseClick(tune.side.inspector.keep_button, Qt.MouseButton.LeftButton)
    assert "cold <i>night</i>" in words(tune.side)
    qtbot.keyClick(tune.trail, Qt.Key.Key_G)
    settle(qtbot, window)
    assert tune.book.now.in_force["core_clock"] == 4200.0


def test_what_was_on_trial_at_the_last_end_stands_on_a_card(
    qtbot: QtBot, measured: Path, open_book: Open, tmp_path: Path
) -> None:
    session = open_logbook(measured)
    session.do(Propose("core_clock", 4400))
    take, left = session.logbook.take, [8]

    def die(record: object) -> None:
        left[0] -= 1
        if not left[0]:
            raise KeyboardInterrupt
        take(record)  # type: ignore[arg-type]

    session.logbook.take = die  # type: ignore[method-assign]
    with pytest.raises(KeyboardInterrupt):
        session.do(TryProposal(2))
    session.close()
    window = open_book(measured)
    shown = words(tune_of(window).side)
    assert "Step 3 was on trial: Core clock 4\u202f400" in shown
    assert "Yondle was interrupted" in shown
    assert "The rig is at step 2, read back as set. Nothing was tried again by itself." in shown


def test_everything_is_found_in_the_command_list(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    qtbot.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    commands = window.commands
    assert commands.isVisible()
    listed = {commands._list.topLevelItem(i).text(0) for i in range(commands._list.topLevelItemCount())}  # type: ignore[union-attr]
    actions = {action.text() for action in [*window.actions(), *tune_of(window).actions()]}
    assert actions - {"Show the command list"} <= listed
    qtbot.keyClicks(commands._field, "night scheme")
    qtbot.keyClick(commands._field, Qt.Key.Key_Return)
    assert not commands.isVisible()
    assert window._theme.colours.night
    window._theme.force("paper")


def test_the_chart_can_be_copied_as_a_table_and_turned_to_other_benchmarks(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    qtbot.keyClick(window, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert "lower is better" in words(tune)
    qtbot.keyClick(window, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    table = QGuiApplication.clipboard().text().splitlines()
    assert table[0].startswith("Core clock (MHz)\tpasses\tmean (s)")
    assert [line.split("\t")[0] for line in table[1:]] == ["4200", "4300"]


@pytest.mark.parametrize("scheme", ["paper", "night"])
def test_text_stands_out_from_its_ground(theme: Theme, scheme: str) -> None:
    theme.force(scheme)

    c = theme.colours
    for ground in (c.ground, c.panel):
        for text in (c.ink, c.muted, c.in_play, c.verdicts[Verdict.DOWN]):
            assert contrast(ground, text) >= 4.5, (scheme, ground.name(), text.name())
    # Style sheets may fade placeholders, which only the picture shows.
    field = QLineEdit()
    theme.wear(field)
    field.setPlaceholderText("what may stand here")
    field.resize(240, 32)
    picture = field.grab().toImage()
    pixels = [picture.pixelColor(x, y) for x in range(8, 200) for y in range(6, 26)]
    ground = picture.pixelColor(220, 16)
    most = max(contrast(p, ground) for p in pixels)
    assert most >= 4.2, (scheme, most)
    theme.force("paper")


def test_at_the_smallest_size_nothing_is_cut_or_overlaps(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    window.resize(1100, 700)
    tune_of(window)._propose("core_clock", 4400)
    qtbot.waitExposed(window)
    assert (window.width(), window.height()) == (1100, 700)
    for button in window.findChildren(QPushButton):
        if button.isVisible():
            assert button.width() >= button.minimumSizeHint().width(), button.text()
    shown = [w for w in tune_of(window).side.next.children() if isinstance(w, QWidget) and w.isVisible()]
    for a in shown:
        for b in shown:
            assert a is b or not a.geometry().intersects(b.geometry()), (a, b)


def test_a_file_that_is_no_field_book_is_told_on_the_first_page(
    qtbot: QtBot, window: MainWindow, tmp_path: Path
) -> None:
    wrong = tmp_path / "wrong.yondle"
    wrong.write_text("hello")
    window.open_logbook(wrong)
    qtbot.waitUntil(lambda: window.first is not None and not window.bridge.busy, timeout=10_000)
    assert "is no logbook" in words(window)


def test_the_first_page_opens_herons_evening_and_runs_it(qtbot: QtBot, window: MainWindow) -> None:
    assert window.first is not None
    qtbot.mouseClick(window.first.demo_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.book is not None and len(window.book.now.steps) >= 3, timeout=30_000)
    assert "Heron's evening is being run" in words(window)
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    settle(qtbot, window)
    assert window.book is not None
    assert window.book.now.simulated
    assert window.book.now.pace == 20.0


def test_one_field_book_after_the_other_leaves_nothing_of_the_first(
    qtbot: QtBot, measured: Path, new_session: MakeSession, tmp_path: Path, open_book: Open
) -> None:
    new_session(name="other").close()
    window = open_book(measured)
    first = window.book
    window.open_logbook(tmp_path / "other.yondle", None)
    qtbot.waitUntil(lambda: window.book is not None and window.book is not first, timeout=10_000)
    assert "Measure stock first" in words(tune_of(window).side)
    window._theme.force("night")
    window._theme.force("paper")
    qtbot.keyClick(window, Qt.Key.Key_B, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: window.book is not None and bool(window.book.now.steps), timeout=10_000)
    settle(qtbot, window)
    open_logbook(measured).close()
    qtbot.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert window.first is not None
    assert "A logbook for tuning" in words(window)


def test_hovering_and_clicking_the_chart_tells_exact_values_and_chooses_the_step(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    assert tune.chart is not None
    assert tune.chart.view is not None
    point = tune.chart.view.points[1]
    box = tune.chart.getPlotItem().getViewBox()
    scene = box.mapViewToScene(QPointF(point.value, point.spread.mean))
    tune.chart._hover((scene,))
    assert tune.chart._told.isVisible()
    assert "4\u202f300\u202fMHz" in tune.chart._told.toPlainText()
    assert "2 passes" in tune.chart._told.toPlainText()
    qtbot.mouseClick(tune.chart.viewport(), Qt.MouseButton.LeftButton, pos=tune.chart.mapFromScene(scene))
    assert tune.trail.selected() == 2


def test_the_label_of_a_band_that_runs_out_of_the_chart_stays_in_sight(measured: Path, open_book: Open) -> None:
    """Two passes alone have so wide a range that the chart doesn't span it."""
    tune = tune_of(open_book(measured))
    assert tune.chart is not None
    box = tune.chart.getPlotItem().getViewBox()
    ((label, at, _),) = [each for each in tune.chart._at_edges if "baseline" in each[0].toPlainText()]
    box.setYRange(at * 0.9, at * 0.99, padding=0)
    seen, shown = box.sceneBoundingRect(), label.mapRectToScene(label.boundingRect())
    assert seen.top() - 1.0 <= shown.top() <= shown.bottom() <= seen.bottom()


def test_closing_during_a_test_puts_the_rig_back_first(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured, pace=20.0)
    tune_of(window)._propose("core_clock", 4400)
    qtbot.keyClick(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: len(tune_of(window).progress.samples) > 5, timeout=10_000)
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=20_000)
    session = open_logbook(measured)
    assert not session.snapshot.resumed
    assert session.snapshot.in_force["core_clock"] == 4300.0
    session.close()


def test_painting_loses_no_references(measured: Path, open_book: Open) -> None:
    """Some versions of the Qt binding dropped a reference to None with every call, and crashed after a while."""
    window = open_book(measured)
    window.grab()
    before = sys.getrefcount(None)
    for _ in range(10):
        window.grab()
    assert sys.getrefcount(None) > before - 200
