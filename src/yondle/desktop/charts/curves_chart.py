"""Every benchmark along one knob: the chosen one with its passes, ranges and knee, the others as lines with their names."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal

from yondle.app.views.curves import Curve, CurvePoint, Measure, ScalingView, unit_of
from yondle.desktop.charts.names import NAMES_SHARE, EndName, EndNames
from yondle.desktop.charts.parts import MARK_PX, FailureMarks
from yondle.desktop.charts.place_chart import PlaceChart, Spot
from yondle.desktop.marks import symbol
from yondle.desktop.theme import SMALL_PX, Theme, faded, font
from yondle.model.quantities import count, digits_for, number
from yondle.model.verdicts import Verdict

_DOT_PX = 4
_STILL = 0.55


class CurvesChart(PlaceChart):
    """The chart. `benchmark_chosen` is sent with an id when a name is clicked, `point_chosen` with a value of the knob."""

    benchmark_chosen = Signal(str)
    point_chosen = Signal(float)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: ScalingView | None = None
        self._chosen = ""
        self.getPlotItem().showGrid(x=False, y=True, alpha=0.25)

    @property
    def chosen(self) -> Curve | None:
        """The curve that is shown in full."""
        curves = self._view.curves if self._view is not None else ()
        return next((c for c in curves if c.benchmark.id == self._chosen), curves[0] if curves else None)

    def show_view(self, view: ScalingView, chosen: str) -> None:
        """Show the curves of a knob, one benchmark in full."""
        if (view, chosen) != (self._view, self._chosen):
            self._view, self._chosen = view, chosen
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
        if view is None or chosen is None:
            return False
        axis = self.getPlotItem().getAxis("bottom")
        axis.least, axis.names = view.knob.step, view.knob.choices
        self._draw_noise(view, chosen)
        self._draw_knee(view, chosen)
        if view.measure is not Measure.VALUE:
            self._draw_still([curve for curve in view.curves if curve is not chosen and curve.points])
        proportion = self._draw_proportion(view, chosen)
        self._draw_chosen(chosen)
        if view.failures:
            self.addItem(FailureMarks(view.failures, self.theme, lambda _: None), ignoreBounds=True)
        names = self._names(view, chosen, proportion)
        self.addItem(EndNames(names, view.knob.stock, self.theme, self.benchmark_chosen.emit), ignoreBounds=True)
        return True

    def _names(self, view: ScalingView, chosen: Curve, proportion: float | None) -> list[EndName]:
        c = self.theme.colours
        shown = (curve for curve in view.curves if curve is chosen or view.measure is not Measure.VALUE)
        last = max(curve.points[-1].value for curve in view.curves if curve.points)
        names = [
            EndName(
                last,
                curve.points[-1].shown,
                curve.benchmark.name + (" · capped" if curve.capped else ""),
                c.in_play if curve is chosen else c.ink,
                curve is chosen,
                curve.benchmark.id,
            )
            for curve in shown
            if curve.points
        ]
        if proportion is not None:
            names.append(EndName(last, proportion, "in proportion", c.muted))
        return names

    def _draw_noise(self, view: ScalingView, chosen: Curve) -> None:
        """The band in which the baseline itself varies, where gains are shown."""
        half = view.noise.get(chosen.benchmark.id)
        if view.measure not in (Measure.GAIN, Measure.PER_WATT) or half is None:
            return
        c = self.theme.colours
        band = pg.LinearRegionItem(
            (-half, half), "horizontal", brush=faded(c.verdicts[Verdict.HELD], 0.13), pen=pg.mkPen(None), movable=False
        )
        band.setZValue(-10)
        self.addItem(band, ignoreBounds=True)
        self.addItem(pg.InfiniteLine(0.0, angle=0, pen=pg.mkPen(c.muted, width=1)), ignoreBounds=True)

    def _draw_knee(self, view: ScalingView, chosen: Curve) -> None:
        knee = chosen.reading.knee if chosen.reading is not None else None
        if knee is None:
            return
        c = self.theme.colours
        band = pg.LinearRegionItem(
            (knee.low, knee.high), brush=faded(c.in_play, 0.09), pen=pg.mkPen(None), movable=False
        )
        band.setZValue(-9)
        self.addItem(band, ignoreBounds=True)
        pen = pg.mkPen(faded(c.in_play, 0.8), style=Qt.PenStyle.DashLine)
        words = f"knee {view.knob.text(view.knob.nearest(knee.at))}"
        line = pg.InfiniteLine(
            knee.at,
            angle=90,
            pen=pen,
            label=words,
            labelOpts={"position": 0.96, "color": c.in_play, "anchors": [(0, 0)] * 2},
        )
        line.label.setFont(font(SMALL_PX))
        self.addItem(line, ignoreBounds=True)

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
        c, points = self.theme.colours, curve.points
        self.plot([p.value for p in points], [p.shown for p in points], pen=pg.mkPen(c.in_play, width=2.2))
        ranged = [p for p in points if math.isfinite(p.low)]
        if ranged:
            x, y, low, high = np.array([(p.value, p.shown, p.low, p.high) for p in ranged]).T
            pen = pg.mkPen(c.ink, width=1.5)
            self.addItem(pg.ErrorBarItem(x=x, y=y, top=high - y, bottom=y - low, beam=0, pen=pen))
        passes = [(p.value, v) for p in points for v in p.passes]
        dots = pg.ScatterPlotItem(
            [x for x, _ in passes], [y for _, y in passes], size=_DOT_PX, pen=pg.mkPen(None), brush=faded(c.muted, 0.7)
        )
        self.addItem(dots)
        marks = pg.ScatterPlotItem(pxMode=True)
        marks.addPoints(
            [
                {
                    "pos": (p.value, p.shown), "symbol": symbol(p.verdict), "size": MARK_PX, "pen": pg.mkPen(None),
                    "brush": c.verdicts[p.verdict], "data": p.value,
                }
                for p in points
            ]
        )  # fmt: skip
        marks.setZValue(10)
        marks.sigClicked.connect(lambda _, spots: self.point_chosen.emit(spots[0].data()) if len(spots) else None)
        self.addItem(marks)

    def show_all(self) -> None:
        """Zoom out to all curves and their names."""
        view, chosen = self._view, self.chosen
        if view is None or chosen is None:
            return
        curves = (chosen,) if view.measure is Measure.VALUE else view.curves
        xs = [p.value for c in curves for p in c.points] + [f.value for f in view.failures]
        ys = [y for c in curves for p in c.points for y in (p.shown, p.low, p.high) if math.isfinite(y)]
        ys += [y for p in chosen.points for y in p.passes]
        low, high = min(xs), max(xs)
        span = high - low or 2.0 * view.knob.step
        self.setXRange(low - 0.05 * span, high + (0.05 + NAMES_SHARE) * span / (1.0 - NAMES_SHARE), padding=0)
        bottom, top = min(ys), max(ys)
        pad = 0.08 * (top - bottom) or 0.01 * abs(top) or 1.0
        foot = 2.6 if view.failures else 1.0
        self.setYRange(bottom - foot * pad, top + 1.4 * pad, padding=0)

    # -- pointing ------------------------------------------------------------------------------------------------------

    def spots(self) -> list[Spot]:
        """List the points of the curves that are shown."""
        view, chosen = self._view, self.chosen
        if view is None or chosen is None:
            return []
        shown = view.curves if view.measure is not Measure.VALUE else (chosen,)
        return [Spot(p.value, p.shown, (c, p)) for c in shown for p in c.points]

    def words(self, what: tuple[Curve, CurvePoint]) -> str:
        """Tell one point of a curve."""
        assert self._view is not None
        return _words(self._view, *what)


def _words(view: ScalingView, curve: Curve, point: CurvePoint) -> str:
    half = (point.high - point.low) / 2
    digits = digits_for(half) if math.isfinite(half) else 1
    margin = f" ± {number(half, digits)}" if math.isfinite(half) else ""
    unit = unit_of(view.measure, curve.benchmark)
    return (
        f"{curve.benchmark.name} at {view.knob.text(point.value)}\n{number(point.shown, digits)}{margin} {unit},"
        f" {count(len(point.passes), 'pass', 'passes')}\n{point.verdict}, step {', '.join(str(n) for n in point.steps)}"
    )
