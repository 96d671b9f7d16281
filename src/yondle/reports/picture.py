"""Score against a knob as one picture, in shapes: passes, spread, baseline band, line in proportion, failures, the sentence."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from yondle.language.saying import say
from yondle.model.verdicts import Verdict
from yondle.reports.shapes import MUTED, PLAIN, RULE, STRONG, Box, Dot, Mark, Shape, Stroke, Text, padded, ticks

WIDTH, HEIGHT = 960, 560
LEFT, RIGHT, TOP, BOTTOM = 84, 40, 96, 64


@dataclass(frozen=True, slots=True)
class PicturePoint:
    """One value of the knob: its passes, their mean and range, its mark, and whether the other settings are the present ones."""

    value: float
    scores: tuple[float, ...]
    mean: float
    low: float
    high: float
    verdict: Verdict
    strong: bool


@dataclass(frozen=True, slots=True)
class Picture:
    """All that the picture shows; the caller words it."""

    title: str
    sentence: str
    x_label: str
    y_label: str
    points: tuple[PicturePoint, ...]
    failures: tuple[tuple[float, Verdict, str], ...]
    baseline: tuple[float, float, float] | None
    proportion: tuple[float, float] | None
    lower_is_better: bool
    names: tuple[str, ...] = ()
    """The words of the values 0, 1, 2 and so on of a switch or mode."""


Place = Callable[[float], float]
_FAILURE_PX = 18.0


def shapes(picture: Picture) -> tuple[Shape, ...]:
    """Draw the picture; with no points it says so."""
    head = (
        Text(24, 36, picture.title, PLAIN, strong=True, size=18),
        Text(24, 62, picture.sentence, PLAIN, size=14),
        Text(LEFT - 10, TOP - 8, picture.y_label, MUTED, size=12),
        Text(WIDTH - RIGHT, HEIGHT - 16, picture.x_label, MUTED, "end", size=12),
    )
    if not picture.points:
        return (*head, Text(WIDTH / 2, HEIGHT / 2, say("Nothing measured yet"), PLAIN, "middle", size=13))
    (x0, x1), (y0, y1) = _reach(picture)

    def x(value: float) -> float:
        return round(LEFT + (value - x0) / (x1 - x0) * (WIDTH - LEFT - RIGHT), 1)

    def y(value: float) -> float:
        return round(HEIGHT - BOTTOM - (value - y0) / (y1 - y0) * (HEIGHT - TOP - BOTTOM), 1)

    made: list[Shape] = []
    for tick, words in ticks(y0, y1, most=7):
        made.append(Stroke(((LEFT, y(tick)), (WIDTH - RIGHT, y(tick))), RULE, 1.0))
        made.append(Text(LEFT - 10, y(tick) + 4, words, MUTED, "end", size=12))
    made += [
        Text(x(tick), HEIGHT - BOTTOM + 22, words, MUTED, "middle", size=12)
        for tick, words in ticks(x0, x1, picture.names, most=7)
    ]
    made += [*_baseline(picture, y), *_proportion(picture, (x1, y0, y1), x, y)]
    line = tuple((x(p.value), y(p.mean)) for p in picture.points if p.strong)
    made += [Stroke(line, STRONG, 2.0)] if len(line) > 1 else []
    for point in picture.points:
        made += _point(point, x, y)
    return (*head, *made, *_failures(picture, x))


def _failures(picture: Picture, x: Place) -> list[Shape]:
    """Draw a mark for each failure at the foot, those at one value above each other, with words towards the middle."""
    made: list[Shape] = []
    before: dict[float, int] = {}
    for value, verdict, words in picture.failures:
        across, nth = x(value), before.get(value, 0)
        before[value] = nth + 1
        at = HEIGHT - BOTTOM - 16 - _FAILURE_PX * nth
        if not nth:
            made.append(Stroke(((across, TOP), (across, at)), MUTED, 1.0, "2 4"))
        aside, anchor = (-10, "end") if across > WIDTH / 2 else (10, "start")
        made += [Mark(across, at, 6.0, verdict), Text(across + aside, at + 4, words, MUTED, anchor)]
    return made


def _reach(picture: Picture) -> tuple[tuple[float, float], tuple[float, float]]:
    """Give the ends of both axes."""
    xs = [p.value for p in picture.points] + [f[0] for f in picture.failures]
    ys = [s for p in picture.points for s in p.scores]
    ys += [edge for p in picture.points for edge in (p.low, p.high) if math.isfinite(edge)]
    if picture.baseline is not None:
        ys += [edge for edge in picture.baseline[1:] if math.isfinite(edge)]
    return padded(xs), padded(ys)


def _baseline(picture: Picture, y: Place) -> list[Shape]:
    if picture.baseline is None or not math.isfinite(picture.baseline[1]):
        return []
    _, low, high = picture.baseline
    return [
        Box(LEFT, y(high), WIDTH - LEFT - RIGHT, round(y(low) - y(high), 1), "held", 0.14),
        Text(WIDTH - RIGHT - 6, y(low) - 4, say("baseline"), MUTED, "end", size=12),
    ]


def _proportion(picture: Picture, ends: tuple[float, float, float], x: Place, y: Place) -> list[Shape]:
    if picture.proportion is None:
        return []
    value, score = picture.proportion
    last, low, high = ends
    power = -1.0 if picture.lower_is_better else 1.0
    along = [value + (last - value) * i / 40 for i in range(41)]
    curve = [(at, score * (at / value) ** power) for at in along]
    path = tuple((x(at), y(up)) for at, up in curve if low <= up <= high)
    if len(path) < 2:
        return []
    x_end, y_end = path[-1]
    return [
        Stroke(path, MUTED, 1.0, "6 5"),
        Text(x_end - 8, y_end + 4, say("in proportion"), MUTED, "end", size=12),
    ]


def _point(point: PicturePoint, x: Place, y: Place) -> list[Shape]:
    at, opacity = x(point.value), 1.0 if point.strong else 0.4
    made: list[Shape] = [
        Dot(at + ((i % 5) - 2) * 3.0, y(score), MUTED, 0.8 * opacity) for i, score in enumerate(point.scores)
    ]
    if math.isfinite(point.low):
        made.append(Stroke(((at, y(point.low)), (at, y(point.high))), PLAIN, 1.6, opacity=opacity))
    return [*made, Mark(at, y(point.mean), 5.5, point.verdict, opacity)]
