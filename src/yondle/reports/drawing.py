"""A chart of a report, as shapes."""

from __future__ import annotations

import math
from collections.abc import Callable

from yondle.language.saying import say
from yondle.reports.content import Chart, ChartCurve
from yondle.reports.shapes import MUTED, PLAIN, RULE, STRONG, Box, Dot, Mark, Shape, Stroke, Text, padded, ticks

WIDTH, HEIGHT = 720.0, 300.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 56.0, 120.0, 14.0, 42.0
_NAME_PX = 13.0
_STYLES = ("", "6 3", "2 3", "9 3 2 3")
"""Curves are told apart by their strokes as well as by their names."""
Place = Callable[[float], float]


def strokes(chart: Chart) -> tuple[Shape, ...]:
    """Draw a chart; one without points says so."""
    known = [c for c in chart.curves if c.points]
    if not known:
        return (Text(WIDTH / 2, HEIGHT / 2, say("Nothing measured yet"), MUTED, "middle"),)
    xs = [p.value for c in known for p in c.points] + [value for value, _ in chart.failures]
    ys = [y for c in known for p in c.points for y in (p.mean, p.low, p.high) if math.isfinite(y)]
    ys += [edge for edge in (-(chart.noise or 0.0), chart.noise or 0.0) if chart.noise is not None]
    (x0, x1), (y0, y1) = padded(xs), padded(ys)

    def x(value: float) -> float:
        return round(_LEFT + (value - x0) / (x1 - x0) * (WIDTH - _LEFT - _RIGHT), 2)

    def y(value: float) -> float:
        return round(HEIGHT - _BOTTOM - (value - y0) / (y1 - y0) * (HEIGHT - _TOP - _BOTTOM), 2)

    made: list[Shape] = []
    if chart.noise is not None:
        made.append(Box(_LEFT, y(chart.noise), WIDTH - _LEFT - _RIGHT, y(-chart.noise) - y(chart.noise), "held", 0.14))
    made += _axes(chart, (x0, x1), (y0, y1), x, y)
    if chart.place is not None:
        at, name = chart.place
        made.append(Stroke(((x(at), _TOP), (x(at), HEIGHT - _BOTTOM)), STRONG, 1.0, "4 3"))
        made.append(Text(x(at) + 4, _TOP + 10, name, STRONG))
    for i, curve in enumerate(known):
        made += _curve(curve, i, x, y)
    for value, verdict in chart.failures:
        made.append(Mark(x(value), HEIGHT - _BOTTOM - 10, 5.0, verdict))
    return (*made, *_names(known, y))


def _axes(chart: Chart, along: tuple[float, float], up: tuple[float, float], x: Place, y: Place) -> list[Shape]:
    made: list[Shape] = []
    for tick, words in ticks(*up):
        made.append(Stroke(((_LEFT, y(tick)), (WIDTH - _RIGHT, y(tick))), RULE, 0.7))
        made.append(Text(_LEFT - 7, y(tick) + 4, words, MUTED, "end"))
    for tick, words in ticks(*along, chart.names):
        made.append(Stroke(((x(tick), HEIGHT - _BOTTOM), (x(tick), HEIGHT - _BOTTOM + 4)), MUTED, 0.7))
        made.append(Text(x(tick), HEIGHT - _BOTTOM + 17, words, MUTED, "middle"))
    made.append(Stroke(((_LEFT, HEIGHT - _BOTTOM), (WIDTH - _RIGHT, HEIGHT - _BOTTOM)), MUTED, 0.8))
    made.append(Text((WIDTH - _RIGHT + _LEFT) / 2, HEIGHT - 6, chart.along, MUTED, "middle"))
    return made


def _curve(curve: ChartCurve, place: int, x: Place, y: Place) -> list[Shape]:
    colour = STRONG if place == 0 else PLAIN
    line = tuple((x(p.value), y(p.mean)) for p in curve.points)
    made: list[Shape] = [Stroke(line, colour, 1.8 if place == 0 else 1.1, _STYLES[place % len(_STYLES)])]
    for p in curve.points:
        if math.isfinite(p.low):
            made.append(Stroke(((x(p.value), y(p.low)), (x(p.value), y(p.high))), colour, 1.0))
        if place == 0:
            made += [Dot(x(p.value), y(v), MUTED) for v in p.passes]
    return made + [Mark(x(p.value), y(p.mean), 4.5 if place == 0 else 3.2, p.verdict) for p in curve.points]


def _names(curves: list[ChartCurve], y: Place) -> list[Shape]:
    """Write the names at the right ends, moved apart where they would overlap."""
    wanted = sorted((y(c.points[-1].mean), i, c) for i, c in enumerate(curves))
    made: list[Shape] = []
    before = -math.inf
    over = max(0.0, len(wanted) * _NAME_PX - (HEIGHT - _TOP - _BOTTOM))
    for at, i, curve in wanted:
        before = max(at + 4, before + _NAME_PX, _TOP + 8 - over)
        words = curve.name + (say(" · capped") if curve.capped else "")
        made.append(Text(WIDTH - _RIGHT + 8, round(before, 2), words, STRONG if i == 0 else PLAIN, strong=i == 0))
    return made
