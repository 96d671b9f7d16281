"""One benchmark along one knob for several machines: every line with its ranges, and where the first is overtaken."""

from __future__ import annotations

import math

import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal

from yondle.desktop.charts.names import NAMES_SHARE, STOCK_PX, EndName, EndNames
from yondle.desktop.charts.parts import MARK_PX
from yondle.desktop.charts.place_chart import Along, Measured, PlaceChart, Spot, ends
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.quantities import count, digits_for, number
from yondle.model.workloads import Direction
from yondle.views.compare.machines import MachineLine, MachinePoint, MachinesView

_DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


class MachinesChart(PlaceChart):
    """The chart; `chosen` is sent with a line's name when it is clicked, `point_chosen` with the words and steps of a point.

    Where the point is of another logbook than the first line, it has no steps that could be gone to.
    """

    chosen = Signal(str)
    point_chosen = Signal(str, tuple)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: MachinesView | None = None
        self.getPlotItem().showGrid(x=False, y=True, alpha=0.25)

    def show_view(self, view: MachinesView) -> None:
        """Show other lines."""
        if view != self._view:
            self._view = view
            self.redraw()

    def table(self) -> str:
        """Give every point as tab-separated lines, for copying."""
        view = self._view
        if view is None:
            return ""
        metric = view.benchmark.metric
        head = f"{view.knob.name} ({view.knob.unit})\tmachine\t{view.benchmark.name} ({metric.unit})\tlow\thigh\tpasses\tverdict"
        lines = [
            f"{p.value:g}\t{line.name}\t{p.mean:.6g}\t{p.low:.6g}\t{p.high:.6g}\t{len(p.passes)}\t{p.verdict}"
            for line in view.lines
            for p in line.points
        ]
        return "\n".join([head, *lines])

    def fill(self) -> bool:
        """Put up the crossings, the lines and their names."""
        view = self._view
        if view is None or not view.lines:
            return False
        plot = self.getPlotItem()
        plot.getAxis("bottom").along(view.knob)
        plot.getViewBox().invertY(view.benchmark.metric.direction is Direction.LOWER)
        for meeting in view.meetings:
            if meeting.crossing is not None:
                self._draw_crossing(view, meeting.crossing.at, meeting.crossing.low, meeting.crossing.high)
        c = self.theme.colours
        names, last = [], max(line.points[-1].value for line in view.lines)
        for i, line in enumerate(view.lines):
            self._draw_line(line, i)
            colour = c.in_play if i == 0 else c.ink
            names.append(EndName(last, line.points[-1].mean, line.name, colour, i == 0, line.name))
        self.addItem(EndNames(names, view.knob.stock, self.theme, self.chosen.emit), ignoreBounds=True)
        return True

    def show_all(self) -> None:
        """Zoom out to every line and its name."""
        view = self._view
        if view is None or not view.lines:
            return
        points = [p for line in view.lines for p in line.points]
        low, high = min(p.value for p in points), max(p.value for p in points)
        span = high - low or 2.0 * view.knob.step
        self.setXRange(low - 0.05 * span, high + (0.05 + NAMES_SHARE) * span / (1.0 - NAMES_SHARE), padding=0)
        ys = ends([_measured(p) for p in points])
        bottom, top = min(ys), max(ys)
        pad = 0.08 * (top - bottom) or 0.01 * top
        self.show_between(bottom - pad, top + pad, STOCK_PX)

    def spots(self) -> list[Spot]:
        """List the points of every line."""
        lines = self._view.lines if self._view is not None else ()
        return [Spot(p.value, p.mean, (line, p)) for line in lines for p in line.points]

    def titles(self) -> tuple[Along, Along]:
        """Give the knob, and the benchmark."""
        assert self._view is not None
        knob, metric = self._view.knob, self._view.benchmark.metric
        return (knob.name, knob.unit), (self._view.benchmark.name, metric.unit)

    def steps(self, what: tuple[MachineLine, MachinePoint]) -> tuple[int, ...]:
        """Give the steps of a point of the open logbook's own lines."""
        assert self._view is not None
        return what[1].steps if what[0].machine == self._view.lines[0].machine else ()

    def choose(self, what: tuple[MachineLine, MachinePoint]) -> None:
        """Choose a point."""
        self.point_chosen.emit(self.words(what), self.steps(what))

    def words(self, what: tuple[MachineLine, MachinePoint]) -> str:
        """Tell one point of a line."""
        view, (line, point) = self._view, what
        assert view is not None
        half = (point.high - point.low) / 2
        digits = digits_for(half) if math.isfinite(half) else view.benchmark.metric.digits
        margin = f" ± {number(half, digits)}" if math.isfinite(half) else ""
        return say(
            "{line} at {point}\n{mean}{margin} {unit}, {passes}\n{verdict}, step {steps}",
            line=line.name,
            point=view.knob.text(point.value),
            mean=number(point.mean, digits),
            margin=margin,
            unit=view.benchmark.metric.unit,
            passes=count(len(point.passes), "pass", "passes"),
            verdict=point.verdict,
            steps=", ".join(map(str, point.steps)),
        )

    def _draw_crossing(self, view: MachinesView, at: float, low: float, high: float) -> None:
        c = self.theme.colours
        band = pg.LinearRegionItem((low, high), brush=faded(c.muted, 0.13), pen=pg.mkPen(None), movable=False)
        band.setZValue(-9)
        self.addItem(band, ignoreBounds=True)
        words = say("cross at {nearest}", nearest=view.knob.text(view.knob.nearest(at)))
        options = {"position": 0.96, "color": c.muted, "anchors": [(0, 0)] * 2}
        line = pg.InfiniteLine(at, angle=90, pen=pg.mkPen(faded(c.muted, 0.8), width=1), label=words, labelOpts=options)
        line.label.setFont(font(SMALL_PX))
        self.addItem(line, ignoreBounds=True)

    def _draw_line(self, line: MachineLine, place: int) -> None:
        c = self.theme.colours
        colour = c.in_play if place == 0 else c.ink
        pen = pg.mkPen(colour, width=2.2 if place == 0 else 1.2, style=_DASHES[max(place - 1, 0) % len(_DASHES)])
        self.draw_measured([_measured(p) for p in line.points], pen, colour, MARK_PX - 2)


def _measured(point: MachinePoint) -> Measured:
    return Measured(point.value, point.mean, point.low, point.high, point.passes, point.verdict, point.recorded)
