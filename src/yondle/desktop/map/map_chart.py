"""Two knobs as a map: verdict marks with their gains, contour lines inside what was measured, and the edge."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, Qt, Signal

from yondle.desktop.charts.parts import MARK_PX
from yondle.desktop.charts.place_chart import Along, PlaceChart, Spot
from yondle.desktop.look.marks import symbol
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.language.saying import say
from yondle.model.quantities import MINUS, count, number
from yondle.model.verdicts import Verdict
from yondle.views.map.maps import MapPoint, MapView
from yondle.views.shared.gains import told_words

_CELLS = 60
_LINES = 7
_LEVEL_SHARE = 0.38
_MOST_LABELLED = 60
_DIAGONALS = (0.9, 1.0, 1.1)
"""Diagonals drawn, as shares of the ratio the two knobs have at stock."""


class MapChart(PlaceChart):
    """The map. `place_chosen` is sent with the values of both knobs where it is clicked."""

    place_chosen = Signal(float, float)

    bottom_level = 0

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self._view: MapView | None = None
        self._chosen: tuple[float, float] | None = None

    def show_view(self, view: MapView, chosen: tuple[float, float] | None) -> None:
        """Show another map, with one place marked."""
        if (view, chosen) != (self._view, self._chosen):
            self._view, self._chosen = view, chosen
            self.redraw()

    def table(self) -> str:
        """Give every point as tab-separated lines, for copying."""
        view = self._view
        if view is None:
            return ""
        head = f"{view.across.name} ({view.across.unit})\t{view.up.name} ({view.up.unit})\tgain\tlow\thigh\tpasses\tverdict"
        lines = [
            f"{p.x:g}\t{p.y:g}\t" + (f"{p.gain.fraction:.6g}\t{p.gain.low:.6g}\t{p.gain.high:.6g}" if p.gain else "\t\t")
            + f"\t{p.passes}\t{p.verdict}"
            for p in view.points
        ]  # fmt: skip
        return "\n".join([head, *lines])

    # -- drawing -------------------------------------------------------------------------------------------------------

    def fill(self) -> bool:
        """Put up contours, the edge and the points."""
        c, view = self.theme.colours, self._view
        if view is None or not view.points:
            return False
        for side, knob in (("bottom", view.across), ("left", view.up)):
            self.getPlotItem().getAxis(side).along(knob)
        self._draw_proportion(view)
        self._draw_contours(view)
        self._draw_edge(view)
        self._draw_points(view)
        if self._chosen is not None:
            x, y = self._chosen
            pen = pg.mkPen(c.in_play, width=2)
            self.addItem(
                pg.ScatterPlotItem([x], [y], size=MARK_PX + 9, pen=pen, brush=None, symbol="o"), ignoreBounds=True
            )
        return True

    def _draw_proportion(self, view: MapView) -> None:
        """The diagonal through stock along which both knobs rise in proportion, and those a tenth to either side of it."""
        across, up = view.across, view.up
        if not (across.proportional and up.proportional):
            return
        c = self.theme.colours
        low, high = min(p.x for p in view.points), max(p.x for p in view.points)
        for share in _DIAGONALS:
            slope = share * up.stock / across.stock
            pen = pg.mkPen(faded(c.muted, 0.8 if share == 1.0 else 0.35), width=1, style=Qt.PenStyle.DotLine)
            line = pg.PlotCurveItem([0.5 * low, 2.0 * high], [0.5 * slope * low, 2.0 * slope * high], pen=pen)
            line.setZValue(-6)
            self.addItem(line, ignoreBounds=True)
        word = pg.TextItem(say("both in proportion"), color=c.muted, anchor=(1, 1))
        word.setFont(font(SMALL_PX))
        at = min(high, max(p.y for p in view.points) * across.stock / up.stock)
        word.setPos(at, at * up.stock / across.stock)
        self.addItem(word, ignoreBounds=True)

    def _draw_contours(self, view: MapView) -> None:
        """Lines of equal gain inside the hull of what was measured, each with its figure."""
        if view.surface is None:
            return
        c = self.theme.colours
        surface, (left, bottom), (right, top) = (
            view.surface,
            view.surface.hull.min(axis=0),
            view.surface.hull.max(axis=0),
        )
        xs, ys = np.linspace(left, right, _CELLS), np.linspace(bottom, top, _CELLS)
        heights = surface.height(*np.meshgrid(xs, ys, indexing="ij"))
        low, high = float(heights.min()), float(heights.max())
        step = _round_step((high - low) / _LINES)
        for level in np.arange(math.ceil(low / step) * step, high, step):
            strong = abs(level) < step / 2
            pen = pg.mkPen(faded(c.ink, 0.75 if strong else 0.38), width=1.6 if strong else 1.0)
            for line in pg.functions.isocurve(heights, level, connected=True):
                cells = np.array(line) - 0.5
                x = left + cells[:, 0] * (right - left) / (_CELLS - 1)
                y = bottom + cells[:, 1] * (top - bottom) / (_CELLS - 1)
                inside = surface.holds(x, y)
                if inside.sum() > 1:
                    shown = np.where(inside, x, np.nan), np.where(inside, y, np.nan)
                    curve = pg.PlotCurveItem(*shown, pen=pen, connect="finite")
                    curve.setZValue(-5)
                    self.addItem(curve, ignoreBounds=True)
                    self._write_level(_percent(level, step), x[inside], y[inside])

    def _write_level(self, words: str, x: np.ndarray, y: np.ndarray) -> None:
        """Write a level into its line, between two rows of marks."""
        at = int(_LEVEL_SHARE * len(x))
        word = pg.TextItem(
            words, color=self.theme.colours.muted, anchor=(0.5, 0.5), fill=pg.mkBrush(self.theme.colours.ground)
        )
        word.setFont(font(SMALL_PX - 1))
        word.setPos(x[at], y[at])
        word.setZValue(-4)
        self.addItem(word, ignoreBounds=True)

    def _draw_edge(self, view: MapView) -> None:
        if len(view.edge) < 2:
            return
        colour = self.theme.colours.verdicts[Verdict.DOWN]
        x, y = [p[0] for p in view.edge], [p[1] for p in view.edge]
        self.plot(x, y, pen=pg.mkPen(colour, width=2, style=Qt.PenStyle.DashLine))
        word = pg.TextItem(say("edge"), color=colour, anchor=(0, 1))
        word.setFont(font(SMALL_PX))
        word.setPos(x[-1], y[-1])
        self.addItem(word, ignoreBounds=True)

    def _draw_points(self, view: MapView) -> None:
        c = self.theme.colours
        marks = pg.ScatterPlotItem(pxMode=True)
        marks.addPoints(
            [
                {
                    "pos": (p.x, p.y), "symbol": symbol(p.verdict, p.recorded), "size": MARK_PX, "pen": pg.mkPen(None),
                    "brush": c.verdicts[p.verdict],
                }
                for p in view.points
            ]
        )  # fmt: skip
        self.addItem(marks)
        if len(view.points) > _MOST_LABELLED:
            return
        for p in view.points:
            if p.gain is not None:
                words, ground = _percent(100 * p.gain.fraction, 0.1), pg.mkBrush(faded(c.ground, 0.75))
                word = pg.TextItem(words, color=c.ink, anchor=(0.5, -0.35), fill=ground)
                word.setFont(font(SMALL_PX))
                word.setPos(p.x, p.y)
                self.addItem(word, ignoreBounds=True)

    def show_all(self) -> None:
        """Zoom out to every point."""
        view = self._view
        if view is None or not view.points:
            return
        for values, knob, show in (
            ([p.x for p in view.points], view.across, self.setXRange),
            ([p.y for p in view.points], view.up, self.setYRange),
        ):
            low, high = min(values), max(values)
            pad = 0.12 * (high - low) or 2.0 * knob.step
            show(low - pad, high + pad, padding=0)

    # -- pointing ------------------------------------------------------------------------------------------------------

    def spots(self) -> list[Spot]:
        """List the points."""
        return [Spot(p.x, p.y, p) for p in self._view.points] if self._view is not None else []

    def titles(self) -> tuple[Along, Along]:
        """Give both knobs."""
        assert self._view is not None
        across, up = self._view.across, self._view.up
        return (across.name, across.unit), (up.name, up.unit)

    def steps(self, what: MapPoint) -> tuple[int, ...]:
        """Give the steps of a point."""
        return what.steps

    def choose(self, what: MapPoint) -> None:
        """Choose the place of a point."""
        self.place_chosen.emit(what.x, what.y)

    def clicked_beside(self, at: QPointF) -> None:
        """Choose an empty place, at the nearest values that both knobs take."""
        if self._view is None:
            return
        across, up = self._view.across, self._view.up
        if across.low <= at.x() <= across.high and up.low <= at.y() <= up.high:
            self.place_chosen.emit(across.nearest(at.x()), up.nearest(at.y()))

    def words(self, what: MapPoint) -> str:
        """Tell one point."""
        view = self._view
        assert view is not None
        told = told_words(what.gain) if what.gain is not None else say("no figures")
        steps = ", ".join(str(n) for n in what.steps)
        return say(
            "{x}, {y}\n{told}, {passes}\n{verdict}, step {steps}",
            x=view.across.text(what.x),
            y=view.up.text(what.y),
            told=told,
            passes=count(what.passes, "pass", "passes"),
            verdict=what.verdict,
            steps=steps,
        )


def _round_step(step: float) -> float:
    """Give the next of 1, 2, 5 times a power of ten."""
    size = 10.0 ** math.floor(math.log10(max(step, 1e-3)))
    return next(size * m for m in (1.0, 2.0, 5.0, 10.0) if size * m >= step)


def _percent(value: float, step: float) -> str:
    digits = 0 if step >= 1.0 else 1
    words = number(value, digits)
    return words if words.startswith(MINUS) or not float(f"{value:.{digits}f}") else f"+{words}"
