"""The large chart of a place: it zooms, tells the nearest point under the pointer, and can be drawn elsewhere."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import pyqtgraph as pg
from PySide6.QtCore import QPointF
from PySide6.QtGui import QMouseEvent, QPainter

from yondle.desktop.charts.parts import NumberAxis, dress
from yondle.desktop.theme import Theme

_NEAR_PX = 18.0


class Spot(NamedTuple):
    """A point that can be told: where it is, and what it stands for."""

    x: float
    y: float
    what: Any


class PlaceChart(pg.PlotWidget):
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
        theme.changed.connect(self.redraw)

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
        if self.fill():
            self.addItem(self._told, ignoreBounds=True)
            self._told.hide()
            self.show_all()

    def draw(self, painter: QPainter) -> None:
        """Draw the chart onto something else; its marks are then painted one by one, not as pictures."""
        marks = [item for item in self.getPlotItem().items if hasattr(item, "setExportMode")]
        for item in marks:
            item.setExportMode(True)
        self.render(painter)
        for item in marks:
            item.setExportMode(False)

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
