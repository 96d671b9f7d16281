"""The selected step in the right-hand panel: its sections fold, nothing of them is cut, and parts keep their widths."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import tune_of

from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.sections import GainBar, Sections


def sections_of(tune: TunePlace) -> Sections:
    return tune.side.inspector.sections


def heights_fit(sections: Sections) -> list[str]:
    """Give every text that has less room than it needs."""
    cut = []
    for each in sections.findChildren(QLabel):
        if not each.isVisible():
            continue
        needed = each.heightForWidth(each.width()) if each.wordWrap() else each.sizeHint().height()
        wide = each.fontMetrics().horizontalAdvance(max(each.text().split(), key=len, default=""))
        wide = wide if each.wordWrap() else each.sizeHint().width()
        beyond = each.mapTo(sections, QPoint(each.width(), 0)).x() > sections.width()
        if needed > each.height() + 1 or wide > each.width() + 1 or beyond:
            cut.append(each.text())
    return cut


@pytest.mark.parametrize("size", [(1100, 700), (1280, 800), (1920, 1080)])
def test_names_stand_in_full_and_nothing_is_cut(
    qtbot: QtBot, measured: Path, open_book: Open, size: tuple[int, int]
) -> None:
    window = open_book(measured)
    window.resize(*size)
    tune = tune_of(window)
    tune.trail.choose(2)
    qtbot.waitUntil(lambda: sections_of(tune).height() > 100)
    view = tune.side.inspector.view
    assert view is not None
    shown = [label.text() for label in sections_of(tune).findChildren(QLabel)]
    assert {row.name for section in view.sections for row in section.rows} <= set(shown)
    labels = sections_of(tune).findChildren(QLabel)
    qtbot.waitUntil(lambda: sum(each.isVisible() for each in labels) > len(shown) / 2)
    qtbot.waitUntil(lambda: heights_fit(sections_of(tune)) == [])
    assert sections_of(tune).mapTo(tune.side, QPoint(sections_of(tune).width(), 0)).x() <= tune.side.width()
    assert (
        len(sections_of(tune).findChildren(GainBar))
        == sum(r.range is not None for s in view.sections for r in s.rows)
        > 1
    )


def test_what_was_folded_stays_folded_from_step_to_step(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    tune = tune_of(open_book(measured))
    tune.trail.choose(2)
    cost = next(part for part in sections_of(tune)._parts if part.key == "cost")
    cost.heading.setFocus()
    qtbot.keyClick(cost.heading, Qt.Key.Key_Left)
    assert not cost._rows.isVisible()
    assert cost.heading.accessibleName().endswith("collapsed")
    assert "°C" in cost.short.text()
    tune.trail.choose(1)
    again = next(part for part in sections_of(tune)._parts if part.key == "cost")
    assert again is not cost
    qtbot.waitUntil(again.heading.isVisible)
    assert not again._rows.isVisible()
    again.heading.click()
    qtbot.waitUntil(again._rows.isVisible)


def test_parts_keep_the_widths_they_were_drawn_to(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    parts = tune_of(window)._parts
    parts.moveSplitter(340, 1)
    parts.moveSplitter(window.width() - 400, 2)
    drawn = parts.sizes()
    assert drawn[0] == 340
    window.resize(1500, 900)
    qtbot.waitUntil(lambda: sum(parts.sizes()) > 1400)
    assert (parts.sizes()[0], parts.sizes()[2]) == (drawn[0], drawn[2]), "what is won or lost is the rulers'"
    again = tune_of(open_book(measured))._parts
    qtbot.waitUntil(lambda: sum(again.sizes()) > 1400)
    assert (again.sizes()[0], again.sizes()[2]) == (drawn[0], drawn[2])


def test_a_wide_panel_has_two_columns(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    window.resize(1920, 1080)
    tune = tune_of(window)
    tune.trail.choose(2)
    by_key = {part.key: part for part in sections_of(tune)._parts}
    assert by_key["gains"].x() == by_key["cost"].x()
    tune._parts.moveSplitter(1920 - 660, 2)
    qtbot.waitUntil(lambda: by_key["cost"].x() > by_key["gains"].x())
    assert by_key["cost"].y() == by_key["gains"].y()
