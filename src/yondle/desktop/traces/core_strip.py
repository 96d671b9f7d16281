"""A strip with a band for each core: the stronger its colour, the higher its reading, so the one that stands apart is seen."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor

from yondle.analysis.pyramid import Pyramid
from yondle.analysis.regression import Array
from yondle.desktop.look.theme import Theme
from yondle.desktop.traces.trace_strip import Shown, SpanBox, TraceStrip, colour_of, reading_at
from yondle.language.saying import say
from yondle.model.quantities import figure, quantity, with_unit
from yondle.model.sensors import Channel
from yondle.model.verdicts import Verdict
from yondle.views.traces.spans import apart_of
from yondle.views.traces.traces import Panel, Trace

_HEAD_SHARE = 0.34
"""Room above the bands for the name of the strip, as a share of their height."""
_MOST_NUMBERED = 5
"""So many cores have their number beside them; of more only some."""
_MOST_TOLD = 8
"""The readings of so many cores are all told under the pointer; of more the lowest and the highest."""
_FEWEST_COLUMNS, _MOST_COLUMNS = 120, 1600
_FAINTEST = 0.04


class CoreStrip(TraceStrip):
    """The bands. Of two tests the one in front is shown, or how much it reads more (one colour) or less (another)."""

    def __init__(self, theme: Theme, box: SpanBox) -> None:
        super().__init__(theme, box)
        self._bands: dict[str, Pyramid] = {}
        self._image = pg.ImageItem(axisOrder="row-major")
        self._low, self._high = 0.0, 1.0
        self._apart = False

    def draw(self, shown: Shown, panel: Panel, first: bool, last: bool) -> None:
        """Draw a panel, the first core on top."""
        self._bands.clear()
        self._apart = shown.difference
        traces = [trace for trace in (shown.front, shown.behind, shown.beside) if trace is not None]
        read = [trace.pyramid(channel.id) for trace in traces for channel in panel.channels]
        self._scale([pyramid for pyramid in read if pyramid is not None])
        super().draw(shown, panel, first, last)
        every = -(-len(panel.channels) // _MOST_NUMBERED)
        ticks = [(self._height(i) + 0.5, str(c.core)) for i, c in enumerate(panel.channels) if i % every == 0]
        self.plot.getAxis("left").setTicks([ticks])

    def follow(self) -> None:
        """Paint the bands for the times in view, a column for every two px."""
        low, high = self.plot.getViewBox().viewRange()[0]
        wide = self.plot.getViewBox().screenGeometry()
        pixels = wide.width() if wide is not None else 0
        columns = min(max(int(pixels) // 2, _FEWEST_COLUMNS), _MOST_COLUMNS)
        if self.panel is None or high <= low:
            return
        rows = np.array([self._row(channel, low, high, columns) for channel in self.panel.channels])[::-1]
        self._image.setImage(self._coloured(rows), autoLevels=False, levels=(0, 255))
        self._image.setRect(QRectF(low, 0.0, high - low, float(len(rows))))

    def point_at(self, t: float | None) -> None:
        """Tell the exact readings of the cores at a moment."""
        told = [
            (channel, value)
            for channel in (self.panel.channels if self.panel is not None else ())
            if t is not None and channel.id in self._bands
            if (value := reading_at(self._bands[channel.id], t)) is not None
        ]
        if len(told) > _MOST_TOLD:
            (low, least), (high, most) = min(told, key=lambda each: each[1]), max(told, key=lambda each: each[1])
            words = say(
                "highest {most} (core {high}), lowest {least} (core {low})",
                most=quantity(most, self._unit, high.digits),
                high=high.core,
                least=quantity(least, self._unit, low.digits),
                low=low.core,
            )
        else:
            words = "  ·  ".join(
                f"{channel.core}: {figure(value, self._unit, channel.digits)}" for channel, value in told
            )
        self._over.point(t, words)

    # -- drawing -------------------------------------------------------------------------------------------------------

    def _height(self, place: int) -> float:
        assert self.panel is not None
        return float(len(self.panel.channels) - 1 - place)

    def _draw_channels(self, trace: Trace, panel: Panel, offset_s: float, behind: bool) -> None:
        if behind:
            return
        for channel in panel.channels:
            pyramid = trace.pyramid(channel.id)
            if pyramid is not None:
                self._bands[channel.id] = pyramid
        self._put_up()

    def _draw_difference(self, shown: Shown, panel: Panel) -> None:
        assert shown.behind is not None
        for channel in panel.channels:
            apart = apart_of(shown.front, shown.behind, channel.id, shown.offset_s)
            if apart is not None:
                self._bands[channel.id] = Pyramid(shown.front.times, apart)
        self._scale(list(self._bands.values()))
        self._put_up()

    def _put_up(self) -> None:
        self._image = pg.ImageItem(axisOrder="row-major")
        self.plot.addItem(self._image, ignoreBounds=True)

    def _scale(self, pyramids: list[Pyramid]) -> None:
        """Find what is faintest and strongest, over both tests, so that flipping changes no colour."""
        known = [v for pyramid in pyramids for v in pyramid.span(-math.inf, math.inf) or ()]
        if self._apart:
            known = [0.0, *map(abs, known)]
        self._low, self._high = (min(known), max(known)) if known else (0.0, 1.0)

    def _y_range(self, shown: Shown, panel: Panel) -> tuple[float, float]:
        return 0.0, len(panel.channels) * (1.0 + _HEAD_SHARE)

    def _heading(self, shown: Shown, panel: Panel) -> tuple[str, str]:
        digits = panel.channels[0].digits
        if self._apart:
            most = quantity(self._high, self._unit, digits)
            return say("{channel}{unit}, A less B", channel=panel.name, unit=""), say(
                "by up to {most}; one colour above, the other below", most=most
            )
        low, high = (figure(each, self._unit, digits) for each in (self._low, self._high))
        return with_unit(panel.name, panel.unit), say("faint {low}, strong {high}", low=low, high=high)

    def _row(self, channel: Channel, low: float, high: float, columns: int) -> Array:
        """Give the readings of a core's band; nan where this test has none of it."""
        pyramid = self._bands.get(channel.id)
        if pyramid is None:
            return np.full(columns, np.nan)
        highest = pyramid.columns(low, high, columns)
        if not self._apart:
            return highest
        lowest = pyramid.columns(low, high, columns, highest=False)
        return np.where(np.abs(lowest) > np.abs(highest), lowest, highest)

    def _coloured(self, rows: Array) -> np.ndarray:
        c = self._theme.colours
        assert self.panel is not None
        share = np.clip((np.abs(rows) if self._apart else rows) - self._low, 0.0, None) / (
            self._high - self._low or 1.0
        )
        share = np.nan_to_num(np.clip(_FAINTEST + (1.0 - _FAINTEST) * share, 0.0, 1.0))[..., None]
        strong = _rgb(colour_of(self._theme, self.panel.quantity))
        above = np.broadcast_to(strong, (*rows.shape, 3))
        if self._apart:
            above = np.where(np.nan_to_num(rows)[..., None] < 0.0, _rgb(c.verdicts[Verdict.HELD]), above)
        made = np.empty((*rows.shape, 4), dtype=np.uint8)
        made[..., :3] = np.rint((1.0 - share) * _rgb(c.panel) + share * above)
        made[..., 3] = np.where(np.isfinite(rows), 255, 0)
        return made


def _rgb(colour: QColor) -> Array:
    return np.array([colour.red(), colour.green(), colour.blue()], dtype=np.float64)
