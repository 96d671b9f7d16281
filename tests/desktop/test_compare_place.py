"""The Compare place in the real window: columns chosen and ordered, rows opened, other logbooks, references, printing."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtWidgets import QApplication, QFileDialog
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of, visit, window_of, words

from yondle.app.books.columns import Offer
from yondle.app.machine.machines import RigChoice
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.limits import TellConditions
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.compare.column_list import ColumnList
from yondle.desktop.compare.place import ComparePlace
from yondle.desktop.compare.reference import ReferenceCard
from yondle.desktop.look.basics import children, top_items
from yondle.desktop.shell.window import MainWindow
from yondle.model.errors import KnownError
from yondle.views.compare.compare import compare


def make_book(path: Path, clocks: tuple[float, ...], rig: str | None = None) -> Path:
    session = create_logbook(path, RigChoice("simulated", "Heron", rig or quick_rig()))
    session.do(RunBaseline(3))
    for clock in clocks:
        session.do(Propose("core_clock", clock))
        session.do(TryProposal(3))
    if clocks:
        session.do(KeepProfile("Slow", step=session.snapshot.steps[-1].step.number))
    session.close()
    return path


@pytest.fixture
def compare_place(open_book: Open, tmp_path: Path) -> ComparePlace:
    make_book(tmp_path / "book.yondle", (4150.0, 4100.0, 4050.0, 3800.0))
    window = open_book(tmp_path / "book.yondle")
    visit(window, "Compare")
    assert window.places.place("Compare") is not None
    return window.places.place("Compare")


def tick(columns: ColumnList, source: str, name: str) -> None:
    """Tick something in the list of what can be compared."""
    for item in top_items(columns):
        if item.text(0) == source:
            columns.expandItem(item)
    for item in top_items(columns):
        for child in children(item):
            if item.text(0).startswith(source) and child.text(0).startswith(name):
                wanted = (
                    Qt.CheckState.Unchecked if child.checkState(0) is Qt.CheckState.Checked else Qt.CheckState.Checked
                )
                child.setCheckState(0, wanted)
                return
    raise AssertionError(f"nothing called {name} in {source}")


def test_stock_and_profiles_stand_side_by_side_and_rows_open_to_their_passes(
    qtbot: QtBot, compare_place: ComparePlace
) -> None:
    place, view = compare_place, compare_place.view
    assert view is not None
    assert [column.name for column in view.columns] == ["Stock", "Slow"]
    assert view.sentence in words(place)
    group = top_items(place.table)[0]
    stacking = children(group)[0]
    assert stacking.text(0) == "Stacking"
    assert stacking.text(2).startswith("\u2212")
    place.table.setCurrentItem(stacking)
    place.table.setFocus()
    qtbot.keyClick(place.table, Qt.Key.Key_Right)
    assert [child.text(0) for child in children(stacking)][-3:] == ["pass 1", "pass 2", "pass 3"]
    tick(place.list, "This logbook", "Step 2")
    qtbot.waitUntil(lambda: place.view is not None and len(place.view.columns) == 3)
    assert place.view is not None
    assert place.view.columns[-1].name == "Step 2"
    assert children(top_items(place.table)[0])[0].isExpanded()
    place.table.header().sectionClicked.emit(2)
    place.table.header().sectionDoubleClicked.emit(2)
    assert place.view.against == 1
    place.actions_by_name["best"].trigger()
    assert [column.name for column in place.view.columns] == ["Slow", "Stock", "Step 2"]
    place.actions_by_name["copy_table"].trigger()
    lines = QGuiApplication.clipboard().text().splitlines()
    heads = lines[0].split("\t")
    assert heads[:5] == ["group", "benchmark", "unit", "better", "Slow"]
    assert heads[5:] == ["Stock", "Stock, gain (%)", "Step 2", "Step 2, gain (%)"], "gains beside the figures"
    assert lines[1].startswith("processor\tStacking\tframes/min")


def test_another_field_book_is_read_when_it_is_opened_in_the_list(
    qtbot: QtBot, compare_place: ComparePlace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = compare_place
    other = make_book(tmp_path / "heron-ii.yondle", (), quick_rig().replace('name = "Heron"', 'name = "Heron II"', 1))
    (tmp_path / "torn.yondle").write_text("torn")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(other), ""))
    place.actions_by_name["book"].trigger()
    assert place.view is not None
    assert [column.name for column in place.view.columns] == ["Stock", "Slow", "Heron II · Stock"]
    torn = next(item for item in top_items(place.list) if item.text(0) == "torn")
    place.list.expandItem(torn)
    qtbot.waitUntil(lambda: bool(children(torn)))
    assert "is no logbook" in children(torn)[0].text(0)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "torn.yondle"), ""))
    place.actions_by_name["book"].trigger()
    assert "is no logbook" in place.trouble.text()
    assert place.trouble.isVisible()


def test_a_reference_is_typed_in_and_what_is_wrong_is_told(compare_place: ComparePlace) -> None:
    place = compare_place
    place.actions_by_name["reference"].trigger()
    card = place.findChild(ReferenceCard)
    assert card is not None
    card.name.setText("From a note")
    for scores, says in (("much", "is no figure"), ("-3", "scores above 0")):
        card.scores.setText(scores)
        card.keep_button.click()
        assert says in place.trouble.text()
    card.scores.setText("231.5 230")
    card.keep_button.click()
    assert not place.trouble.isVisible()
    assert place.view is not None
    assert place.view.columns[-1].name == "From a note"
    cell = place.view.rows[0].cells[-1]
    assert cell is not None
    assert cell.scores == (231.5, 230.0)


def test_the_charts_below_follow_the_row_and_say_what_they_show(qtbot: QtBot, compare_place: ComparePlace) -> None:
    place, charts = compare_place, compare_place.charts
    assert charts.along_view is not None
    assert charts.along_view.sentence.split(":")[0] in words(place)
    place.table.setCurrentItem(children(top_items(place.table)[0])[1])
    assert charts.along_view.benchmark.id == "sharpening"
    button_of(place, "What it costs").click()
    assert charts.cost_view is not None
    assert charts.cost_view.sentence in words(place)
    charts.choose_cost(0)
    qtbot.waitUntil(lambda: "energy: " in words(place))
    chart = charts.chart
    assert chart is not None
    chart.setFocus()
    place.actions_by_name["copy_table"].trigger()
    assert len(QGuiApplication.clipboard().text().splitlines()) == 1 + len(charts.cost_view.costs)


def test_a_battery_that_is_no_energy_is_told_and_nothing_else_is_lost(compare_place: ComparePlace) -> None:
    compare_place._book.ask(TellConditions({"battery in Wh": "plenty"}))
    compare_place._show()
    assert "'plenty' is no energy" in words(compare_place)
    assert compare_place.charts.along_view is not None


def test_what_is_shown_is_printed_on_white_whatever_the_scheme(
    compare_place: ComparePlace, tmp_path: Path, theme: object
) -> None:
    theme.force("night")  # type: ignore[attr-defined]
    for name, place in (("table", compare_place), ("curves", window_of(compare_place).places.place("Scaling"))):
        if name == "curves":
            window_of(compare_place).go_to(1)
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(tmp_path / f"{name}.pdf"))
        place.print_on(printer)
        assert (tmp_path / f"{name}.pdf").read_bytes().startswith(b"%PDF")
        assert (tmp_path / f"{name}.pdf").stat().st_size > 20_000
    assert compare_place._theme.colours.night
    printer = QPrinter()
    printer.setOutputFileName(str(tmp_path / "nowhere" / "page.pdf"))
    with pytest.raises(KnownError, match="printer"):
        compare_place.print_on(printer)


def test_before_anything_is_measured_it_says_what_to_do(open_book: Open, tmp_path: Path) -> None:
    make = create_logbook(tmp_path / "fresh.yondle", RigChoice("simulated", "Heron", quick_rig()))
    make.close()
    window: MainWindow = open_book(tmp_path / "fresh.yondle")
    window.go_to(3)
    assert window.places.place("Compare") is not None
    assert "Run the baseline in Tune first" in words(window.places.place("Compare"))
    assert window.places.place("Compare").view is not None
    assert window.places.place("Compare").view == compare(())
    for name in ("best", "copy_table", "copy_picture"):
        window.places.place("Compare").actions_by_name[name].trigger()


def test_a_drawing_of_the_table_is_saved(compare_place: ComparePlace, tmp_path: Path) -> None:
    for name in ("table.svg", "table.png", "table.csv"):
        compare_place.save(tmp_path / name)
    assert "<svg" in (tmp_path / "table.svg").read_text("utf-8")
    assert QImage(str(tmp_path / "table.png")).width() > 300
    assert (tmp_path / "table.csv").read_text("utf-8").startswith("benchmark,unit,figure,Stock,Slow")


def test_a_list_filled_anew_before_it_has_read_what_was_opened_keeps_no_row_of_before(
    qtbot: QtBot, tmp_path: Path
) -> None:
    """A row that was opened, and is gone when its turn comes: what was sent on used to be the row itself, freed by then."""
    read: list[Path] = []

    def refuse(path: Path) -> None:
        read.append(path)
        raise KnownError("It is torn.", "Choose another.")

    made = ColumnList(refuse)
    qtbot.addWidget(made)
    offers = tuple(Offer("This book", f"{n}", f"Step {n}") for n in range(40))
    for turn in range(60):
        path = tmp_path / f"torn-{turn}.yondle"
        made.show_offers(offers[: 20 + turn % 2], ("3",), (path,))
        QApplication.processEvents()
        top_items(made)[-1].setExpanded(True)
        made.show_offers(offers[: 30 + turn % 2], ("4",), (path,))
        QApplication.processEvents()
        assert read == [path]
        told = children(top_items(made)[-1])
        assert [each.text(0) for each in told] == ["It is torn. Choose another."]
        read.clear()
