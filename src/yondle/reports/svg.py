"""Charts and marks of a report as SVG, in the colours of a palette or in those a page names."""

from __future__ import annotations

from collections.abc import Mapping

from markupsafe import Markup

from yondle.model.marks import PAPER, Palette
from yondle.model.verdicts import Verdict
from yondle.reports.cleaning import cleaned
from yondle.reports.content import Chart
from yondle.reports.drawing import HEIGHT, WIDTH, Box, Dot, Mark, Shape, Stroke, Text, strokes
from yondle.reports.picture import mark_shape

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
    shapes = Markup("\n").join(_shape(shape, colours) for shape in strokes(chart))
    return Markup(
        '<svg xmlns="http://www.w3.org/2000/svg" class="chart" viewBox="0 0 {width:g} {height:g}" role="img"'
        ' aria-label="{title}">\n{shapes}\n</svg>'
    ).format(width=WIDTH, height=HEIGHT, title=cleaned(chart.title), shapes=shapes)


def _shape(shape: Shape, colours: Colours) -> Markup:
    match shape:
        case Stroke():
            points = " ".join(f"{x:g},{y:g}" for x, y in shape.points)
            return Markup(
                '<polyline points="{}" fill="none" stroke="{}" stroke-width="{:g}" stroke-dasharray="{}"/>'
            ).format(points, colours[shape.colour], shape.width, shape.dashes or "none")
        case Box():
            return Markup('<rect x="{:g}" y="{:g}" width="{:g}" height="{:g}" fill="{}" opacity="{:g}"/>').format(
                shape.x, shape.y, shape.width, shape.height, colours[shape.colour], shape.opacity
            )
        case Dot():
            return Markup('<circle cx="{:g}" cy="{:g}" r="1.6" fill="{}" opacity="0.7"/>').format(
                shape.x, shape.y, colours[shape.colour]
            )
        case Mark():
            drawn = mark_shape(
                shape.x, shape.y, shape.size, shape.verdict, colours[_name(shape.verdict)], colours["panel"]
            )
            return Markup(drawn)
        case Text():
            weight = "600" if shape.strong else "400"
            return Markup(
                '<text x="{:g}" y="{:g}" fill="{}" text-anchor="{}" font-weight="{}" font-size="11">{}</text>'
            ).format(shape.x, shape.y, colours[shape.colour], shape.anchor, weight, cleaned(shape.words))
