"""Many curves as small charts, one for each part of the machine, all on the same axes."""

from __future__ import annotations

import math
from dataclasses import replace

from PySide6.QtCore import QPoint, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from yondle.desktop.look.basics import clear, label
from yondle.desktop.look.layouts import form_rows, stacked
from yondle.desktop.look.theme import Theme
from yondle.desktop.scaling.curves_chart import CurvesChart
from yondle.views.compare.compare import group_name
from yondle.views.scaling.curves import Curve, ScalingView

_ALONG = 3
_NAMES_SHARE = 0.36
_LEAST = (200, 110)


def by_group(view: ScalingView) -> dict[str, tuple[Curve, ...]]:
    """Give the curves by the part of the machine they are for, in the order they come."""
    groups: dict[str, tuple[Curve, ...]] = {}
    for curve in view.curves:
        name = group_name(curve.benchmark)
        groups[name] = (*groups.get(name, ()), curve)
    return groups


class _Panel(CurvesChart):
    names_share = _NAMES_SHARE
    left_px = 54


class GroupPanels(QWidget):
    """The small charts; `benchmark_chosen` and `point_chosen` are sent as by the large one."""

    benchmark_chosen = Signal(str)
    point_chosen = Signal(float)
    failure_chosen = Signal(int)
    drawn = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._view: ScalingView | None = None
        self._panels: dict[str, CurvesChart] = {}
        self._grid = form_rows(self, 8)

    def show_view(self, view: ScalingView, chosen: str) -> None:
        """Show the curves of a knob, with one benchmark in full in its group."""
        self._view = view
        groups = by_group(view)
        if list(groups) != list(self._panels):
            self._make(list(groups))
        for name, curves in groups.items():
            self._panels[name].show_view(replace(view, curves=curves), chosen, view)
        self.drawn.emit()

    def table(self) -> str:
        """Give every point as tab-separated lines, for copying."""
        heads = [panel.table().splitlines() for panel in self._panels.values()]
        return "\n".join([heads[0][0], *(line for lines in heads for line in lines[1:])]) if heads else ""

    def draw(self, painter: QPainter) -> None:
        """Draw all of them onto something else."""
        self.render(painter, QPoint())

    def _make(self, names: list[str]) -> None:
        clear(self._grid)
        self._panels = {}
        rows = math.ceil(len(names) / _ALONG)
        along = math.ceil(len(names) / rows)
        for i, name in enumerate(names):
            panel = _Panel(self._theme)
            panel.setMinimumSize(*_LEAST)
            panel.benchmark_chosen.connect(self.benchmark_chosen)
            panel.point_chosen.connect(self.point_chosen)
            panel.failure_chosen.connect(self.failure_chosen)
            box = stacked(gap=0)
            box.addWidget(label(name[:1].upper() + name[1:], "heading"))
            box.addWidget(panel, 1)
            self._grid.addLayout(box, i // along, i % along)
            self._panels[name] = panel
