"""The figures of a span of a trace, in words: readings, dips, limits, the hottest sensor, frames, and the last seconds."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yondle.analysis.traces import Below, SpanFigures, below, difference, hottest, span_figures, time_on, within
from yondle.language.saying import capital, in_sentence, say
from yondle.model.pacing import pacing
from yondle.model.quantities import THIN, between, count, duration, figure, number, quantity, with_unit
from yondle.model.sensors import Channel, Quantity
from yondle.views.shared.lines import LineKind, lines_of
from yondle.views.traces.traces import FRAMES, Panel, Trace, cores_of, temperatures_of

LAST_S = 10.0
"""How many seconds before a failure are told."""


@dataclass(frozen=True, slots=True)
class SpanRow:
    """One line of figures, in words; `other` is the mean of a second run, `apart` what the first has more."""

    name: str
    lowest: str
    mean: str
    highest: str
    other: str = ""
    apart: str = ""


@dataclass(frozen=True, slots=True)
class SpanView:
    """Figures of a span of one test, and what they say: what held it back, the hottest sensor, the voltage, frames."""

    title: str
    rows: tuple[SpanRow, ...]
    held_back: str
    hottest: str
    voltage: str
    last: str


def span_view(
    trace: Trace,
    panels: tuple[Panel, ...],
    low: float,
    high: float,
    other: Trace | None = None,
    offset_s: float = 0.0,
) -> SpanView:
    """Work out a span from `low` to `high` seconds; a second run lies `offset_s` later on the clock of the first."""
    loaded = sum(max(0.0, min(p.to_s, high) - max(p.from_s, low)) for p in trace.passes)
    what = (
        say("{loaded} of load in {high}", loaded=duration(loaded), high=duration(high - low))
        if loaded > 0.0
        else say("{high}, no load", high=duration(high - low))
    )
    rows: list[SpanRow] = []
    for panel in panels:
        if panel.key == FRAMES:
            rows += _frame_rows(trace, low, high)
            continue
        for channel in panel.channels:
            rows += _channel_rows(trace, channel, low, high, other, offset_s)
    return SpanView(
        what,
        tuple(rows),
        _held_back(trace, low, high),
        _hottest_words(trace, low, high),
        _voltage_words(trace, low, high),
        last_words(trace),
    )


def figures_of(trace: Trace, channel: str, low: float, high: float) -> SpanFigures:
    """Give the figures of a channel over a span; nan where it was never read."""
    values = trace.columns.get(channel)
    if values is None:
        return SpanFigures(math.nan, math.nan, math.nan, 0)
    return span_figures(trace.times, values.astype(np.float64), low, high)


def dips_of(trace: Trace, channel: Channel, low: float = -math.inf, high: float = math.inf) -> Below | None:
    """Find the dips of a clock under what was asked, while there was load; None for what isn't asked for."""
    asked = next(
        (line.value for line in lines_of(trace.declaration, channel, trace.setup) if line.kind is LineKind.ASKED), None
    )
    if asked is None or channel.id not in trace.columns:
        return None
    span = within(trace.times, low, high)
    return below(trace.times[span], trace.columns[channel.id][span], asked, trace.loaded[span])


def apart_of(one: Trace, other: Trace, channel: str, offset_s: float) -> np.ndarray | None:
    """Give what one run reads more than another at the same moments; None where either lacks the channel."""
    if channel not in one.columns or channel not in other.columns:
        return None
    return difference(one.times, one.columns[channel], other.times, other.columns[channel], offset_s)


def _channel_rows(
    trace: Trace, channel: Channel, low: float, high: float, other: Trace | None, offset_s: float
) -> list[SpanRow]:
    told = figures_of(trace, channel.id, low, high)
    if not told.readings:
        return []
    digits = channel.digits
    beside, more = "", ""
    if other is not None:
        theirs = figures_of(other, channel.id, low - offset_s, high - offset_s)
        beside = figure(theirs.mean, channel.unit, digits)
        apart = told.mean - theirs.mean
        more = ("+" if apart > 0 else "") + figure(apart, between(channel.unit), digits)
    lowest, mean, highest = (figure(v, channel.unit, digits) for v in (told.lowest, told.mean, told.highest))
    rows = [SpanRow(_named(channel), lowest, mean, highest, beside, more)]
    dips = dips_of(trace, channel, low, high)
    if dips is not None and dips.whole_s > 0.0:
        share = number(100.0 * dips.share, 1)
        rows.append(
            SpanRow(say("  below asked"), "", f"{share}{THIN}%", count(len(dips.dips), "dip") if dips.dips else "")
        )
    for line in lines_of(trace.declaration, channel, trace.setup):
        if line.kind is LineKind.SET:
            rows.append(SpanRow(say("  as set"), "", number(line.value, digits), ""))
    return rows


def _named(channel: Channel) -> str:
    return with_unit(channel.name, channel.unit)


def _frame_rows(trace: Trace, low: float, high: float) -> list[SpanRow]:
    """Frame pacing of the span, from every frame in it."""
    at, took = trace.frame_times
    inside = took[within(at, low, high)]
    made = inside[np.isfinite(inside)].astype(np.float64)
    if not len(made):
        return []
    told = pacing(made.tolist())
    return [
        SpanRow(
            say("Frames/s"),
            number(1000.0 / float(made.max()), 1),
            number(told.mean, 1),
            number(1000.0 / float(made.min()), 1),
        ),
        SpanRow(say("  1 % low"), "", number(told.low_1, 1), ""),
        SpanRow(say("  0.1 % low"), "", number(told.low_01, 1), ""),
        SpanRow(say("  late frames"), "", f"{number(100.0 * told.late, 1)}{THIN}%", ""),
    ]


def _held_back(trace: Trace, low: float, high: float) -> str:
    """Say which limits were reached for how long, and how often and deep the clocks dipped."""
    span = within(trace.times, low, high)
    times, loaded = trace.times[span], trace.loaded[span]
    parts = []
    for channel in trace.declaration.read_ever:
        if channel.quantity is Quantity.FLAG and channel.id in trace.columns:
            up, whole = time_on(times, trace.columns[channel.id][span].astype(np.float64), loaded)
            if up > 0.0 and whole > 0.0:
                parts.append(
                    say(
                        "{name} reached for {lasted}, {share}\u202f% of the load.",
                        name=capital(channel.as_limit),
                        lasted=duration(up),
                        share=number(100.0 * up / whole, 1),
                    )
                )
    for channel in trace.declaration.read_ever:
        dips = dips_of(trace, channel, low, high) if channel.quantity is Quantity.CLOCK else None
        if dips is None or dips.deepest is None:
            continue
        deepest = dips.deepest
        at = quantity(deepest.lowest, channel.unit, channel.digits)
        parts.append(
            say(
                "{channel} below what was asked for {below_s}: {dips}, the deepest to {at} for {lasted_s}.",
                channel=channel.name,
                below_s=duration(dips.below_s),
                dips=count(len(dips.dips), "dip"),
                at=at,
                lasted_s=duration(deepest.lasted_s),
            )
        )
    if parts:
        return " ".join(parts)
    return say("No limit was reached and no clock dipped.") if loaded.any() else say("There was no load in this span.")


def _hottest_words(trace: Trace, low: float, high: float) -> str:
    """Say which temperature led, for how long, its peak, and how far below the stop it stayed."""
    channels = [c for c in temperatures_of(trace) or cores_of(trace) if c.id in trace.columns]
    told = hottest(trace.times, [trace.columns[c.id] for c in channels], low, high)
    if told is None:
        return ""
    first = channels[told.place]
    words = [say("{first}, {peak} at most", first=first.name, peak=quantity(told.peak, first.unit, first.digits))]
    if len(channels) > 1:
        words.append(
            say(
                "the hottest of {channels} for {share}\u202f% of the time",
                channels=len(channels),
                share=number(100.0 * told.share),
            )
        )
    stops = [line.value for line in lines_of(trace.declaration, first, trace.setup) if line.kind is LineKind.STOP]
    if stops:
        words.append(say("{stops} below its stop", stops=quantity(stops[0] - told.peak, "K", 1)))
    return ", ".join(words) + "." + _hottest_core_words(trace, low, high)


def _hottest_core_words(trace: Trace, low: float, high: float) -> str:
    """Say which core led, where the temperature of each was read; nothing otherwise."""
    cores = [c for c in cores_of(trace) if c.id in trace.columns]
    told = hottest(trace.times, [trace.columns[c.id] for c in cores], low, high)
    if told is None or len(cores) < 2:
        return ""
    first = cores[told.place]
    return say(
        " Of {cores} cores, core {core} led for {share}\u202f% of the time, {peak} at most.",
        cores=len(cores),
        core=first.core,
        share=number(100.0 * told.share),
        peak=quantity(told.peak, first.unit, first.digits),
    )


def _voltage_words(trace: Trace, low: float, high: float) -> str:
    """Say how far measured voltages lay from the set ones under load."""
    span = within(trace.times, low, high)
    words = []
    for channel in trace.declaration.read_ever:
        asked = next(
            (x.value for x in lines_of(trace.declaration, channel, trace.setup) if x.kind is LineKind.SET), None
        )
        if asked is None or channel.id not in trace.columns:
            continue
        values = trace.columns[channel.id][span][trace.loaded[span]]
        values = values[np.isfinite(values)]
        if len(values):
            mean = float(values.mean())
            apart = number(1000.0 * (mean - asked))
            sign = "+" if mean > asked else ""
            words.append(
                say(
                    "{channel} under load: set {asked}, measured {mean}\u202fV ({sign}{apart}\u202fmV, lowest {min}).",
                    channel=channel.name,
                    asked=number(asked, 3),
                    mean=number(mean, 3),
                    sign=sign,
                    apart=apart,
                    min=number(float(values.min()), 3),
                )
            )
    return " ".join(words)


def last_words(trace: Trace) -> str:
    """Say what moved in the last seconds before a failure; empty where none fell at a moment."""
    if not trace.failed or not len(trace.times):
        return ""
    end = trace.ended_s
    span = within(trace.times, end - LAST_S, end)
    moved, signs = [], []
    for channel in (c for c in trace.declaration.read_ever if c.core is None):
        values = trace.columns.get(channel.id)
        inside = values[span] if values is not None else np.empty(0)
        inside = inside[np.isfinite(inside)]
        if len(inside) < 2:
            continue
        first, last = float(inside[0]), float(inside[-1])
        if channel.nature.counted and last > first:
            signs.append(say("{channel} rose by {rise}", channel=in_sentence(channel.name), rise=number(last - first)))
        elif channel.quantity is Quantity.FLAG and inside.max() > 0.0:
            signs.append(in_sentence(channel.name))
        elif abs(last - first) >= channel.nature.least_change:
            moved.append(
                say(
                    "{channel} {first} to {last}",
                    channel=channel.name,
                    first=figure(first, channel.unit, channel.digits),
                    last=quantity(last, channel.unit, channel.digits),
                )
            )
    told = [*signs, *moved]
    heard = float(end - trace.times[span][-1]) if span.stop > span.start else math.inf
    silence = say(" The last reading came {heard} before.", heard=duration(heard)) if 2.0 < heard < math.inf else ""
    if not told:
        return say(
            "Nothing the sensors read moved in the last {last_s:.0f}\u202fs.{silence}", last_s=LAST_S, silence=silence
        )
    return say(
        "In the last {last_s:.0f}\u202fs: {told}.{silence}", last_s=LAST_S, told=", ".join(told), silence=silence
    )
