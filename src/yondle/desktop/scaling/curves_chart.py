"""Every benchmark along one knob: the chosen one with its passes, ranges and knee, the others as lines with their names."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QBrush

from yondle.desktop.charts.names import NAMES_SHARE, STOCK_PX, EndName, EndNames
from yondle.desktop.charts.parts import FAILURES_PX, MARK_PX, FailureMarks
from yondle.desktop.charts.place_chart import Along, Measured, PlaceChart, Spot, ends
from yondle.desktop.look.theme import Theme, faded
from yondle.language.saying import capital, named, say
from yondle.model.quantities import between, count, digits_for, figure, quantity, unit_shown
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction
from yondle.views.scaling.curves import Curve, CurvePoint, ScalingView
from yondle.views.shared.showing import AGAINST_BASELINE, AXIS_WORDS, Measure, unit_of

_STILL = 0.55


class CurvesChart(PlaceChart):
    """The chart. `benchmark_chosen` is sent with an id when a name is clicked, `point_chosen` with a value of the knob.

    `failure_chosen` is sent with the step of a failure that is clicked.
    """

    benchmark_chosen = Signal(str)
    point_chosen = Signal(float)
    failure_chosen = Signal(int)
    names_share = NAMES_SHARE

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: ScalingView | None = None
        self._scale: ScalingView | None = None
        self._chosen = ""
        self.getPlotItem().showGrid(x=False, y=True, alpha=0.25)

    @property
    def chosen(self) -> Curve | None:
        """The curve that is shown in full; None where it is not among them."""
        curves = self._view.curves if self._view is not None else ()
        return next((c for c in curves if c.benchmark.id == self._chosen), None)

    def show_view(self, view: ScalingView, chosen: str, scale: ScalingView | None = None) -> None:
        """Show the curves of a knob, one benchmark in full; with `scale` on the axes that all of its curves need."""
        if (view, chosen, scale) != (self._view, self._chosen, self._scale):
            self._view, self._chosen, self._scale = view, chosen, scale
            self.redraw()

    def table(self) -> str:
        """Give every point as tab-separated lines, for copying."""
        view = self._view
        if view is None:
            return ""
        head = f"{view.knob.name} ({view.knob.unit})\tbenchmark\t{view.measure}\tlow\thigh\tpasses\tverdict"
        lines = [
            f"{p.value:g}\t{c.benchmark.name}\t{p.shown:.6g}\t{p.low:.6g}\t{p.high:.6g}\t{len(p.passes)}\t{p.verdict}"
            for c in view.curves
            for p in c.points
        ]
        return "\n".join([head, *lines])

    # -- drawing -------------------------------------------------------------------------------------------------------

    def fill(self) -> bool:
        """Put up the curves, the chosen one in full, with noise, knee, proportion and failures."""
        view, chosen = self._view, self.chosen
        if view is None or not view.curves:
            return False
        plot = self.getPlotItem()
        plot.getAxis("bottom").along(view.knob)
        lower = chosen is not None and chosen.benchmark.metric.direction is Direction.LOWER
        plot.getViewBox().invertY(view.measure is Measure.VALUE and lower)
        self._draw_limits(view, chosen)
        if view.measure is not Measure.VALUE:
            self._draw_still([curve for curve in view.curves if curve is not chosen and curve.points])
        proportion = None
        if chosen is not None:
            self._draw_noise(view, chosen)
            self._draw_knee(view, chosen)
            proportion = self._draw_proportion(view, chosen)
            self._draw_chosen(chosen)
        elif view.measure in AGAINST_BASELINE:
            self.addItem(
                pg.InfiniteLine(0.0, angle=0, pen=pg.mkPen(self.theme.colours.muted, width=1)), ignoreBounds=True
            )
        if view.failures:
            self.addItem(FailureMarks(view.failures, self.theme, self.failure_chosen.emit), ignoreBounds=True)
        names = self._names(view, chosen, proportion)
        self.addItem(EndNames(names, view.knob.stock, self.theme, self.benchmark_chosen.emit), ignoreBounds=True)
        return True

    def _names(self, view: ScalingView, chosen: Curve | None, proportion: float | None) -> list[EndName]:
        c = self.theme.colours
        shown = (curve for curve in view.curves if curve is chosen or view.measure is not Measure.VALUE)
        last = max((curve.points[-1].value for curve in view.curves if curve.points), default=0.0)
        names = [
            EndName(
                last,
                curve.points[-1].shown,
                curve.benchmark.name + (say(" · capped") if curve.capped else ""),
                c.in_play if curve is chosen else c.ink,
                curve is chosen,
                curve.benchmark.id,
            )
            for curve in shown
            if curve.points
        ]
        if proportion is not None and chosen is not None:
            names.append(EndName(last, proportion, say("in proportion"), c.muted))
        return names

    def _draw_noise(self, view: ScalingView, chosen: Curve) -> None:
        """The band in which the baseline itself varies, where gains are shown."""
        half = view.noise.get(chosen.benchmark.id)
        if view.measure not in AGAINST_BASELINE or half is None:
            return
        c = self.theme.colours
        band = pg.LinearRegionItem(
            (-half, half), "horizontal", brush=faded(c.verdicts[Verdict.HELD], 0.13), pen=pg.mkPen(None), movable=False
        )
        band.setZValue(-10)
        self.addItem(band, ignoreBounds=True)
        self.addItem(pg.InfiniteLine(0.0, angle=0, pen=pg.mkPen(c.muted, width=1)), ignoreBounds=True)

    def _draw_knee(self, view: ScalingView, chosen: Curve) -> None:
        reading = chosen.reading
        if reading is None or reading.place is None:
            return
        c = self.theme.colours
        if reading.knee is not None:
            ends = (reading.knee.low, reading.knee.high)
            band = pg.LinearRegionItem(ends, brush=faded(c.in_play, 0.09), pen=pg.mkPen(None), movable=False)
            band.setZValue(-9)
            self.addItem(band, ignoreBounds=True)
        place = view.knob.text(view.knob.nearest(reading.place))
        self.rule(reading.place, 90, f"{reading.place_words} {place}", c.in_play)

    def _draw_proportion(self, view: ScalingView, chosen: Curve) -> float | None:
        """The gain that would be in proportion to the knob, from the lowest value on; gives where it ends."""
        if view.measure is not Measure.GAIN or not view.knob.proportional or not chosen.points:
            return None
        first = chosen.points[0]
        x = np.linspace(first.value, chosen.points[-1].value, 40)
        y = 100.0 * ((1.0 + first.shown / 100.0) * x / first.value - 1.0)
        pen = pg.mkPen(faded(self.theme.colours.muted, 0.9), width=1, style=Qt.PenStyle.DashLine)
        self.addItem(pg.PlotCurveItem(x, y, pen=pen), ignoreBounds=True)
        return float(y[-1])

    def _draw_still(self, curves: list[Curve]) -> None:
        """The other curves: one item for all their lines and one for their points, so that forty cost as much as four."""
        if not curves:
            return
        c = self.theme.colours
        gap = (math.nan, math.nan)
        line = np.array([place for curve in curves for place in (*((p.value, p.shown) for p in curve.points), gap)])
        points = np.array([(p.value, p.shown) for curve in curves for p in curve.points])
        pen = pg.mkPen(faded(c.ink, _STILL), width=1)
        self.addItem(pg.PlotCurveItem(line[:, 0], line[:, 1], pen=pen, connect="finite"))
        dots = pg.ScatterPlotItem(points[:, 0], points[:, 1], size=5, pen=pen, brush=pg.mkBrush(c.ground))
        self.addItem(dots)

    def _draw_chosen(self, curve: Curve) -> None:
        c = self.theme.colours
        self.draw_measured(_measured(curve), pg.mkPen(c.in_play, width=2.2), c.ink, MARK_PX)

    def _draw_limits(self, view: ScalingView, chosen: Curve | None) -> None:
        """The tuner's own limits on the knob, beyond which it is hatched as on its ruler, and a cap of the score."""
        c = self.theme.colours
        low, high = view.own_range
        for edge, far, there in (
            (high, view.knob.high, high < view.knob.high), (low, view.knob.low, low > view.knob.low),
        ):  # fmt: skip
            if there:
                brush = QBrush(faded(c.muted, 0.45), Qt.BrushStyle.BDiagPattern)
                beyond = pg.LinearRegionItem(sorted((edge, far)), brush=brush, pen=pg.mkPen(None), movable=False)
                beyond.setZValue(-8)
                self.addItem(beyond, ignoreBounds=True)
                self.rule(
                    edge, 90, say("your limit {edge}", edge=view.knob.text(edge)), c.muted, 1 if edge == high else 0
                )
        if chosen is not None and chosen.cap_shown is not None:
            cap = quantity(chosen.benchmark.metric.cap or 0.0, chosen.benchmark.metric.unit)
            self.rule(chosen.cap_shown, 0, say("cap {cap}", cap=cap), c.muted)

    def show_all(self) -> None:
        """Zoom out to all curves and their names."""
        view, chosen = self._view, self.chosen
        if view is None or not view.curves:
            return
        curves = (chosen,) if chosen is not None and view.measure is Measure.VALUE else (self._scale or view).curves
        xs = [p.value for c in curves for p in c.points] + [f.value for f in view.failures]
        ys = [p.shown for c in curves for p in c.points]
        ys += ends(_measured(chosen)) if chosen is not None else []
        low, high, share = min(xs), max(xs), self.names_share
        span = high - low or 2.0 * view.knob.step
        self.setXRange(low - 0.05 * span, high + (0.05 + share) * span / (1.0 - share), padding=0)
        bottom, top = min(ys), max(ys)
        pad = 0.08 * (top - bottom) or 0.01 * abs(top) or 1.0
        stock = STOCK_PX if low <= view.knob.stock <= high else 0.0
        self.show_between(bottom - pad, top + pad, stock + (FAILURES_PX if view.failures else 0.0))

    # -- pointing ------------------------------------------------------------------------------------------------------

    def spots(self) -> list[Spot]:
        """List the points of the curves that are shown."""
        view, chosen = self._view, self.chosen
        if view is None:
            return []
        shown = (chosen,) if view.measure is Measure.VALUE and chosen is not None else view.curves
        return [Spot(p.value, p.shown, (c, p)) for c in shown for p in c.points]

    def titles(self) -> tuple[Along, Along]:
        """Give the knob, and what is shown of the benchmarks."""
        assert self._view is not None
        knob, measure, chosen = self._view.knob, self._view.measure, self.chosen
        if measure is Measure.VALUE and chosen is not None:
            upward = chosen.benchmark.name, chosen.benchmark.metric.unit
        else:
            upward = capital(named(AXIS_WORDS[measure])), "°C" if measure is Measure.TEMPERATURE else ""
        return (knob.name, knob.unit), upward

    def steps(self, what: tuple[Curve, CurvePoint]) -> tuple[int, ...]:
        """Give the steps of a point."""
        return what[1].steps

    def choose(self, what: tuple[Curve, CurvePoint]) -> None:
        """Choose the value of a point."""
        self.point_chosen.emit(what[1].value)

    def words(self, what: tuple[Curve, CurvePoint]) -> str:
        """Tell one point of a curve."""
        assert self._view is not None
        return _words(self._view, *what)


def _measured(curve: Curve) -> list[Measured]:
    return [Measured(p.value, p.shown, p.low, p.high, p.passes, p.verdict, p.recorded) for p in curve.points]


def _words(view: ScalingView, curve: Curve, point: CurvePoint) -> str:
    half = (point.high - point.low) / 2
    digits = digits_for(half) if math.isfinite(half) else 1
    unit = unit_of(view.measure, curve.benchmark)
    margin = f" ± {figure(half, between(unit), digits)}" if math.isfinite(half) else ""
    return say(
        "{benchmark} at {point}\n{shown}{margin} {unit}, {passes}\n{verdict}, step {steps}",
        benchmark=curve.benchmark.name,
        point=view.knob.text(point.value),
        shown=figure(point.shown, unit, digits),
        margin=margin,
        unit=unit_shown(unit),
        passes=count(len(point.passes), "pass", "passes"),
        verdict=point.verdict,
        steps=", ".join(str(n) for n in point.steps),
    )
