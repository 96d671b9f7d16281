"""What can be done with a step, a knob or the chart, as a menu where it was asked for: by the right button or the menu key."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu, QWidget

from yondle.desktop.tune.chart_panel import ChartPanel
from yondle.desktop.tune.ruler import Ruler
from yondle.desktop.tune.trail import TrailView
from yondle.language.saying import say

STEP = ("compare", "go_back", "again", "", "note", "keep", "", "result", "grid", "table", "", "export")
KNOB = ("test", "drop", "", "limits", "sweep", "edge", "next")
CHART = ("figures", "", "copy_picture", "copy_table", "", "next_benchmark", "last_benchmark")


def menu_at(
    place: QWidget,
    under: QWidget | None,
    actions: Mapping[str, QAction],
    steps: tuple[int, ...],
    show: Callable[[int], object],
) -> QMenu | None:
    """Make the menu of what lies under a point: of its step, its knob or the chart; None where there is nothing to do.

    `steps` are those of the chart's point that lies there, each of which it leads to.
    """
    name, names = _names(place, under)
    menu = QMenu(place)
    menu.setAccessibleName(name)
    for step in steps:
        shown = menu.addAction(say("Show step {step}", step=step))
        shown.triggered.connect(lambda _=False, step=step: show(step))
    for each in names:
        if not each:
            menu.addSeparator()
        elif actions[each].isEnabled():
            menu.addAction(actions[each])
    return menu if any(not each.isSeparator() for each in menu.actions()) else None


def _names(place: QWidget, under: QWidget | None) -> tuple[str, tuple[str, ...]]:
    while under is not None and under is not place:
        if isinstance(under, TrailView):
            return (say("Step"), STEP) if under.selected() is not None else ("", ())
        if isinstance(under, Ruler):
            return say("Knob"), KNOB
        if isinstance(under, ChartPanel):
            return say("Chart"), CHART
        under = under.parentWidget()
    return "", ()
