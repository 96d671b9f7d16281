"""The large chart of a place: it zooms, tells the nearest point under the pointer, and can be drawn elsewhere."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen

from yondle.desktop.charts.parts import NumberAxis, dress
from yondle.desktop.look.marks import symbol
from yondle.desktop.look.theme import SMALL_PX, Redrawn, Theme, faded, font
from yondle.model.verdicts import Verdict

_NEAR_PX = 18.0
_DOT_PX, _BAR_PX = 4, 1.5


class Measured(NamedTuple):
    """One value of a knob as it is drawn: its mean, the 95 % range (nan without one), every pass, and the verdict."""

    x: float
    y: float
    low: float
    high: float
    passes: tuple[float, ...]
    verdict: Verdict
    recorded: bool = False


class Spot(NamedTuple):
    """A point that can be told: where it is, and what it stands for."""

    x: float
    y: float
    what: Any


class PlaceChart(Redrawn, pg.PlotWidget):
    """A chart that fills itself in `fill`, knows its range in `show_all` and its points in `spots`."""

    left_px = 52
    bottom_level = 1
    """How fine the ticks along may get."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(enableMenu=False, axisItems={"bottom": NumberAxis("bottom"), "left": NumberAxis("left")})
        self.theme = theme
        plot = self.getPlotItem()
        plot.hideButtons()
        plot.getViewBox().setMouseMode(pg.ViewBox.RectMode)
        self.setMinimumSize(300, 180)
        self._told = pg.TextItem(anchor=(0, 1))
        self._told.setZValue(20)
        self._on_hover = pg.SignalProxy(self.scene().sigMouseMoved, rateLimit=60, slot=self._hover)
        self._ruled: list[pg.InfiniteLine] = []
        plot.getViewBox().sigRangeChanged.connect(self._name_what_is_seen)
        self.redraw_with(theme, self.redraw)

    def fill(self) -> bool:
        """Put everything up; tells whether there was anything."""
        raise NotImplementedError

    def show_all(self) -> None:
        """Zoom out to all there is."""
        raise NotImplementedError

    def spots(self) -> list[Spot]:
        """List the points that can be told."""
        raise NotImplementedError

    def words(self, what: Any) -> str:
        """Tell a point: its exact values and the number of passes."""
        raise NotImplementedError

    def redraw(self) -> None:
        """Draw everything anew."""
        dress(self, self.theme, self.left_px, bottom_level=self.bottom_level)
        self.clear()
        self._ruled.clear()
        if self.fill():
            self.addItem(self._told, ignoreBounds=True)
            self._told.hide()
            self.show_all()
            self._name_what_is_seen()

    def draw(self, painter: QPainter) -> None:
        """Draw the chart onto something else; its marks are then painted one by one, not as pictures."""
        marks = [item for item in self.getPlotItem().items if hasattr(item, "setExportMode")]
        for item in marks:
            item.setExportMode(True)
        self.render(painter)
        for item in marks:
            item.setExportMode(False)

    def draw_measured(self, points: list[Measured], line: QPen, bars: QColor, mark_px: int) -> pg.ScatterPlotItem:
        """Draw a curve with its ranges, its passes, and its marks, which are given back."""
        c = self.theme.colours
        self.plot([p.x for p in points], [p.y for p in points], pen=line)
        ranged = [p for p in points if math.isfinite(p.low)]
        if ranged:
            x, y, low, high = np.array([p[:4] for p in ranged]).T
            pen = pg.mkPen(bars, width=_BAR_PX)
            self.addItem(pg.ErrorBarItem(x=x, y=y, top=high - y, bottom=y - low, beam=0, pen=pen))
        passes = [(p.x, v) for p in points for v in p.passes]
        dots = pg.ScatterPlotItem(
            [x for x, _ in passes], [y for _, y in passes], size=_DOT_PX, pen=pg.mkPen(None), brush=faded(c.muted, 0.7)
        )
        self.addItem(dots)
        marks = pg.ScatterPlotItem(pxMode=True)
        marks.addPoints(
            [
                {
                    "pos": (p.x, p.y), "symbol": symbol(p.verdict, p.recorded), "size": mark_px, "pen": pg.mkPen(None),
                    "brush": c.verdicts[p.verdict], "data": p.x,
                }
                for p in points
            ]
        )  # fmt: skip
        marks.setZValue(10)
        self.addItem(marks)
        return marks

    def rule(self, at: float, angle: int, words: str, colour: QColor, side: int = 0) -> None:
        """Rule a line with its name to the right of it, or with `side` 1 to the left."""
        place = {"position": 0.96 if angle else 0.04, "color": colour, "anchors": [(side, 0 if angle else 1)] * 2}
        pen = pg.mkPen(faded(colour, 0.8), style=Qt.PenStyle.DashLine)
        line = pg.InfiniteLine(at, angle=angle, pen=pen, label=words, labelOpts=place)
        line.label.setFont(font(SMALL_PX))
        self.addItem(line, ignoreBounds=True)
        self._ruled.append(line)

    def _name_what_is_seen(self) -> None:
        """Hide the names of lines that are out of view: they would hang over its edge."""
        across, up = self.getPlotItem().getViewBox().viewRange()
        for line in self._ruled:
            low, high = across if line.angle == 90 else up
            line.label.setVisible(low <= line.value() <= high)

    def nearest(self, where: QPointF) -> Spot | None:
        """Give the point next to a place of the scene, where one is near."""
        box = self.getPlotItem().getViewBox()

        def away(spot: Spot) -> float:
            at = box.mapViewToScene(QPointF(spot.x, spot.y))
            return math.hypot(at.x() - where.x(), at.y() - where.y())

        near = min(self.spots(), key=away, default=None)
        return near if near is not None and away(near) <= _NEAR_PX else None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """A double click shows everything again."""
        self.show_all()

    def _hover(self, event: tuple[QPointF]) -> None:
        box = self.getPlotItem().getViewBox()
        near = self.nearest(event[0]) if box.sceneBoundingRect().contains(event[0]) else None
        if near is None:
            self._told.hide()
            return
        c = self.theme.colours
        self._told.setText(self.words(near.what), color=c.ink)
        self._told.fill, self._told.border = pg.mkBrush(c.panel), pg.mkPen(c.rule)
        (left, right), (bottom, top) = box.viewRange()
        self._told.setAnchor((0 if near.x < (left + right) / 2 else 1, -0.2 if near.y > (bottom + top) / 2 else 1.2))
        self._told.setPos(near.x, near.y)
        self._told.show()
