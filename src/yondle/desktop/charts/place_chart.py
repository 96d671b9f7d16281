"""What every chart of points shares: titled axes, zoom, points told under the pointer and key by key, and a click on one."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPoint, QPointF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QResizeEvent

from yondle.desktop.charts.parts import NumberAxis, dress, title
from yondle.desktop.look.aloud import announce
from yondle.desktop.look.marks import symbol
from yondle.desktop.look.theme import SMALL_PX, Redrawn, Theme, faded, font
from yondle.model.quantities import with_unit
from yondle.model.verdicts import Verdict

_NEAR_PX = 18.0
_FEW = 2
"""The range of so few passes is so wide that it would flatten everything else: it may run out of the picture."""
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


Along = tuple[str, str]
"""What an axis shows, and the unit of its values, which may be shown in another."""


class PlaceChart(Redrawn, pg.PlotWidget):
    """A chart that fills itself in `fill`, knows its range in `show_all` and its points in `spots`.

    `drawn` is sent when it shows something else, `told` with the words of a point that the arrow keys have come to.
    """

    drawn = Signal()
    told = Signal(str)

    left_px = 62
    bottom_level = 1
    """How fine the ticks along may get."""
    _zoomed = True
    """Whether something else than all is in view: at first there is nothing."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(enableMenu=False, axisItems={"bottom": NumberAxis("bottom"), "left": NumberAxis("left")})
        self.theme = theme
        plot = self.getPlotItem()
        plot.hideButtons()
        plot.getViewBox().setMouseMode(pg.ViewBox.RectMode)
        self.setMinimumSize(300, 180)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._at: int | None = None
        self._told = pg.TextItem(anchor=(0, 1))
        self._told.setZValue(20)
        self._on_hover = pg.SignalProxy(self.scene().sigMouseMoved, rateLimit=60, slot=self._hover)
        self._ruled: list[pg.InfiniteLine] = []
        plot.getViewBox().sigRangeChanged.connect(self._name_what_is_seen)
        plot.getViewBox().sigRangeChangedManually.connect(self._zoomed_by_hand)
        self.scene().sigMouseClicked.connect(self._clicked)
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

    def titles(self) -> tuple[Along, Along]:
        """Give what lies along and what goes upward, each with its unit."""
        raise NotImplementedError

    def steps(self, what: Any) -> tuple[int, ...]:
        """Give the steps of the open logbook that a point comes from."""
        raise NotImplementedError

    def choose(self, what: Any) -> None:
        """Choose a point that was clicked, or come to by the keys."""

    def clicked_beside(self, at: QPointF) -> None:
        """Take a click where no point is, in the chart's own coordinates."""

    def redraw(self) -> None:
        """Draw everything anew."""
        dress(self, self.theme, self.left_px, bottom_level=self.bottom_level)
        self.clear()
        self._ruled.clear()
        self._at = None
        if self.fill():
            for side, (name, unit) in zip(("bottom", "left"), self.titles(), strict=True):
                title(self, side, with_unit(name, unit), self.theme)
                self.getPlotItem().getAxis(side).unit = unit
            self.addItem(self._told, ignoreBounds=True)
            self._told.hide()
            self.show_at_first()
            self._name_what_is_seen()
        self.drawn.emit()

    def show_at_first(self) -> None:
        """Zoom as is right for what was just put up."""
        self._all()

    def draw(self, painter: QPainter) -> None:
        """Draw the chart onto something else; its marks are then painted one by one, not as pictures."""
        marks = [item for item in self.getPlotItem().items if hasattr(item, "setExportMode")]
        for item in marks:
            item.setExportMode(True)
        self.render(painter)
        for item in marks:
            item.setExportMode(False)

    def draw_measured(self, points: list[Measured], line: QPen, bars: QColor, mark_px: int) -> None:
        """Draw a curve with its ranges, its passes, and its marks."""
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
                    "brush": c.verdicts[p.verdict],
                }
                for p in points
            ]
        )  # fmt: skip
        marks.setZValue(10)
        self.addItem(marks)

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

    def show_between(self, bottom: float, top: float, free_px: float) -> None:
        """Show the heights between two, with so many pixels free at the foot."""
        high = max(self.getPlotItem().getViewBox().height(), 4.0 * free_px)
        free = (top - bottom) * free_px / (high - free_px)
        if self.getPlotItem().getViewBox().yInverted():
            top += free
        else:
            bottom -= free
        self.setYRange(bottom, top, padding=0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep free what is to be free at another size, too, unless something else than all is shown."""
        super().resizeEvent(event)
        if not self._zoomed and self.spots():
            self.show_all()

    def steps_at(self, at: QPoint) -> tuple[int, ...]:
        """Give the steps of the point at a place of the chart, where one is near."""
        near = self.nearest(self.mapToScene(at))
        return self.steps(near.what) if near is not None else ()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """A double click shows everything again."""
        self._all()

    def _all(self) -> None:
        self._zoomed = False
        self.show_all()

    def _zoomed_by_hand(self, *_: object) -> None:
        self._zoomed = True

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and Right walk from point to point, Return chooses one, Home shows everything again."""
        match event.key():
            case Qt.Key.Key_Left:
                self.walk(-1)
            case Qt.Key.Key_Right:
                self.walk(1)
            case Qt.Key.Key_Home:
                self._all()
            case Qt.Key.Key_Return | Qt.Key.Key_Enter if self._at is not None:
                self.choose(self._in_order()[self._at].what)
            case _:
                event.ignore()

    def walk(self, by: int) -> None:
        """Tell the next point to the right, or to the left; the first time the one furthest there."""
        spots = self._in_order()
        if not spots:
            return
        begin = 0 if by > 0 else len(spots) - 1
        self._at = begin if self._at is None else min(max(self._at + by, 0), len(spots) - 1)
        self._tell(spots[self._at])
        words = self.words(spots[self._at].what)
        self.setAccessibleDescription(words)
        announce(self, words)
        self.told.emit(words)

    def _in_order(self) -> list[Spot]:
        return sorted(self.spots(), key=lambda spot: (spot.x, spot.y))

    def _clicked(self, event: Any) -> None:
        where: QPointF = event.scenePos()
        box = self.getPlotItem().getViewBox()
        if event.double() or event.button() != Qt.MouseButton.LeftButton or not box.sceneBoundingRect().contains(where):
            return
        near = self.nearest(where)
        if near is not None:
            self.choose(near.what)
        else:
            self.clicked_beside(box.mapSceneToView(where))

    def _hover(self, event: tuple[QPointF]) -> None:
        box = self.getPlotItem().getViewBox()
        near = self.nearest(event[0]) if box.sceneBoundingRect().contains(event[0]) else None
        if near is None:
            self._told.hide()
        else:
            self._tell(near)

    def _tell(self, near: Spot) -> None:
        """Say on a card beside a point what it stands for; its four corners stay in the picture."""
        c, box = self.theme.colours, self.getPlotItem().getViewBox()
        self._told.setText(self.words(near.what), color=c.ink)
        self._told.fill, self._told.border = pg.mkBrush(c.panel), pg.mkPen(c.rule)
        at, area = box.mapViewToScene(QPointF(near.x, near.y)), box.sceneBoundingRect()
        self._told.setAnchor((float(at.x() > area.center().x()), -0.2 if at.y() < area.center().y() else 1.2))
        self._told.setPos(near.x, near.y)
        self._told.show()


def ends(points: list[Measured]) -> list[float]:
    """Give what an axis has to span for points to be seen whole: means, passes, and ranges of more than two passes."""
    found = [y for p in points for y in (p.y, *p.passes)]
    found += [end for p in points if len(p.passes) > _FEW for end in (p.low, p.high)]
    return [each for each in found if math.isfinite(each)]
