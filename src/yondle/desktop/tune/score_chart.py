"""Score against one knob: every pass as a dot, means with their ranges, the baseline's band, the line in proportion."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal

from yondle.desktop.charts.parts import MARK_PX, FailureMarks
from yondle.desktop.charts.place_chart import Along, PlaceChart, Spot
from yondle.desktop.look.marks import symbol
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.quantities import count, digits_for, number
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction
from yondle.views.tune.charting import ChartView, KnobPoint

_WIDEST_SHARE = 0.5
"""A label that would take more of the width than this is left out: the chart is too narrow for it."""
DOT_PX, _FOOT_COSTS = 4, 2
"""Words at the foot lie in the way of failures: each of them counts as so many points."""
_FAINT = 0.38
_JITTER_SHARE = 0.006
_LABEL_SHARES = (0.8, 0.65, 0.5, 0.35)
"""A word stands on its line at the first of these places that no point lies at: from the anchor to where the line leaves the
chart, else anywhere across it."""
_LABEL_WIDE, _LABEL_TALL = 0.14, 0.1
"""It takes so much of the width and height."""
_LEAST_LABEL_SHARE = 0.15
"""Nearer to the left edge than this, as a share of the width, a word stands to the right of its place."""
_TOO_FEW_FOR_A_RANGE = 2


class ScoreChart(PlaceChart):
    """The chart. `step_chosen` is sent with a step's number when one of its marks is clicked."""

    step_chosen = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: ChartView | None = None
        self._same = False
        self._at_edges: list[tuple[pg.TextItem, float, float]] = []
        plot = self.getPlotItem()
        plot.showGrid(x=False, y=True, alpha=0.25)
        box = plot.getViewBox()
        box.setDefaultPadding(0.02)
        box.sigRangeChanged.connect(self._place_edge_labels)
        box.sigResized.connect(self._place_edge_labels)
        self.setMinimumSize(200, 120)
        self.redraw()

    @property
    def view(self) -> ChartView | None:
        """What the chart shows."""
        return self._view

    def show_view(self, view: ChartView | None) -> None:
        """Show another chart, or the same one with new passes; the zoom is kept only for the same knob and benchmark."""
        before = self._view
        self._view = view
        if view == before:
            return
        self._same = (
            before is not None and view is not None and (before.knob, before.workload) == (view.knob, view.workload)
        )
        self.redraw()
        self._same = True

    def outside(self, view: ChartView) -> int:
        """Count the faint points that lie outside what the chart shows at first."""
        if not view.points:
            return 0
        low, high = _y_range(view)
        return sum(1 for p in view.points if not low <= p.spread.mean <= high)

    def table(self) -> str:
        """Give the chart's figures as tab-separated lines, for copying."""
        view = self._view
        if view is None:
            return ""
        unit = view.workload.metric.unit
        head = f"{view.knob.name} ({view.knob.unit})\tpasses\tmean ({unit})\tlow\thigh\tverdict\tother settings"
        lines = [
            f"{p.value:g}\t{p.spread.n}\t{p.spread.mean:.6g}\t{p.spread.low:.6g}\t{p.spread.high:.6g}\t{p.verdict}\t"
            f"{'as now' if p.strong else 'elsewhere'}"
            for p in view.points
        ]
        return "\n".join([head, *lines])

    # -- drawing -------------------------------------------------------------------------------------------------------

    def fill(self) -> bool:
        """Put up the baseline, the line in proportion, every pass, the means with their ranges, and failures."""
        self._at_edges.clear()
        view = self._view
        if view is None or not view.points:
            return False
        self.getPlotItem().getAxis("bottom").along(view.knob)
        self._draw_baseline(view)
        self._draw_proportion(view)
        strong = [p for p in view.points if p.strong]
        if len(strong) > 1:
            pen = pg.mkPen(self.theme.colours.in_play, width=2)
            self.plot([p.value for p in strong], [p.spread.mean for p in strong], pen=pen)
        self._draw_passes(view)
        self._draw_marks(view)
        self._draw_failures(view)
        return True

    def titles(self) -> tuple[Along, Along]:
        """Give the knob, and the benchmark with which way is better."""
        assert self._view is not None
        knob, metric = self._view.knob, self._view.workload.metric
        return (knob.name, knob.unit), (self._view.workload.name, metric.unit)

    def _draw_baseline(self, view: ChartView) -> None:
        if view.baseline is None or not math.isfinite(view.baseline.low):
            return
        c = self.theme.colours
        region = pg.LinearRegionItem(
            (view.baseline.low, view.baseline.high), orientation="horizontal", movable=False,
            brush=faded(c.verdicts[Verdict.HELD], 0.13), pen=pg.mkPen(None),
        )  # fmt: skip
        region.setZValue(-10)
        self.addItem(region, ignoreBounds=True)
        half = (view.baseline.high - view.baseline.low) / 2
        digits = digits_for(half)
        words = say("baseline {mean} ± {half}", mean=number(view.baseline.mean, digits), half=number(half, digits))
        self._edge_label(words, view.baseline.high, view.baseline.low)

    def _draw_proportion(self, view: ChartView) -> None:
        if view.anchor is None:
            return
        c = self.theme.colours
        x0, y0 = view.anchor
        low, high = _x_range(view)
        x = np.linspace(low, high, 60)
        power = -1.0 if view.workload.metric.direction is Direction.LOWER else 1.0
        pen = pg.mkPen(faded(c.muted, 0.9), width=1, style=Qt.PenStyle.DashLine)
        self.addItem(pg.PlotCurveItem(x, y0 * (x / x0) ** power, pen=pen), ignoreBounds=True)
        bottom, top = _y_range(view)
        top -= _LABEL_TALL * (top - bottom)
        end = min(high, max(x0 * top / y0, x0)) if power > 0 else high

        def lies_on_points(at: float) -> bool:
            up = y0 * (at / x0) ** power
            wide, tall = _LABEL_WIDE * (high - low), _LABEL_TALL * (top - bottom)
            return any(abs(p.value - at) < wide and abs(p.spread.mean - up) < tall for p in view.points)

        places = [x0 + share * (end - x0) for share in _LABEL_SHARES]
        across = (low + share * (high - low) for share in _LABEL_SHARES)
        places += [each for each in across if bottom < y0 * (each / x0) ** power < top]
        at = next((each for each in places if not lies_on_points(each)), places[0])
        rightwards = power < 0 or at - low < _LEAST_LABEL_SHARE * (high - low)
        word = pg.TextItem(say("in proportion"), color=c.muted, anchor=(0, 0) if rightwards else (1, 1))
        word.setFont(font(SMALL_PX))
        word.setPos(at, y0 * (at / x0) ** power)
        self.addItem(word, ignoreBounds=True)

    def _draw_passes(self, view: ChartView) -> None:
        low, high = _x_range(view)
        for strong, opacity in ((False, 0.3), (True, 0.8)):
            points = [p for p in view.points if p.strong is strong]
            aside = [
                p.value + ((i % 5) - 2) * _JITTER_SHARE * (high - low) for p in points for i in range(len(p.scores))
            ]
            scores = [score for p in points for score in p.scores]
            brush = pg.mkBrush(faded(self.theme.colours.muted, opacity))
            self.addItem(pg.ScatterPlotItem(aside, scores, size=DOT_PX, pen=pg.mkPen(None), brush=brush, pxMode=True))

    def _draw_marks(self, view: ChartView) -> None:
        c = self.theme.colours
        for strong, opacity in ((False, _FAINT), (True, 1.0)):
            points = [p for p in view.points if p.strong is strong and math.isfinite(p.spread.low)]
            if points:
                x, mean, low, high = np.array([(p.value, p.spread.mean, p.spread.low, p.spread.high) for p in points]).T
                pen = pg.mkPen(faded(c.ink, opacity), width=1.6)
                self.addItem(pg.ErrorBarItem(x=x, y=mean, top=high - mean, bottom=mean - low, beam=0, pen=pen))
        marks = pg.ScatterPlotItem(pxMode=True)
        marks.addPoints(
            [
                {
                    "pos": (p.value, p.spread.mean), "symbol": symbol(p.verdict, p.recorded), "size": MARK_PX,
                    "pen": pg.mkPen(None),
                    "brush": c.verdicts[p.verdict] if p.strong else faded(c.verdicts[p.verdict], _FAINT),
                }
                for p in view.points
            ]
        )  # fmt: skip
        marks.setZValue(10)
        self.addItem(marks)

    def _draw_failures(self, view: ChartView) -> None:
        c = self.theme.colours
        for failure in view.failures:
            pen = pg.mkPen(
                faded(c.verdicts[failure.verdict], 0.7 if failure.strong else _FAINT), style=Qt.PenStyle.DotLine
            )
            self.addItem(pg.InfiniteLine(failure.value, angle=90, pen=pen), ignoreBounds=True)
        if view.failures:
            self.addItem(FailureMarks(view.failures, self.theme, self._choose), ignoreBounds=True)

    def _edge_label(self, words: str, at: float, below: float) -> None:
        """Write a label at an edge of the chart, wherever that is zoomed to: above a height, or below another."""
        item = pg.TextItem(
            words, color=self.theme.colours.muted, fill=pg.mkBrush(faded(self.theme.colours.ground, 0.7))
        )
        item.setFont(font(SMALL_PX))
        self.addItem(item, ignoreBounds=True)
        self._at_edges.append((item, at, below))
        self._place_edge_labels()

    def _place_edge_labels(self, *_: object) -> None:
        """Put labels at the first corner, of both ends above and below, where the fewest points lie under them."""
        box = self.getPlotItem().getViewBox()
        (low, high), (bottom, top) = box.viewRange()
        wide_px, tall_px = box.viewPixelSize()
        for item, at, below in self._at_edges:
            size = item.boundingRect()
            wide, tall = (size.width() + MARK_PX) * wide_px, (size.height() + MARK_PX / 2.0) * tall_px

            corners: dict[tuple[bool, bool], int] = {}
            for left, above in ((False, True), (True, True), (False, False), (True, False)):
                x, y = low if left else high - wide, min(at, top - tall) if above else max(below - tall, bottom)
                lies = (x <= s.x <= x + wide and y - tall / 3.0 <= s.y <= y + tall for s in self.spots())
                corners[left, above] = sum(lies) + (
                    0 if above else _FOOT_COSTS * len(self._view.failures if self._view else ())
                )
            left, above = min(corners, key=lambda corner: corners[corner])
            item.setAnchor((0.0 if left else 1.0, 1.0 if above else 0.0))
            item.setVisible(size.width() * wide_px < _WIDEST_SHARE * (high - low))
            height = size.height() * tall_px
            item.setPos(low if left else high, min(at, top - height) if above else max(below, bottom + height))

    def show_at_first(self) -> None:
        """Keep the zoom of the same knob and benchmark."""
        if not (self._same and self._zoomed):
            super().show_at_first()

    def show_all(self) -> None:
        """Zoom out to all there is."""
        if self._view is None or not self._view.points:
            return
        self.setXRange(*_x_range(self._view), padding=0)
        self.setYRange(*_y_range(self._view), padding=0)

    # -- pointing ------------------------------------------------------------------------------------------------------

    def spots(self) -> list[Spot]:
        """List the points, those under other settings, too."""
        return [Spot(p.value, p.spread.mean, p) for p in self._view.points] if self._view is not None else []

    def words(self, what: KnobPoint) -> str:
        """Tell one point."""
        assert self._view is not None
        return _words(self._view, what)

    def steps(self, what: KnobPoint) -> tuple[int, ...]:
        """Give the steps of a point."""
        return what.steps

    def choose(self, what: KnobPoint) -> None:
        """Show the last step at a point on the trail."""
        self._choose(what.steps[-1])

    def _choose(self, step: int) -> None:
        self.step_chosen.emit(step)


def _x_range(view: ChartView) -> tuple[float, float]:
    xs = [p.value for p in view.points] + [f.value for f in view.failures]
    low, high = min(xs), max(xs)
    knob = view.knob
    pad = 0.07 * (high - low) or 2.0 * knob.step
    return max(low - pad, knob.low - knob.step / 2), min(high + pad, knob.high + knob.step / 2)


def _y_range(view: ChartView) -> tuple[float, float]:
    """Span the points under the present settings and the baseline; where there is one point alone, all of them.

    The range of two passes alone is so wide that it would flatten everything else; it may run out of the picture.
    """
    strong = [p for p in view.points if p.strong]
    shown = strong if len(strong) > 1 else view.points
    ys = [score for p in shown for score in p.scores]
    spreads = [*(p.spread for p in shown), *([view.baseline] if view.baseline else [])]
    for spread in (s for s in spreads if s.n > _TOO_FEW_FOR_A_RANGE):
        ys += [edge for edge in (spread.low, spread.high) if math.isfinite(edge)]
    low, high = min(ys), max(ys)
    pad = 0.1 * (high - low) or 0.01 * abs(high) or 1.0
    return low - 1.6 * pad, high + pad


def _words(view: ChartView, point: KnobPoint) -> str:
    metric = view.workload.metric
    half = (point.spread.high - point.spread.low) / 2
    margin = f" ± {number(half, digits_for(half))}" if math.isfinite(half) else ""
    mean = number(point.spread.mean, digits_for(half) if math.isfinite(half) else metric.digits)
    steps = ", ".join(str(n) for n in point.steps)
    others = "" if point.strong else say("\nother settings elsewhere")
    return say(
        "{point}\n{mean}{margin} {unit}, {passes}\n{verdict}, step {steps}{others}",
        point=view.knob.text(point.value),
        mean=mean,
        margin=margin,
        unit=metric.unit,
        passes=count(point.spread.n, "pass", "passes"),
        verdict=point.verdict,
        steps=steps,
        others=others,
    )
