"""The Logbook place in the real window: found, filtered, written about, discarded with a reason, undone, and gone to."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import visit, window_of, words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.desktop.logbook.place import LogbookPlace
from yondle.desktop.tune.bench_forms import ResultCard
from yondle.model.errors import KnownError
from yondle.views.record.log import Kind

HOSTILE = '=1+1"<img src=x onerror=alert(1)>\u202egnp.exe [bold]'


@pytest.fixture
def place(open_book: Open, tmp_path: Path) -> LogbookPlace:
    session = create_logbook(tmp_path / "book.yondle", RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(3))
    session.do(TryFrom(1, {"core_clock": 4100.0}, None))
    session.do(TryFrom(1, {"core_clock": 5000.0}, None))
    session.close()
    window = open_book(tmp_path / "book.yondle")
    visit(window, "Logbook")
    assert window.places.place("Logbook") is not None
    return window.places.place("Logbook")


def kinds_shown(place: LogbookPlace) -> set[Kind]:
    return {row.kind for row in place.table.model_.rows}


def test_an_empty_logbook_says_what_will_stand_there(open_book: Open, tmp_path: Path) -> None:
    create_logbook(tmp_path / "fresh.yondle", RigChoice("simulated", "Heron", quick_rig())).close()
    window = open_book(tmp_path / "fresh.yondle")
    window.go_to(5)
    assert window.places.place("Logbook") is not None
    assert "Nothing is written yet" in words(window.places.place("Logbook"))


def test_rows_are_found_by_words_and_by_a_filter_that_reads_as_a_sentence(qtbot: QtBot, place: LogbookPlace) -> None:
    assert {Kind.TEST, Kind.PASS, Kind.INCIDENT} <= kinds_shown(place)
    place.kinds.setCurrentIndex(2)
    place.kinds.activated.emit(2)
    place.benchmark.setCurrentText("Stacking")
    place.counted.setCurrentIndex(1)
    place.counted.activated.emit(1)
    assert kinds_shown(place) == {Kind.PASS}
    assert all(row.benchmark == "Stacking" and not row.left_out for row in place.table.model_.rows)
    assert "Shows passes of Stacking that count" in place.sentence.text()
    place.search.setText("no such word anywhere")
    qtbot.waitUntil(lambda: not place.table.isVisible())
    assert "Take a word out" in words(place)
    place.show_only(3)
    place.benchmark.setCurrentIndex(0)
    place.show_only(3, "step")
    place.counted.setCurrentIndex(0)
    place.show_only(3)
    assert kinds_shown(place) == {Kind.INCIDENT}
    place.table.sortByColumn(2, Qt.SortOrder.AscendingOrder)
    place.actions_by_name["copy_table"].trigger()
    assert QGuiApplication.clipboard().text().startswith("when\tstep\tkind\twhat")


def test_a_pass_is_discarded_with_a_reason_struck_through_left_out_and_counted_again(place: LogbookPlace) -> None:
    book = place._book
    before = book.now.step(2).scores("stacking")
    place.show_only(2, "stacking")
    row = next(r for r in place.table.model_.rows if r.step == 2 and not r.left_out)
    place.table.choose(row)
    place.panel.discard_button.click()
    assert "Say why" in place.trouble.text()
    place.panel.reason.setText("a window was opened")
    place.panel.discard_button.click()
    assert not place.trouble.isVisible()
    assert len(book.now.step(2).scores("stacking")) == len(before) - 1
    assert place._row is not None
    assert place._row.discarded == "a window was opened"
    at = next(i for i, r in enumerate(place.table.model_.rows) if r.discarded)
    cell = place.table.model_.index(at, 4)
    assert cell.data(Qt.ItemDataRole.FontRole).strikeOut()
    assert place.panel.discard_button.text() == "Count it again"
    assert place.undo_button.text() == "Undo: discard"
    window = window_of(place)
    window.go_to(0)
    window.tune.trail.choose(2)
    shown = window.tune.side.inspector.view
    place.actions_by_name["undo"].trigger()
    assert book.now.step(2).scores("stacking") == before
    window.go_to(0)
    assert window.tune.side.inspector.view.rows != shown.rows


def test_notes_are_edited_files_kept_and_nothing_in_them_is_markup(
    place: LogbookPlace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    book = place._book
    place.show_only(1)
    place.table.choose(next(r for r in place.table.model_.rows if r.step == 2))
    place.panel.note.setPlainText(HOSTILE)
    place.panel.caveat.setChecked(True)
    place.panel.keep_button.click()
    assert book.now.step(2).notes[0].text == HOSTILE
    place.show_only(4)
    assert kinds_shown(place) == {Kind.CAVEAT}
    place.table.selectRow(0)
    assert place.panel.note.toPlainText() == HOSTILE
    place.panel.note.setPlainText("quieter, and cooler")
    place.panel.caveat.setChecked(False)
    place.panel.keep_button.click()
    assert [(n.text, n.caveat) for n in book.now.step(2).notes] == [("quieter, and cooler", False)]
    assert book.now.step(2).notes[0].edited_at
    place.undo()
    assert book.now.step(2).notes[0].text == HOSTILE
    shot = tmp_path / "shot.png"
    shot.write_bytes(b"\x89PNG\r\n proof")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(shot), ""))
    place.panel.attach_button.click()
    place.show_only(6)
    assert kinds_shown(place) == {Kind.FILE}
    place.table.selectRow(0)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "back.png"), ""))
    place.panel.save_button.click()
    assert (tmp_path / "back.png").read_bytes() == shot.read_bytes()
    place.attach(2, tmp_path / "nothing.png")
    assert "is no file" in place.trouble.text()
    place.show_only(6)
    place.panel.detach_button.click()
    assert book.now.step(2).attached == ()


def test_a_row_leads_to_its_step_and_its_trace(qtbot: QtBot, place: LogbookPlace) -> None:
    window = window_of(place)
    place.panel.note.setFocus()
    qtbot.keyClicks(place.panel.note, "two")
    qtbot.keyClick(place.panel.note, Qt.Key.Key_Return)
    qtbot.keyClicks(place.panel.note, "times t")
    place.search.setFocus()
    qtbot.keyClick(place.search, Qt.Key.Key_Return)
    assert place.isVisible()
    assert place.panel.note.toPlainText() == "two\ntimes t"
    place.show_only(1)
    place.table.choose(next(r for r in place.table.model_.rows if r.step == 2))
    place.panel.trace_button.click()
    assert window.places.place("Traces").isVisible()
    qtbot.waitUntil(lambda: window.places.place("Traces").complete)
    assert window.places.place("Traces")._first.run.step == 2
    window.go_to(5)
    qtbot.keyClick(place.table, Qt.Key.Key_Return)
    assert window.tune.isVisible()
    window.go_to(5)
    place.panel.step_button.click()
    assert window.tune.trail.selected() == 2


def test_a_figure_is_typed_in_from_its_step_and_stands_in_the_table(place: LogbookPlace) -> None:
    step = next(row for row in place.table.model_.rows if row.step == 2)
    place.table.choose(step)
    place.panel.figure_button.click()
    window = window_of(place)
    assert window.tune.isVisible()
    card = window.tune.findChild(ResultCard)
    assert card is not None
    for key, value in {"benchmark": "Sky tour", "score": "61.5", "unit": "frames/s"}.items():
        card.fields[key].setText(value)
    card.keep_button.click()
    window.go_to(5)
    found = [row for row in place.table.model_.rows if row.kind is Kind.FIGURE]
    assert [(row.step, row.value, row.benchmark) for row in found] == [(step.step, 61.5, "Sky tour")]


def test_another_field_book_stands_in_the_same_table(place: LogbookPlace, tmp_path: Path) -> None:
    create_logbook(tmp_path / "twin.yondle", RigChoice("simulated", "Heron", quick_rig())).close()
    session = open_logbook(tmp_path / "twin.yondle")
    session.do(RunBaseline(2))
    session.close()
    before = len(place._all)
    place.read(tmp_path / "twin.yondle")
    assert len(place._all) > before
    assert not place.table.isColumnHidden(1)
    place.show_only(1)
    other = next(r for r in place.table.model_.rows if r.book == "twin")
    place.table.choose(other)
    assert not place.panel.remarks.isVisible()
    for name, text in (("all.json", '"format": "yondle-logbook 2"'), ("passes.csv", "date,step,settings")):
        place.export(tmp_path / name)
        assert text in (tmp_path / name).read_text("utf-8")
    place.share(tmp_path / "given.yondle")
    assert "look through it" in place.sentence.text()
    with pytest.raises(KnownError, match="already there"):
        place.share(tmp_path / "given.yondle")
    place.merge(tmp_path / "twin.yondle", tmp_path / "both.yondle")
    assert "both.yondle holds" in place.sentence.text()
