"""Charts, pictures and marks as SVG, in the colours of a palette or in those a page names."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from markupsafe import Markup

from yondle.model.marks import PAPER, SHAPES, Palette
from yondle.model.marks import Shape as MarkShape
from yondle.model.verdicts import Verdict
from yondle.reports import picture as picture_of
from yondle.reports.cleaning import cleaned
from yondle.reports.content import Chart
from yondle.reports.drawing import HEIGHT, WIDTH, strokes
from yondle.reports.picture import Picture
from yondle.reports.shapes import Box, Dot, Mark, Shape, Stroke, Text

Colours = Mapping[str, str]


def _name(verdict: Verdict) -> str:
    return str(verdict).replace(" ", "-")


def colours_of(palette: Palette) -> dict[str, str]:
    """Give the colours of a palette by the names they have in a report."""
    return {
        "ground": palette.ground, "panel": palette.panel, "ink": palette.ink, "muted": palette.muted, "rule": palette.rule,
        "accent": palette.in_play, **{_name(v): colour for v, colour in palette.verdicts.items()},
    }  # fmt: skip


BY_NAME: Colours = {name: f"var(--{name})" for name in colours_of(PAPER)}
"""Colours left to the page: custom properties of CSS."""


def mark_svg(verdict: Verdict, colours: Colours) -> Markup:
    """Draw a verdict's mark as wide as a letter."""
    shape = mark_shape(7.0, 7.0, 5.0, verdict, colours[_name(verdict)], colours["panel"])
    about = f'class="mark" viewBox="0 0 14 14" role="img" aria-label="{verdict}"'
    return Markup(f'<svg xmlns="http://www.w3.org/2000/svg" {about}>{shape}</svg>')


def chart_svg(chart: Chart, colours: Colours) -> Markup:
    """Draw a chart; its words are escaped."""
    return _drawn(strokes(chart), colours, WIDTH, HEIGHT, chart.title, "chart")


def picture_svg(picture: Picture) -> str:
    """Draw a picture that stands by itself: in the colours of paper, with its ground and fonts."""
    ground = Box(0.0, 0.0, picture_of.WIDTH, picture_of.HEIGHT, "panel", 1.0)
    made = (ground, *picture_of.shapes(picture))
    drawn = _drawn(made, colours_of(PAPER), picture_of.WIDTH, picture_of.HEIGHT, picture.title, "picture", _FONTS)
    return f"{drawn}\n"


_FONTS = "Inter, Noto Sans, DejaVu Sans, sans-serif"


def _drawn(
    shapes: Iterable[Shape], colours: Colours, width: float, height: float, title: str, kind: str, fonts: str = ""
) -> Markup:
    inside = Markup("\n").join(_shape(shape, colours) for shape in shapes)
    return Markup(
        '<svg xmlns="http://www.w3.org/2000/svg" class="{kind}" viewBox="0 0 {width:g} {height:g}" role="img"'
        ' aria-label="{title}"{fonts}>\n{inside}\n</svg>'
    ).format(
        kind=kind,
        width=width,
        height=height,
        title=cleaned(title),
        fonts=Markup(' font-family="{}"').format(fonts) if fonts else "",
        inside=inside,
    )


def _shape(shape: Shape, colours: Colours) -> Markup:
    match shape:
        case Stroke():
            points = " ".join(f"{x:g},{y:g}" for x, y in shape.points)
            return Markup(
                '<polyline points="{}" fill="none" stroke="{}" stroke-width="{:g}" stroke-dasharray="{}" opacity="{:g}"/>'
            ).format(points, colours[shape.colour], shape.width, shape.dashes or "none", shape.opacity)
        case Box():
            return Markup('<rect x="{:g}" y="{:g}" width="{:g}" height="{:g}" fill="{}" opacity="{:g}"/>').format(
                shape.x, shape.y, shape.width, shape.height, colours[shape.colour], shape.opacity
            )
        case Dot():
            return Markup('<circle cx="{:g}" cy="{:g}" r="1.6" fill="{}" opacity="{:g}"/>').format(
                shape.x, shape.y, colours[shape.colour], shape.opacity
            )
        case Mark():
            drawn = mark_shape(
                shape.x, shape.y, shape.size, shape.verdict, colours[_name(shape.verdict)], colours["panel"]
            )
            return Markup('<g opacity="{:g}">{}</g>').format(shape.opacity, Markup(drawn))
        case Text():
            weight = "600" if shape.strong else "400"
            return Markup(
                '<text x="{:g}" y="{:g}" fill="{}" text-anchor="{}" font-weight="{}" font-size="{:g}">{}</text>'
            ).format(shape.x, shape.y, colours[shape.colour], shape.anchor, weight, shape.size, cleaned(shape.words))


def mark_shape(x: float, y: float, r: float, verdict: Verdict, colour: str, ground: str) -> str:
    """Draw a verdict's mark as SVG shapes in any colour on any ground."""
    attributes = f'fill="{colour}" stroke="{colour}" stroke-width="1.5"'
    hollow = f'fill="none" stroke="{colour}" stroke-width="1.5"'
    match SHAPES[verdict]:
        case MarkShape.DISC:
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {attributes}/>'
        case MarkShape.RING:
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {hollow}/>'
        case MarkShape.HALF_DISC:
            half = f'<path d="M{x:.1f} {y - r:.1f} A{r:g} {r:g} 0 0 1 {x:.1f} {y + r:.1f} Z" {attributes}/>'
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{r:g}" {hollow}/>{half}'
        case MarkShape.TRIANGLE:
            return f'<path d="M{x:.1f} {y - r:.1f} L{x + r:.1f} {y + r:.1f} L{x - r:.1f} {y + r:.1f} Z" {attributes}/>'
        case MarkShape.DIAMOND:
            points = f"M{x:.1f} {y - r:.1f} L{x + r:.1f} {y:.1f} L{x:.1f} {y + r:.1f} L{x - r:.1f} {y:.1f} Z"
            return f'<path d="{points}" {attributes}/>'
        case MarkShape.CROSSED_SQUARE:
            box = f'<rect x="{x - r:.1f}" y="{y - r:.1f}" width="{2 * r:g}" height="{2 * r:g}" {attributes}/>'
            s = 0.5 * r
            lines = (
                f"M{x - s:.1f} {y - s:.1f} L{x + s:.1f} {y + s:.1f} M{x + s:.1f} {y - s:.1f} L{x - s:.1f} {y + s:.1f}"
            )
            return f'{box}<path d="{lines}" stroke="{ground}" stroke-width="1.6" fill="none"/>'
