"""Scores against the power they draw: every setting as its mark, and a line through those that no other beats."""

from __future__ import annotations

import math
from itertools import groupby

import pyqtgraph as pg
from PySide6.QtCore import Signal

from yondle.desktop.charts.names import NAMES_SHARE, EndName, EndNames
from yondle.desktop.charts.parts import MARK_PX
from yondle.desktop.charts.place_chart import Along, PlaceChart, Spot
from yondle.desktop.look.marks import symbol
from yondle.desktop.look.theme import Theme, faded
from yondle.language.saying import capital, say
from yondle.model.quantities import count, quantity
from yondle.model.workloads import Direction
from yondle.views.compare.efficiency import Cost, CostView, cost_words

_BEATEN = 0.35


class CostChart(PlaceChart):
    """The chart; `cost_chosen` is sent with the place of a setting in the view when its mark is clicked."""

    cost_chosen = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: CostView | None = None
        self.getPlotItem().showGrid(x=False, y=True, alpha=0.25)

    def show_view(self, view: CostView) -> None:
        """Show other settings."""
        if view != self._view:
            self._view = view
            self.redraw()

    def table(self) -> str:
        """Give every setting as tab-separated lines, for copying."""
        view = self._view
        if view is None:
            return ""
        metric = view.benchmark.metric
        head: tuple[str, ...] = (
            "machine",
            "step",
            "settings",
            f"{view.benchmark.name} ({metric.unit})",
            f"{view.power} (W)",
            say("energy (J each)"),
        )
        head += (say("hottest (°C)"), say("fan (rpm)"), "unbeaten", "verdict")
        rows = [
            (
                c.machine, str(c.step), c.setup, f"{c.score:.6g}", f"{c.watts:.6g}", _told(c.joules), _told(c.hottest_c),
                _told(c.fan), "yes" if c.unbeaten else "no", str(c.verdict),
            )
            for c in view.costs
        ]  # fmt: skip
        return "\n".join("\t".join(row) for row in (head, *rows))

    def fill(self) -> bool:
        """Put up the marks, the lines through the unbeaten, and the best per watt."""
        view = self._view
        if view is None or not view.costs:
            return False
        c = self.theme.colours
        self.getPlotItem().getViewBox().invertY(view.benchmark.metric.direction is Direction.LOWER)
        own, names, last = view.costs[0].machine, [], max(cost.watts for cost in view.costs)
        for machine, kept in groupby(view.frontier, key=lambda cost: cost.machine):
            line = list(kept)
            colour = c.in_play if machine == own else c.ink
            self.plot([e.watts for e in line], [e.score for e in line], pen=pg.mkPen(faded(colour, 0.8), width=1.6))
            names.append(EndName(last, line[-1].score, machine, colour, machine == own))
        marks = pg.ScatterPlotItem(pxMode=True)
        marks.addPoints(
            [
                {
                    "pos": (e.watts, e.score), "symbol": symbol(e.verdict, e.recorded),
                    "size": MARK_PX - (0 if e.unbeaten else 3),
                    "pen": pg.mkPen(None), "brush": faded(c.verdicts[e.verdict], 1.0 if e.unbeaten else _BEATEN),
                }
                for e in view.costs
            ]
        )  # fmt: skip
        self.addItem(marks)
        if view.curve.place is not None:
            self.rule(view.curve.place, 90, f"{view.curve.place_words} {quantity(view.curve.place, 'W', 1)}", c.muted)
        if view.best is not None:
            best = view.costs[view.best]
            ring = pg.ScatterPlotItem(
                [best.watts], [best.score], size=MARK_PX + 9, pen=pg.mkPen(c.in_play, width=2), brush=None, symbol="o"
            )
            self.addItem(ring, ignoreBounds=True)
        self.addItem(EndNames(names, None, self.theme), ignoreBounds=True)
        return True

    def show_all(self) -> None:
        """Zoom out to every setting."""
        view = self._view
        if view is None or not view.costs:
            return
        for values, show, end in (
            ([e.watts for e in view.costs], self.setXRange, NAMES_SHARE),
            ([e.score for e in view.costs], self.setYRange, 0.0),
        ):
            low, high = min(values), max(values)
            span = high - low or 0.1 * high
            show(low - 0.06 * span, high + (0.06 + end) * span / (1.0 - end), padding=0)

    def spots(self) -> list[Spot]:
        """List the settings."""
        costs = self._view.costs if self._view is not None else ()
        return [Spot(e.watts, e.score, (i, e)) for i, e in enumerate(costs)]

    def words(self, what: tuple[int, Cost]) -> str:
        """Tell one setting."""
        assert self._view is not None
        cost = what[1]
        lines = [f"{name}: {words}" for name, words in cost_words(cost, self._view)]
        return "\n".join(
            [
                say("{machine}, step {step}: {setup}", machine=cost.machine, step=cost.step, setup=cost.setup),
                *lines,
                count(cost.passes, "pass", "passes"),
            ]
        )

    def titles(self) -> tuple[Along, Along]:
        """Give the power, and the benchmark."""
        assert self._view is not None
        metric = self._view.benchmark.metric
        return (capital(self._view.power), "W"), (self._view.benchmark.name, metric.unit)

    def steps(self, what: tuple[int, Cost]) -> tuple[int, ...]:
        """Give the step of a setting, where it is one of the open logbook."""
        assert self._view is not None
        return (what[1].step,) if what[1].machine == self._view.costs[0].machine else ()

    def choose(self, what: tuple[int, Cost]) -> None:
        """Choose a setting."""
        self.cost_chosen.emit(what[0])


def _told(value: float | None) -> str:
    return f"{value:.6g}" if value is not None and math.isfinite(value) else ""
