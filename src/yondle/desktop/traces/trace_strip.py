"""One strip of a trace: the channels of a panel over time, the lines they are held against, and what happened when."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPen
from PySide6.QtWidgets import QStyleOptionGraphicsItem, QWidget

from yondle.analysis.pyramid import Pyramid
from yondle.analysis.traces import stretches
from yondle.desktop.charts.parts import InPixels, NumberAxis
from yondle.desktop.look.basics import tip
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.desktop.traces.time_axis import TimeAxis, clock_words
from yondle.language.saying import say
from yondle.model.quantities import between, figure, quantity, with_unit
from yondle.model.sensors import IN_PLAY, NATURES, Channel, Quantity
from yondle.model.verdicts import Verdict
from yondle.views.traces.spans import apart_of, dips_of
from yondle.views.traces.traces import Panel, Trace, temperatures_of

LEFT_PX = 58
_POINTS = 3000
"""About so many points are drawn of a channel, however many readings are in view."""
_MARK_PX = 4.5
_PASS_NAME_PX = 74.0
"""A pass narrower than this on the screen isn't named."""


@dataclass(frozen=True, slots=True)
class Shown:
    """What is drawn: the run in front, one behind it (or taken from it), and where the second lies on the first's clock.

    `beside` is one that isn't drawn now but shares the axes, so that flipping to it moves nothing.
    """

    front: Trace
    behind: Trace | None = None
    offset_s: float = 0.0
    difference: bool = False
    beside: Trace | None = None


@dataclass(slots=True)
class _Curve:
    item: pg.PlotCurveItem
    pyramid: Pyramid
    offset_s: float
    channel: Channel


@dataclass(frozen=True, slots=True)
class _Events:
    """What the overlay paints: passes, stretches at a limit, dips and the verdict."""

    passes: tuple[tuple[float, float, str], ...] = ()
    reached: tuple[tuple[float, float], ...] = ()
    dips: tuple[float, ...] = ()
    verdict: tuple[float, Verdict] | None = None


class SpanBox(pg.ViewBox):
    """A view in which a drag chooses a span of time, the wheel zooms in time, and a double click shows all."""

    def __init__(self, choose: Callable[[float, float, bool], None], show_all: Callable[[], None]) -> None:
        super().__init__(enableMenu=False)
        self._choose, self._show_all = choose, show_all
        self.setMouseEnabled(x=True, y=False)

    def mouseDragEvent(self, event: object, axis: int | None = None) -> None:
        """Choose the span between where the drag began and where it is."""
        if event.button() != Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
            event.ignore()  # type: ignore[attr-defined]
            return
        event.accept()  # type: ignore[attr-defined]
        begun = self.mapToView(event.buttonDownPos()).x()  # type: ignore[attr-defined]
        now = self.mapToView(event.pos()).x()  # type: ignore[attr-defined]
        self._choose(min(begun, now), max(begun, now), bool(event.isFinish()))  # type: ignore[attr-defined]

    def mouseClickEvent(self, event: object) -> None:
        """Show all on a double click."""
        if event.double():  # type: ignore[attr-defined]
            self._show_all()


class TraceStrip:
    """A plot of one panel; `draw` puts its data up, `follow` redraws what is in view."""

    def __init__(self, theme: Theme, box: SpanBox) -> None:
        self._theme = theme
        axes = {"bottom": TimeAxis("bottom"), "left": NumberAxis("left")}
        self.plot = pg.PlotItem(viewBox=box, axisItems=axes, enableMenu=False)
        self.plot.hideButtons()
        self._curves: list[_Curve] = []
        self._region = pg.LinearRegionItem((0, 0), movable=False)
        self._over = _Over(theme)
        self._range = (0.0, 1.0)
        self._unit = ""
        self.panel: Panel | None = None

    def draw(self, shown: Shown, panel: Panel, first: bool, last: bool) -> None:
        """Draw a panel; the first strip names the passes, the last has the times."""
        c, plot = self._theme.colours, self.plot
        self.panel, self._unit = panel, between(panel.unit) if shown.difference else panel.unit
        plot.clear()
        self._curves.clear()
        self._dress(last)
        self._region = pg.LinearRegionItem((0, 0), movable=False, brush=faded(c.in_play, 0.1), pen=pg.mkPen(None))
        self._region.hide()
        plot.addItem(self._region, ignoreBounds=True)
        if shown.difference and shown.behind is not None:
            self._draw_difference(shown, panel)
        else:
            if shown.behind is not None:
                self._draw_channels(shown.behind, panel, shown.offset_s, behind=True)
            self._draw_channels(shown.front, panel, 0.0, behind=False)
            for line in panel.lines:
                self._draw_line(line.words, line.value)
        self._over = _Over(self._theme)
        self._over.show(_events(shown, panel), self._heading(shown, panel), first)
        plot.addItem(self._over, ignoreBounds=True)
        plot.setYRange(*self._y_range(shown, panel), padding=0)

    def follow(self) -> None:
        """Draw the points in view."""
        low, high = self.plot.getViewBox().viewRange()[0]
        for curve in self._curves:
            x, y = curve.pyramid.seen(low - curve.offset_s, high - curve.offset_s, _POINTS)
            curve.item.setData(x + curve.offset_s, y, connect="finite")

    def choose(self, span: tuple[float, float] | None) -> None:
        """Show the chosen span."""
        self._region.setVisible(span is not None)
        if span is not None:
            self._region.setRegion(span)

    def point_at(self, t: float | None) -> None:
        """Tell the exact readings at a moment."""
        words = []
        for curve in self._curves if t is not None else ():
            assert t is not None
            told = reading_at(curve.pyramid, t - curve.offset_s)
            if told is not None:
                words.append((curve.channel, told, curve.offset_s))
        texts = [f"{channel.name} {quantity(v, self._unit, channel.digits)}" for channel, v, _ in words]
        self._over.point(t, "  ·  ".join(texts))

    # -- drawing -------------------------------------------------------------------------------------------------------

    def _dress(self, last: bool) -> None:
        c = self._theme.colours
        self.plot.getViewBox().setBackgroundColor(c.panel)
        for side in ("bottom", "left"):
            axis = self.plot.getAxis(side)
            axis.setPen(pg.mkPen(c.rule))
            axis.setTextPen(pg.mkPen(c.muted))
            axis.setStyle(tickFont=font(SMALL_PX), tickLength=3, maxTickLevel=0)
        self.plot.getAxis("left").setWidth(LEFT_PX)
        counted = self.panel is not None and NATURES[self.panel.quantity].counted
        left = self.plot.getAxis("left")
        left.least, left.unit = 1.0 if counted else 0.0, self._unit
        bottom = self.plot.getAxis("bottom")
        bottom.setStyle(showValues=last)
        bottom.setHeight(22 if last else 4)
        self.plot.showGrid(x=False, y=True, alpha=0.25)

    def _draw_channels(self, trace: Trace, panel: Panel, offset_s: float, behind: bool) -> None:
        c = self._theme.colours
        strong = _strongest(trace, panel)
        for channel in reversed(panel.channels):
            pyramid = trace.pyramid(channel.id)
            if pyramid is None:
                continue
            if behind:
                pen = pg.mkPen(faded(c.ink, 0.55 if channel.id == strong else 0.22), width=1)
            elif channel.id == strong:
                pen = pg.mkPen(colour_of(self._theme, panel.quantity), width=1.5)
            else:
                pen = pg.mkPen(faded(colour_of(self._theme, panel.quantity), 0.45), width=1)
            self._add(pyramid, channel, pen, offset_s)

    def _draw_difference(self, shown: Shown, panel: Panel) -> None:
        assert shown.behind is not None
        channel = panel.channels[0]
        apart = apart_of(shown.front, shown.behind, channel.id, shown.offset_s)
        if apart is None:
            return
        self._add(
            Pyramid(shown.front.times, apart), channel, pg.mkPen(colour_of(self._theme, panel.quantity), width=1.5), 0.0
        )
        self.plot.addItem(
            pg.InfiniteLine(0.0, angle=0, pen=pg.mkPen(self._theme.colours.muted, width=1)), ignoreBounds=True
        )

    def _add(self, pyramid: Pyramid, channel: Channel, pen: QPen, offset_s: float) -> None:
        item = pg.PlotCurveItem(pen=pen)
        item.setSegmentedLineMode("on")
        self.plot.addItem(item)
        self._curves.append(_Curve(item, pyramid, offset_s, channel))

    def _draw_line(self, words: str, value: float) -> None:
        c = self._theme.colours
        assert self.panel is not None
        digits = NATURES[self.panel.quantity].digits
        options = {"position": 0.995, "color": c.muted, "anchors": [(1, 1), (1, 1)]}
        pen = pg.mkPen(faded(c.ink, 0.7), style=Qt.PenStyle.DashLine)
        line = pg.InfiniteLine(
            value, angle=0, pen=pen, label=f"{words} {figure(value, self._unit, digits)}", labelOpts=options
        )
        line.label.setFont(font(SMALL_PX - 1))
        self.plot.addItem(line, ignoreBounds=True)

    def _heading(self, shown: Shown, panel: Panel) -> tuple[str, str]:
        name = with_unit(panel.name, panel.unit)
        if shown.difference:
            unit = with_unit("", self._unit)
            return say("{channel}{unit}, A less B", channel=panel.channels[0].name, unit=unit), ""
        if len(panel.channels) < 2:
            return name, ""
        strong = _strongest(shown.front, panel)
        told = next((c.name for c in panel.channels if c.id == strong), "")
        return name, say("strong: {told}", told=told) + (
            say(", the hottest") if panel.quantity is Quantity.TEMPERATURE else ""
        )

    def _y_range(self, shown: Shown, panel: Panel) -> tuple[float, float]:
        """All of both runs and the lines they are held against, so that flipping moves nothing."""
        if shown.difference:
            spans = [curve.pyramid.span(-math.inf, math.inf) for curve in self._curves]
            most = max((abs(v) for span in spans if span is not None for v in span), default=1.0) or 1.0
            return -1.15 * most, 1.6 * most
        known: list[float] = [line.value for line in panel.lines]
        for trace in (shown.front, shown.behind, shown.beside):
            for channel in panel.channels if trace is not None else ():
                assert trace is not None
                pyramid = trace.pyramid(channel.id)
                span = pyramid.span(-math.inf, math.inf) if pyramid is not None else None
                known += span or ()
        nature = NATURES[panel.quantity]
        if nature.share:
            return -0.05 * nature.least_span, 1.28 * nature.least_span
        low, high = (min(known), max(known)) if known else (0.0, 1.0)
        if nature.counted:
            return -0.3, max(1.3 * high, 3.0)
        least = nature.least_span
        if high - low < least:
            low, high = (low + high - least) / 2.0, (low + high + least) / 2.0
        return low - 0.08 * (high - low), high + 0.28 * (high - low)


def _strongest(trace: Trace, panel: Panel) -> str:
    """Give the channel drawn strongest: of temperatures the one with the highest peak, else the first."""
    if panel.quantity is not Quantity.TEMPERATURE:
        return panel.channels[0].id
    wanted = {c.id for c in temperatures_of(trace)}
    peaks = {c.id: float(np.nanmax(trace.columns[c.id])) for c in panel.channels if c.id in wanted & set(trace.columns)}
    return max(peaks, key=peaks.__getitem__) if peaks else panel.channels[0].id


def colour_of(theme: Theme, kind: Quantity) -> QColor:
    """Give the colour a kind of sensor is drawn in."""
    c, tint = theme.colours, NATURES[kind].tint
    if isinstance(tint, Verdict):
        return c.verdicts[tint]
    return c.in_play if tint == IN_PLAY else c.ink


def reading_at(pyramid: Pyramid, t: float) -> float | None:
    """Give the last reading at or before a moment."""
    place = int(np.searchsorted(pyramid.times, t, "right")) - 1
    if not 0 <= place < len(pyramid.values):
        return None
    value = float(pyramid.values[place])
    return value if math.isfinite(value) else None


def _events(shown: Shown, panel: Panel) -> _Events:
    trace = shown.front
    reached: list[tuple[float, float]] = []
    for flag in panel.reached:
        if flag in trace.columns:
            up = np.nan_to_num(trace.columns[flag]) > 0.0
            reached += [(float(trace.times[max(i - 1, 0)]), float(trace.times[j - 1])) for i, j in stretches(up)]
    dips = dips_of(trace, panel.channels[0]) if panel.quantity is Quantity.CLOCK else None
    at = tuple((dip.from_s + dip.to_s) / 2.0 for dip in dips.dips) if dips is not None else ()
    verdict = (trace.ended_s, trace.run.verdict) if trace.failed else None
    passes = tuple((p.from_s, p.to_s, p.words) for p in trace.passes)
    return _Events(passes, tuple(reached), at, verdict)


class _Over(InPixels):
    """What is painted over a strip: its name, passes, stretches at a limit, dips, the verdict, and the moment pointed at."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._events = _Events()
        self._heading = ("", "")
        self._first = False
        self._at: float | None = None
        self._told = ""
        self.setZValue(10)

    def show(self, events: _Events, heading: tuple[str, str], first: bool) -> None:
        """Show other events."""
        self._events, self._heading, self._first = events, heading, first
        self.update()

    def point(self, at: float | None, words: str) -> None:
        """Mark a moment and say what was read then."""
        if (at, words) != (self._at, self._told):
            self._at, self._told = at, words
            self.update()

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        """Paint it all in pixels."""
        c, transform = self._theme.colours, painter.transform()
        (left, right), (low, high) = self.getViewBox().viewRange()
        painter.resetTransform()
        begin, end = transform.map(QPointF(left, high)), transform.map(QPointF(right, low))
        room = QRectF(begin, end)
        painter.setClipRect(room)
        scale = room.width() / (right - left)

        def across(t: float) -> float:
            return float(room.left() + (t - left) * scale)

        for a, b in self._events.reached:
            if b >= left and a <= right:
                width = max(across(b) - across(a), 1.5)
                painter.fillRect(
                    QRectF(across(a), room.top(), width, room.height()), faded(c.verdicts[Verdict.HELD_BACK], 0.14)
                )
        self._paint_passes(painter, room, across, left, right)
        for t in self._events.dips:
            if left <= t <= right:
                where = QPointF(across(t), room.bottom() - 7)
                paint_mark(painter, where, _MARK_PX, Verdict.HELD_BACK, c.verdicts[Verdict.HELD_BACK])
        if self._events.verdict is not None:
            t, verdict = self._events.verdict
            painter.setPen(QPen(c.verdicts[verdict], 1.2))
            painter.drawLine(QPointF(across(t), room.top()), QPointF(across(t), room.bottom()))
            paint_mark(painter, QPointF(across(t), room.bottom() - 8), _MARK_PX + 1, verdict, c.verdicts[verdict])
        if self._at is not None:
            painter.setPen(QPen(faded(c.ink, 0.6), 1))
            painter.drawLine(QPointF(across(self._at), room.top()), QPointF(across(self._at), room.bottom()))
        self._paint_heading(painter, room)

    def _paint_passes(
        self, painter: QPainter, room: QRectF, across: Callable[[float], float], left: float, right: float
    ) -> None:
        c = self._theme.colours
        painter.setPen(QPen(faded(c.muted, 0.45), 1, Qt.PenStyle.DotLine))
        seen = [each for each in self._events.passes if each[1] >= left and each[0] <= right]
        if len(seen) > room.width() / 4:
            return
        for from_s, _, _ in seen:
            painter.drawLine(QPointF(across(from_s), room.top()), QPointF(across(from_s), room.bottom()))
        if not self._first:
            return
        painter.setFont(font(SMALL_PX - 1))
        painter.setPen(c.muted)
        for from_s, to_s, words in seen:
            begin, end = max(across(from_s), room.left()), min(across(to_s), room.right())
            if end - begin > _PASS_NAME_PX:
                shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(end - begin - 8))
                painter.drawText(QPointF(begin + 4, room.bottom() - 5), shown)

    def _paint_heading(self, painter: QPainter, room: QRectF) -> None:
        c = self._theme.colours
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold))
        painter.setPen(c.ink)
        name, more = self._heading
        painter.drawText(QPointF(room.left() + 6, room.top() + 13), name)
        start = room.left() + 6 + painter.fontMetrics().horizontalAdvance(name) + 12
        painter.setFont(font(SMALL_PX))
        words = self._told if self._at is not None else more
        if self._at is not None and self._first:
            words = f"{clock_words(self._at, 0.1)}  ·  {words}"
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(room.right() - start - 90))
        under = [p[2] for p in self._events.passes if self._first and self._at is not None and p[0] <= self._at < p[1]]
        told = tip("\n".join([*([words] if shown != words else []), *under]))
        if told != self.toolTip():
            self.setToolTip(told)
        painter.setPen(c.ink if self._at is not None else c.muted)
        painter.drawText(QPointF(start, room.top() + 13), shown)
