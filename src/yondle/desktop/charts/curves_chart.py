"""Every benchmark along one knob: the chosen one with its passes, ranges and knee, the others as lines with their names."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QPainter, QPen
from PySide6.QtWidgets import QGraphicsSceneMouseEvent, QStyleOptionGraphicsItem, QWidget

from yondle.app.views.curves import Curve, CurvePoint, Measure, ScalingView, unit_of
from yondle.desktop.charts.parts import MARK_PX, FailureMarks, InPixels
from yondle.desktop.charts.place_chart import PlaceChart, Spot
from yondle.desktop.marks import symbol
from yondle.desktop.theme import SMALL_PX, Theme, faded, font
from yondle.model.quantities import count, digits_for, number
from yondle.model.verdicts import Verdict

_NAMES_SHARE = 0.2
"""Share of the width kept free on the right for the names of the curves."""
_ROW_PX = 15.0
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
        self.addItem(_Names(view, chosen, proportion, self.theme, self.benchmark_chosen.emit), ignoreBounds=True)
        return True

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
        self.setXRange(low - 0.05 * span, high + (0.05 + _NAMES_SHARE) * span / (1.0 - _NAMES_SHARE), padding=0)
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


class _Names(InPixels):
    """The names of the curves at their right ends, moved apart where they would overlap; a click chooses one."""

    def __init__(
        self,
        view: ScalingView,
        chosen: Curve,
        proportion: float | None,
        theme: Theme,
        choose: Callable[[str], None],
    ) -> None:
        super().__init__()
        self._curves = tuple(c for c in view.curves if c.points and (c is chosen or view.measure is not Measure.VALUE))
        self._chosen, self.theme, self._choose = chosen, theme, choose
        self._stock, self._proportion = view.knob.stock, proportion
        self._places: list[tuple[QRectF, str]] = []

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint the names, and where stock is."""
        c, box, transform = self.theme.colours, self.getViewBox(), painter.transform()
        (left, right), (bottom, top) = box.viewRange()
        painter.resetTransform()
        edge = transform.map(QPointF(right, 0)).x()
        head, foot = (
            transform.map(QPointF(0, top)).y() + _ROW_PX / 2,
            transform.map(QPointF(0, bottom)).y() - _ROW_PX / 2,
        )
        last = max(c.points[-1].value for c in self._curves) if self._curves else right
        x = transform.map(QPointF(last, 0)).x() + 10.0
        ends = [(c.points[-1].shown, c) for c in self._curves]
        also = [(self._proportion, None)] if self._proportion is not None else []
        wanted = sorted(((transform.map(QPointF(0, y)).y(), c) for y, c in [*ends, *also]), key=lambda pair: pair[0])
        self._places = []
        for (_, curve), y in zip(wanted, _apart([y for y, _ in wanted], head, foot), strict=True):
            here = curve is self._chosen
            painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold if here else QFont.Weight.Normal))
            painter.setPen(QPen(c.in_play if here else c.ink if curve is not None else c.muted))
            words = "in proportion" if curve is None else curve.benchmark.name
            words += " · capped" if curve is not None and curve.capped else ""
            room = QRectF(x, y - _ROW_PX / 2, max(edge - x, 0.0), _ROW_PX)
            shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(room.width()))
            width = painter.fontMetrics().horizontalAdvance(shown)
            painter.fillRect(QRectF(x - 2, y - _ROW_PX / 2 + 1, width + 4, _ROW_PX - 2), faded(c.ground, 0.8))
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, shown)
            if curve is not None:
                self._places.append((transform.inverted()[0].mapRect(room), curve.benchmark.id))
        if left <= self._stock <= right:
            at = transform.map(QPointF(self._stock, bottom))
            painter.setFont(font(SMALL_PX))
            painter.setPen(QPen(c.muted))
            painter.drawLine(QPointF(at.x(), at.y()), QPointF(at.x(), at.y() - 6))
            painter.drawText(QRectF(at.x() - 30, at.y() - 22, 60, 15), Qt.AlignmentFlag.AlignCenter, "stock")

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        """Choose the name under the pointer."""
        for place, id_ in self._places:
            if place.contains(event.pos()):
                self._choose(id_)
                event.accept()
                return
        event.ignore()


def _apart(wanted: list[float], top: float, bottom: float) -> list[float]:
    """Move heights, rising, so far apart that rows don't overlap, between top and bottom."""
    placed: list[float] = []
    for y in wanted:
        placed.append(max(y, top, placed[-1] + _ROW_PX if placed else y))
    over = placed[-1] - bottom if placed else 0.0
    for i in range(len(placed) - 1, -1, -1):
        if over <= 0.0:
            break
        limit = bottom - _ROW_PX * (len(placed) - 1 - i)
        placed[i] = min(placed[i], limit)
    return placed


def _words(view: ScalingView, curve: Curve, point: CurvePoint) -> str:
    half = (point.high - point.low) / 2
    digits = digits_for(half) if math.isfinite(half) else 1
    margin = f" ± {number(half, digits)}" if math.isfinite(half) else ""
    unit = unit_of(view.measure, curve.benchmark)
    return (
        f"{curve.benchmark.name} at {view.knob.text(point.value)}\n{number(point.shown, digits)}{margin} {unit},"
        f" {count(len(point.passes), 'pass', 'passes')}\n{point.verdict}, step {', '.join(str(n) for n in point.steps)}"
    )
