"""Tables in the window: dropped, corrected, brought in; figures typed and pasted into a grid; steps recorded by hand."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit
from pytestqt.qtbot import QtBot
from tests.desktop.driving import tune_of, words

from yondle.app.system.folders import data_folder
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tables.grid import GridPage
from yondle.desktop.tables.page import TablePage
from yondle.desktop.tune.recording import KnobCard, RecordCard
from yondle.model.verdicts import Verdict
from yondle.tables.heads import Role
from yondle.tables.recognised import Shape

EXAMPLES = Path(__file__).parents[2] / "docs" / "examples"


@pytest.fixture
def elsewhere(window: MainWindow, qtbot: QtBot) -> MainWindow:
    assert window.first is not None
    window.first.elsewhere.setText("Old notebook")
    window.first.elsewhere_button.click()
    wait_open(qtbot, window)
    return window


def wait_open(qtbot: QtBot, window: MainWindow, steps: int = 0) -> None:
    def there() -> bool:
        tune = window.tune
        return tune is not None and tune.complete and len(tune.book.now.steps) >= steps

    qtbot.waitUntil(there, timeout=20_000)


def dropped(window: MainWindow, *paths: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    event = QDropEvent(
        QPointF(9, 9), Qt.DropAction.CopyAction, data, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)


def page_of(window: MainWindow, qtbot: QtBot) -> Any:
    qtbot.waitUntil(lambda: window.over.page is not None, timeout=10_000)
    return window.over.page


def test_240_figures_of_a_table_dropped_on_the_window_in_three_acts(
    elsewhere: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    assert (data_folder() / "old-notebook.yondle").exists()
    assert "Bring in a table" in words(tune_of(elsewhere))
    rows = [f"{4200 + 25 * i},{','.join(f'{50 + i + k / 10}' for k in range(20))}" for i in range(12)]
    table = tmp_path / "large.csv"
    table.write_text("\n".join([",".join(["Clock (MHz)", *(f"Job {k}" for k in range(20))]), *rows]))
    dropped(elsewhere, table)
    page = page_of(elsewhere, qtbot)
    assert isinstance(page, TablePage)
    assert "12 steps, 20 benchmarks, 240 figures." in words(page)
    page.bring_button.click()
    wait_open(qtbot, elsewhere, 12)
    tune = tune_of(elsewhere)
    assert sum(len(record.added) for record in tune.book.now.steps) == 240
    assert [knob.id for knob in tune.book.now.declaration.knobs] == ["clock"]
    assert "Elsewhere: nothing is set or run from here" in words(elsewhere)
    elsewhere.go_to(3)
    assert elsewhere.places is not None
    dropped(elsewhere, table)
    page_of(elsewhere, qtbot).bring_button.click()
    qtbot.waitUntil(lambda: "240 were there already" in words(tune_of(elsewhere).side), timeout=20_000)


def test_what_a_column_is_can_be_chosen_and_what_stands_against_it_is_said(elsewhere: MainWindow, qtbot: QtBot) -> None:
    QGuiApplication.clipboard().setText("Benchmark\tStock\t4300 MHz\t4400 MHz\nA\t5\t6\tx7\nB\t1\t2\t3\nC\t1\t2\t3\n")
    elsewhere.over.paste()
    page = page_of(elsewhere, qtbot)
    assert not page.bring_button.isEnabled()
    assert "What is 'Stock' (cell B1)" in page.trouble.text()
    field = next(f for f in page.findChildren(QLineEdit) if f.accessibleName() == "Stock of Clock")
    field.setText("4200")
    field.editingFinished.emit()
    qtbot.waitUntil(lambda: "Cell D2: 'x7' is no number" in page.trouble.text())
    assert page.table.item(3 + 1, 3).background().color().alpha() > 0, "the cell is shown"
    page._choose(3, Role.LEFT)
    assert page.bring_button.isEnabled(), page.trouble.text()
    page.shape.setCurrentIndex(list(Shape).index(Shape.BY_BENCHMARK))
    QTest.keyClick(page, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    page.bring_button.click()
    wait_open(qtbot, elsewhere, 2)
    steps = tune_of(elsewhere).book.now.steps
    assert [record.step.setup["clock"] for record in steps] == [4200.0, 4300.0]
    elsewhere.over.paste()
    page_of(elsewhere, qtbot).left.emit()
    assert elsewhere.over.page is None


def test_a_step_is_recorded_by_hand_and_its_figures_are_typed_pasted_and_undone(
    elsewhere: MainWindow, qtbot: QtBot
) -> None:
    tune = tune_of(elsewhere)
    tune.recording.ask_knob()
    card = tune.side.findChildren(KnobCard)[-1]
    for key, text in (
        ("name", "Clock"),
        ("unit", "MHz"),
        ("low", "100"),
        ("high", "200"),
        ("step", "10"),
        ("stock", "100"),
    ):
        card.fields[key].setText(text)
    card.keep_button.click()
    qtbot.waitUntil(lambda: elsewhere.tune is not None and elsewhere.tune is not tune, timeout=20_000)
    wait_open(qtbot, elsewhere)
    tune = tune_of(elsewhere)
    tune.actions_by_name["baseline"].trigger()
    tune.side.findChildren(RecordCard)[-1].keep_button.click()
    grid = page_of(elsewhere, qtbot)
    assert isinstance(grid, GridPage)
    table = grid.table
    table.item(0, 0).setText("Stacking")
    table.item(0, 1).setText("frames/min")
    table.item(0, 3).setText("50")
    table.item(0, 4).setText("51,5")
    assert table.item(0, 6).text() == "50.74"
    assert table.item(0, 7).text().startswith("2.1"), "the spread grows beside it"
    QGuiApplication.clipboard().setText("Sharpening\ts\tlower\t7.5\t7.7\nPreview\tframes/s\t\t60\n")
    table.setCurrentCell(1, 0)
    table.pasted.emit()
    names = [table.item(i, 0).text() for i in range(3)]
    assert names == ["Stacking", "Sharpening", "Preview"]
    assert [table.item(1, k).text() for k in (3, 4)] == ["7.5", "7.7"]
    table.setCurrentCell(0, 3)
    QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    copied = [line.split("\t") for line in QGuiApplication.clipboard().text().splitlines()]
    assert (copied[0][0], copied[1][:5]) == (
        "benchmark",
        ["Stacking", "frames/min", "higher is better", "50.0", "51.5"],
    )
    table.item(0, 3).setText("x")
    assert "'x' is no figure" in grid.trouble.text()
    assert table.item(0, 3).text() == "50.0", "nothing is lost"
    table.item(0, 3).setText("49")
    assert [table.item(0, k).text() for k in (3, 4)] == ["51.5", "49.0"]
    grid.undo()
    assert sorted(table.item(0, k).text() for k in (3, 4)) == ["50.0", "51.5"]
    grid.left.emit()
    tune._proposer.propose("clock", 150)
    assert tune.side.next.test_button.text().startswith("Record this step")
    tune.actions_by_name["test"].trigger()
    card2 = tune.side.findChildren(RecordCard)[-1]
    card2.end.setCurrentText("froze")
    card2.fields["after"].setText("12 min")
    card2.keep_button.click()
    last = tune.book.now.steps[-1]
    assert (last.verdict, last.recorded) == (Verdict.DOWN, True)
    assert not tune.actions_by_name["sweep"].isEnabled(), "nothing is run there"
    tune.trail.choose(1)
    dropped(elsewhere, EXAMPLES / "sky-tour-frames.csv", EXAMPLES / "sky-tour-sensors.csv")
    qtbot.waitUntil(lambda: "The logs are in" in words(tune.side))
    for place in range(7):
        elsewhere.go_to(place)


def test_every_page_of_tables_in_the_night_scheme(elsewhere: MainWindow, qtbot: QtBot, theme: Theme) -> None:
    theme.force("night")
    elsewhere.over.bring(EXAMPLES / "wren-power.csv")
    page = page_of(elsewhere, qtbot)
    assert page.table.rowCount() == 3 + 7
    theme.force("paper")


def test_ticks_stand_at_values_that_a_knob_takes(qtbot: QtBot) -> None:
    from yondle.desktop.charts.parts import NumberAxis
    from yondle.model.knobs import Knob, Subsystem

    axis = NumberAxis("bottom")
    axis.along(Knob("memory", "Memory", "MT/s", Subsystem.MEMORY, 2666, 3200, 267, 2666))
    ((_, values),) = axis.tickValues(2600, 3300, 700)
    assert list(values) == [2666.0, 2933.0, 3200.0]
    axis.along(Knob("clock", "Clock", "MHz", Subsystem.PROCESSOR, 3600, 5200, 25, 4200))
    assert all(value % 25 == 0 for _, several in axis.tickValues(3600, 5200, 700) for value in several)
