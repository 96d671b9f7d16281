"""Watches the sensors while a test runs: gathers blocks for the journal, guards the ceilings, sums up each pass."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.measured import Measured
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Limit, Quantity, Reading, SampleBlock

LOST_AFTER_S = 15.0
"""A guarded sensor silent for longer than this stops the test: nobody should be heated blind."""


@dataclass(frozen=True, slots=True)
class Breach:
    """A guarded sensor went past its ceiling, or fell silent (`value` is None)."""

    channel: str
    most: float
    value: float | None


class Guard:
    """Holds every sample against the ceilings."""

    def __init__(self, declaration: RigDeclaration) -> None:
        self._index = {channel.id: i for i, channel in enumerate(declaration.channels)}
        self._limits: list[tuple[int, Limit]] = []
        self._heard_s: dict[str, float] = {}
        self.use(declaration.limits)

    def use(self, limits: tuple[Limit, ...]) -> None:
        """Hold samples against these ceilings from now on."""
        self._limits = [(self._index[limit.channel], limit) for limit in limits if limit.channel in self._index]

    def begin(self, t_s: float) -> None:
        """Start afresh: sensors count as heard now."""
        self._heard_s = {limit.channel: t_s for _, limit in self._limits}

    def look(self, t_s: float, row: tuple[Reading, ...]) -> Breach | None:
        """Give the first ceiling this sample breaches."""
        for i, limit in self._limits:
            value = row[i]
            if value is not None:
                self._heard_s[limit.channel] = t_s
                if value > limit.most:
                    return Breach(limit.channel, limit.most, value)
            elif t_s - self._heard_s.get(limit.channel, t_s) > LOST_AFTER_S:
                return Breach(limit.channel, limit.most, None)
        return None


class BlockGatherer:
    """Gathers samples until a block is full."""

    def __init__(self, declaration: RigDeclaration) -> None:
        self._channels = tuple(channel.id for channel in declaration.channels)
        self._times: list[float] = []
        self._rows: list[tuple[Reading, ...]] = []

    def add(self, t_s: float, row: tuple[Reading, ...], block_s: float) -> SampleBlock | None:
        """Add a sample; gives the block when it spans `block_s` seconds."""
        self._times.append(t_s)
        self._rows.append(row)
        return self.flush() if t_s - self._times[0] >= block_s else None

    def flush(self) -> SampleBlock | None:
        """Give what has been gathered and start a new block."""
        times, rows = self._times, self._rows
        self._times, self._rows = [], []
        return SampleBlock(self._channels, tuple(times), tuple(rows)) if times and self._channels else None


class PassSummary:
    """Means, highest and lowest values of every channel over one pass, and how many errors were corrected in it."""

    def __init__(self, declaration: RigDeclaration, before: tuple[Reading, ...]) -> None:
        self._channels = declaration.channels
        count = len(self._channels)
        self._sums = [0.0] * count
        self._most = [float("-inf")] * count
        self._least = [float("inf")] * count
        self._counts = [0] * count
        self._counters = [i for i, c in enumerate(self._channels) if c.nature.counted]
        self._before = {i: before[i] for i in self._counters if i < len(before)}
        self._last: tuple[Reading, ...] = ()

    def add(self, row: tuple[Reading, ...]) -> None:
        """Take one sample in."""
        self._last = row
        for i, value in enumerate(row):
            if value is not None:
                self._sums[i] += value
                self._counts[i] += 1
                if value > self._most[i]:
                    self._most[i] = value
                if value < self._least[i]:
                    self._least[i] = value

    def end(self, row: tuple[Reading, ...]) -> None:
        """Take the sample after the load has ended: only its counters belong to the pass."""
        self._last = row

    def measured(self) -> Measured:
        """Give the means of all that was heard, extremes where they tell something, and what was counted."""
        mean: dict[str, float] = {}
        most: dict[str, float] = {}
        least: dict[str, float] = {}
        for i, channel in enumerate(self._channels):
            if channel.nature.counted or not self._counts[i]:
                continue
            mean[channel.id] = round(self._sums[i] / self._counts[i], 4)
            if channel.nature.most:
                most[channel.id] = round(self._most[i], 4)
            if channel.nature.least:
                least[channel.id] = round(self._least[i], 4)
        errors: dict[str, float] = {}
        counted: dict[str, float] = {}
        for i in self._counters:
            channel = self._channels[i]
            now, before = self._last[i] if i < len(self._last) else None, self._before.get(i)
            if now is not None and before is not None and now > before:
                (errors if channel.quantity is Quantity.ERRORS else counted)[channel.id] = now - before
        return Measured(mean, most, least, errors=errors, counted=counted)
