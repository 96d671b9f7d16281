"""Score against a knob as one SVG picture: passes, spread, baseline band, in-proportion line, failures and the sentence."""

from __future__ import annotations

import math
from dataclasses import dataclass
from xml.sax.saxutils import escape

from yondle.language.saying import say
from yondle.model.marks import PAPER, SHAPES, Shape
from yondle.model.quantities import number
from yondle.model.verdicts import Verdict

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


def draw(picture: Picture) -> str:
    """Draw the picture as SVG text; with no points it says so."""
    if not picture.points:
        return _frame(picture, [_text(WIDTH / 2, HEIGHT / 2, say("Nothing measured yet"), anchor="middle")])
    scale = _Scale(picture)
    parts = [
        *_grid(scale, picture.names),
        *_baseline(picture, scale),
        *_proportion(picture, scale),
        *_line(picture, scale),
    ]
    for point in picture.points:
        parts += _point(point, scale)
    for value, verdict, words in picture.failures:
        x, y = scale.x(value), HEIGHT - BOTTOM - 16
        parts.append(
            f'<line x1="{x:.1f}" y1="{TOP}" x2="{x:.1f}" y2="{y:.1f}" stroke="{PAPER.muted}" stroke-dasharray="2 4"/>'
        )
        parts.append(mark(x, y, 6.0, verdict))
        parts.append(_text(x - 10, y + 4, words, size=11, colour=PAPER.muted, anchor="end"))
    return _frame(picture, parts)


def mark(x: float, y: float, r: float, verdict: Verdict, opacity: float = 1.0) -> str:
    """Draw a verdict's mark."""
    return f'<g opacity="{opacity:g}">{mark_shape(x, y, r, verdict, PAPER.verdicts[verdict], PAPER.panel)}</g>'


def mark_shape(x: float, y: float, r: float, verdict: Verdict, colour: str, ground: str) -> str:
    """Draw a verdict's mark as SVG shapes in any colour on any ground."""
    attributes = f'fill="{colour}" stroke="{colour}" stroke-width="1.5"'
    hollow = f'fill="none" stroke="{colour}" stroke-width="1.5"'
    match SHAPES[verdict]:
        case Shape.DISC:
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {attributes}/>'
        case Shape.RING:
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {hollow}/>'
        case Shape.HALF_DISC:
            half = f'<path d="M{x:.1f} {y - r:.1f} A{r:g} {r:g} 0 0 1 {x:.1f} {y + r:.1f} Z" {attributes}/>'
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {hollow}/>{half}'
        case Shape.TRIANGLE:
            return f'<path d="M{x:.1f} {y - r:.1f} L{x + r:.1f} {y + r:.1f} L{x - r:.1f} {y + r:.1f} Z" {attributes}/>'
        case Shape.DIAMOND:
            points = f"M{x:.1f} {y - r:.1f} L{x + r:.1f} {y:.1f} L{x:.1f} {y + r:.1f} L{x - r:.1f} {y:.1f} Z"
            return f'<path d="{points}" {attributes}/>'
        case Shape.CROSSED_SQUARE:
            box = f'<rect x="{x - r:.1f}" y="{y - r:.1f}" width="{2 * r:g}" height="{2 * r:g}" {attributes}/>'
            s = 0.5 * r
            lines = (
                f"M{x - s:.1f} {y - s:.1f} L{x + s:.1f} {y + s:.1f} M{x + s:.1f} {y - s:.1f} L{x - s:.1f} {y + s:.1f}"
            )
            return f'{box}<path d="{lines}" stroke="{ground}" stroke-width="1.6" fill="none"/>'


class _Scale:
    """From values to places on the paper."""

    def __init__(self, picture: Picture) -> None:
        xs = [p.value for p in picture.points] + [f[0] for f in picture.failures]
        ys = [s for p in picture.points for s in p.scores]
        ys += [edge for p in picture.points for edge in (p.low, p.high) if math.isfinite(edge)]
        if picture.baseline is not None:
            ys += [edge for edge in picture.baseline[1:] if math.isfinite(edge)]
        self.x0, self.x1 = _padded(min(xs), max(xs))
        self.y0, self.y1 = _padded(min(ys), max(ys))

    def x(self, value: float) -> float:
        return LEFT + (value - self.x0) / (self.x1 - self.x0) * (WIDTH - LEFT - RIGHT)

    def y(self, value: float) -> float:
        return HEIGHT - BOTTOM - (value - self.y0) / (self.y1 - self.y0) * (HEIGHT - TOP - BOTTOM)


def nice_ticks(low: float, high: float, most: int = 7) -> list[float]:
    """Choose round numbers between two values, at most `most` of them, in steps of 1, 2, 2.5 or 5 times a power of ten."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low:
        return []
    raw = (high - low) / most
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(m * power for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * power >= raw * (1 - 1e-9))
    first = math.ceil(low / step - 1e-9)
    return [round(i * step, 12) for i in range(first, math.floor(high / step + 1e-9) + 1)]


def _padded(low: float, high: float) -> tuple[float, float]:
    pad = 0.08 * (high - low) or 0.02 * abs(high) or 1.0
    return low - pad, high + pad


def _grid(scale: _Scale, names: tuple[str, ...]) -> list[str]:
    parts = []
    ys = nice_ticks(scale.y0, scale.y1)
    digits = max(0, -math.floor(math.log10(ys[1] - ys[0]) + 1e-9)) if len(ys) > 1 else 1
    for tick in ys:
        y = scale.y(tick)
        parts.append(f'<line x1="{LEFT}" y1="{y:.1f}" x2="{WIDTH - RIGHT}" y2="{y:.1f}" stroke="{PAPER.rule}"/>')
        parts.append(_text(LEFT - 10, y + 4, number(tick, digits), anchor="end", size=12, colour=PAPER.muted))
    for tick, words in _along(scale, names):
        place = scale.x(tick)
        parts.append(_text(place, HEIGHT - BOTTOM + 22, words, anchor="middle", size=12, colour=PAPER.muted))
    return parts


def _along(scale: _Scale, names: tuple[str, ...]) -> list[tuple[float, str]]:
    if names:
        return [(float(i), name) for i, name in enumerate(names) if scale.x0 <= i <= scale.x1]
    xs = nice_ticks(scale.x0, scale.x1)
    digits = max(0, -math.floor(math.log10(xs[1] - xs[0]) + 1e-9)) if len(xs) > 1 else 0
    return [(tick, number(tick, digits)) for tick in xs]


def _baseline(picture: Picture, scale: _Scale) -> list[str]:
    if picture.baseline is None or not math.isfinite(picture.baseline[1]):
        return []
    _, low, high = picture.baseline
    top, bottom = scale.y(high), scale.y(low)
    band = (
        f'<rect x="{LEFT}" y="{top:.1f}" width="{WIDTH - LEFT - RIGHT}" height="{bottom - top:.1f}" '
        f'fill="{PAPER.verdicts[Verdict.HELD]}" opacity="0.14"/>'
    )
    return [band, _text(WIDTH - RIGHT - 6, bottom - 4, say("baseline"), anchor="end", size=12, colour=PAPER.muted)]


def _proportion(picture: Picture, scale: _Scale) -> list[str]:
    if picture.proportion is None:
        return []
    value, score = picture.proportion
    power = -1.0 if picture.lower_is_better else 1.0
    path = []
    for i in range(41):
        x = value + (scale.x1 - value) * i / 40
        y = score * (x / value) ** power
        if scale.y0 <= y <= scale.y1:
            path.append(f"{scale.x(x):.1f} {scale.y(y):.1f}")
    if len(path) < 2:
        return []
    x_end, y_end = path[-1].split()
    return [
        f'<path d="M{" L".join(path)}" fill="none" stroke="{PAPER.muted}" stroke-dasharray="6 5"/>',
        _text(float(x_end) - 8, float(y_end) + 4, say("in proportion"), anchor="end", size=12, colour=PAPER.muted),
    ]


def _line(picture: Picture, scale: _Scale) -> list[str]:
    strong = [f"{scale.x(p.value):.1f} {scale.y(p.mean):.1f}" for p in picture.points if p.strong]
    if len(strong) < 2:
        return []
    return [f'<path d="M{" L".join(strong)}" fill="none" stroke="{PAPER.in_play}" stroke-width="2"/>']


def _point(point: PicturePoint, scale: _Scale) -> list[str]:
    x, opacity = scale.x(point.value), 1.0 if point.strong else 0.4
    parts = []
    for i, score in enumerate(point.scores):
        aside = ((i % 5) - 2) * 3.0
        parts.append(
            f'<circle cx="{x + aside:.1f}" cy="{scale.y(score):.1f}" r="2" fill="{PAPER.muted}" opacity="{0.8 * opacity:g}"/>'
        )
    if math.isfinite(point.low):
        parts.append(
            f'<line x1="{x:.1f}" y1="{scale.y(point.low):.1f}" x2="{x:.1f}" y2="{scale.y(point.high):.1f}" '
            f'stroke="{PAPER.ink}" stroke-width="1.6" opacity="{opacity:g}"/>'
        )
    parts.append(mark(x, scale.y(point.mean), 5.5, point.verdict, opacity))
    return parts


def _frame(picture: Picture, parts: list[str]) -> str:
    head = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" '
        'font-family="Inter, Noto Sans, DejaVu Sans, sans-serif">',
        f'<rect width="{WIDTH}" height="{HEIGHT}" fill="{PAPER.panel}"/>',
        _text(24, 36, picture.title, size=18, weight=600),
        _text(24, 62, picture.sentence, size=14),
        _text(LEFT - 10, TOP - 8, picture.y_label, size=12, colour=PAPER.muted),
        _text(WIDTH - RIGHT, HEIGHT - 16, picture.x_label, size=12, colour=PAPER.muted, anchor="end"),
    ]
    return "\n".join([*head, *parts, "</svg>", ""])


def _text(
    x: float, y: float, words: str, size: int = 13, colour: str = PAPER.ink, anchor: str = "start", weight: int = 400
) -> str:
    style = f'font-size="{size}" fill="{colour}" text-anchor="{anchor}" font-weight="{weight}"'
    return f'<text x="{x:.1f}" y="{y:.1f}" {style}>{escape(words)}</text>'
