"""Strips of a test, or two, on one time axis: a drag chooses a span, the wheel zooms, hover tells the exact readings."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QWheelEvent
from PySide6.QtWidgets import QScrollArea

from yondle.desktop.look.theme import Redrawn, Theme
from yondle.desktop.look.turns import Turns
from yondle.desktop.traces.core_strip import CoreStrip
from yondle.desktop.traces.trace_strip import Shown, SpanBox, TraceStrip
from yondle.language.saying import say
from yondle.views.traces.traces import Panel

STRIP_PX = 92
_EDGE = 0.01
_KEY_PAN, _KEY_ZOOM = 0.15, 0.7
_MOST_ROWS = 20_000
"""Longer traces are copied as a table in so many rows, each the mean of those it stands for."""


class TracesChart(Redrawn, QScrollArea):
    """The strips. `span_moved` is sent with both ends in seconds while a drag goes on, `span_chosen` when it has ended.

    `all_shown` is sent when all is seen again, `drawn` when there is something else in view.
    """

    span_moved = Signal(float, float)
    span_chosen = Signal(float, float)
    all_shown = Signal()
    drawn = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(say("Strips of sensor readings"))
        self._turns = Turns(self)
        self._view = _Layout(theme)
        self._view.left.connect(lambda: self._point(None))
        self.setWidget(self._view)
        self._strips: list[TraceStrip] = []
        self._shown: Shown | None = None
        self._panels: tuple[Panel, ...] = ()
        self._showings, self._whole = 0, False
        self._span: tuple[float, float] | None = None
        self._follow = pg.SignalProxy(self._view.scene().sigMouseMoved, rateLimit=60, slot=self._hover)
        self.redraw_with(theme, self.redraw)

    def show_traces(self, shown: Shown, panels: tuple[Panel, ...], keep_range: bool) -> None:
        """Show other runs or other panels; with `keep_range` the times in view stay."""
        self._turns.finish()
        for _ in self.showing(shown, panels, keep_range):
            pass

    def showing(self, shown: Shown, panels: tuple[Panel, ...], keep_range: bool) -> Iterator[None]:
        """Show them strip by strip; ends early where something else is shown meanwhile."""
        keep = self.range if keep_range and self._strips else None
        self._shown, self._panels, self._whole = shown, panels, keep is not None
        self._showings += 1
        this = self._showings
        for made in self._laying_out([CoreStrip if panel.by_core else TraceStrip for panel in panels]):
            yield made
            if self._showings != this:
                return
        for i, (strip, panel) in enumerate(zip(self._strips, panels, strict=True)):
            strip.draw(shown, panel, i == 0, i == len(panels) - 1)
            if i < len(panels) - 1:
                yield
                if self._showings != this:
                    return
        self._whole = True
        if keep is not None:
            self.show_range(*keep)
            self._follow_range()
        else:
            self.show_all()
        self.choose(self._span)

    @property
    def range(self) -> tuple[float, float]:
        """The seconds in view."""
        if not self._strips:
            return 0.0, 1.0
        low, high = self._strips[0].plot.getViewBox().viewRange()[0]
        return float(low), float(high)

    def show_range(self, low: float, high: float) -> None:
        """Show the times between two."""
        if self._strips:
            self._strips[0].plot.setXRange(low, high, padding=0)

    def show_all(self) -> None:
        """Show the whole test."""
        if self._shown is not None:
            last = self._shown.front.lasted_s
            self.show_range(-_EDGE * last, (1.0 + _EDGE) * last or 1.0)
            self._follow_range()

    def choose(self, span: tuple[float, float] | None) -> None:
        """Show a span as the chosen one."""
        self._span = span
        for strip in self._strips:
            strip.choose(span)

    def redraw(self) -> None:
        """Draw everything anew in the colours there are now: strip by strip, but at once for a printer."""
        self._view.setBackground(self._theme.colours.ground)
        if self._shown is not None:
            self._turns.begin(self.showing(self._shown, self._panels, self._whole))
            if self._theme.printing:
                self._turns.finish()

    def table(self) -> str:
        """Give the readings in view as tab-separated lines, for copying; runs behind are left out."""
        shown = self._shown
        if shown is None:
            return ""
        trace = shown.front
        low, high = self.range
        first, last = np.searchsorted(trace.times, (low, high))
        channels = [c for panel in self._panels for c in panel.channels if c.id in trace.columns]
        step = max(1, -(-int(last - first) // _MOST_ROWS))
        lines = ["\t".join(["time (s)", *(f"{c.name} ({c.unit})" if c.unit else c.name for c in channels)])]
        for i in range(int(first), int(last), step):
            bunch = slice(i, min(i + step, int(last)))
            values = [trace.columns[c.id][bunch] for c in channels]
            told = (f"{np.nanmean(v):.6g}" if np.isfinite(v).any() else "" for v in values)
            lines.append("\t".join([f"{trace.times[i]:.6g}", *told]))
        return "\n".join(lines)

    def draw(self, painter: QPainter) -> None:
        """Draw all strips onto something else."""
        self._view.render(painter)

    # -- moving --------------------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys pan, plus and minus zoom, Home shows all."""
        low, high = self.range
        span = high - low
        match event.key():
            case Qt.Key.Key_Left:
                self.show_range(low - _KEY_PAN * span, high - _KEY_PAN * span)
            case Qt.Key.Key_Right:
                self.show_range(low + _KEY_PAN * span, high + _KEY_PAN * span)
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal:
                self._zoom(_KEY_ZOOM)
            case Qt.Key.Key_Minus:
                self._zoom(1.0 / _KEY_ZOOM)
            case Qt.Key.Key_Home:
                self._all()
            case _:
                super().keyPressEvent(event)

    def _zoom(self, share: float) -> None:
        low, high = self.range
        middle = (low + high) / 2.0
        self.show_range(middle - (high - low) * share / 2.0, middle + (high - low) * share / 2.0)

    def _laying_out(self, kinds: list[type[TraceStrip]]) -> Iterator[None]:
        if [type(strip) for strip in self._strips] != kinds:
            self._view.clear()
            self._strips = []
            for row, kind in enumerate(kinds):
                box = SpanBox(self._chosen, self._all)
                strip = kind(self._theme, box)
                self._view.addItem(strip.plot, row, 0)
                if self._strips:
                    box.setXLink(self._strips[0].plot.getViewBox())
                self._strips.append(strip)
                yield
            if self._strips:
                self._strips[0].plot.getViewBox().sigXRangeChanged.connect(self._follow_range)
        self._view.setMinimumHeight(STRIP_PX * len(kinds) + 30)

    def _follow_range(self) -> None:
        for strip in self._strips:
            strip.follow()
        self.drawn.emit()

    def _chosen(self, low: float, high: float, done: bool) -> None:
        self.choose((low, high))
        (self.span_chosen if done else self.span_moved).emit(low, high)

    def _all(self) -> None:
        self.show_all()
        self.choose(None)
        self.all_shown.emit()

    def _hover(self, event: tuple[QPointF]) -> None:
        for strip in self._strips:
            box = strip.plot.getViewBox()
            if box.sceneBoundingRect().contains(event[0]):
                self._point(float(box.mapSceneToView(event[0]).x()))
                return
        self._point(None)

    def _point(self, t: float | None) -> None:
        for strip in self._strips:
            strip.point_at(t)


class _Layout(pg.GraphicsLayoutWidget):
    """The plots under one another; the wheel zooms with Ctrl held, and scrolls the strips without where they don't fit."""

    left = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setBackground(theme.colours.ground)
        self.ci.layout.setSpacing(4)
        self.ci.layout.setContentsMargins(0, 0, 4, 0)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom in time; with Shift scroll the strips."""
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            event.ignore()
            return
        super().wheelEvent(event)

    def leaveEvent(self, event: QEvent) -> None:
        """Nothing is pointed at any more."""
        self.left.emit()
        super().leaveEvent(event)
