"""One hand: everything stands on a grid of four pixels, fields are of one height, and the wheel turns nothing in passing."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLabel,
    QLayout,
    QLineEdit,
    QStackedWidget,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.driving import tune_of

from yondle.desktop.look.theme import HEAD_PX
from yondle.desktop.shell.rooms import NAMES
from yondle.desktop.shell.window import MainWindow

GRID = 4
CARDS = ("limits", "sensors", "sweep", "edge", "conditions", "result", "profiles", "next", "record")


def spacings(layout: QLayout) -> list[int]:
    margins = layout.contentsMargins()
    gaps = [getattr(layout, name)() for name in ("horizontalSpacing", "verticalSpacing") if hasattr(layout, name)]
    return [*(gaps or [layout.spacing()]), margins.left(), margins.top(), margins.right(), margins.bottom()]


def inside(layout: QLayout) -> Iterator[QLayout]:
    yield layout
    for i in range(layout.count()):
        inner = layout.itemAt(i).layout()
        if inner is not None:
            yield from inside(inner)


def off_grid(window: MainWindow) -> set[str]:
    found = set()
    for widget in window.findChildren(QWidget):
        outer = None if isinstance(widget, QStackedWidget) or widget.objectName().startswith("qt_") else widget.layout()
        for layout in inside(outer) if outer is not None else ():
            if any(px % GRID for px in spacings(layout)):
                texts = [each.text() for each in widget.findChildren(QLabel)][:3]
                found.add(f"{type(widget).__name__} {texts}: {spacings(layout)}")
    return found


def test_everything_stands_on_one_grid(qtbot: QtBot, measured: Path, open_book: Open) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    for i in range(len(NAMES)):
        window.places.show_now(i)
    window.places.show_now(0)
    heights: set[tuple[str, int]] = set()
    found = off_grid(window)
    for name in CARDS:
        tune.actions_by_name[name].trigger()
        qtbot.waitUntil(lambda: not window.bridge.busy)
        QApplication.processEvents()
        found |= off_grid(window)
        fields = [w for kind in (QAbstractSpinBox, QComboBox, QLineEdit) for w in tune.side.findChildren(kind)]
        shown = [
            w for w in fields if w.isVisibleTo(tune.side) and not isinstance(w.parent(), QAbstractSpinBox | QComboBox)
        ]
        heights |= {(name, field.height()) for field in shown}
        tune.actions_by_name["dismiss"].trigger()
    assert not found, "\n".join(sorted(found))
    assert {height for _, height in heights} == {HEAD_PX}, heights


def turn(widget: QWidget) -> None:
    middle = QPointF(widget.rect().center())
    down = QWheelEvent(
        middle, widget.mapToGlobal(middle), QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, down)


def test_a_field_is_changed_by_the_wheel_only_where_it_has_the_focus(
    qtbot: QtBot, measured: Path, open_book: Open
) -> None:
    window = open_book(measured)
    tune = tune_of(window)
    before = tune.book.now.declaration.limits
    tune.actions_by_name["sensors"].trigger()
    boxes = tune.side.findChildren(QAbstractSpinBox)
    assert boxes
    tune.trail.setFocus()
    for box in boxes:
        turn(box)
    assert tune.book.now.declaration.limits == before
    boxes[0].setFocus()
    turn(boxes[0])
    assert tune.book.now.declaration.limits != before
    window.places.show_now(NAMES.index("Scaling"))
    for choice in window.places.currentWidget().findChildren(QComboBox):
        choice.setCurrentIndex(0)
        choice.clearFocus()
        turn(choice)
        assert choice.currentIndex() == 0
