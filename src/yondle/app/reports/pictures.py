"""Turns a chart's read model into the picture that reports draw."""

from __future__ import annotations

from yondle.language.saying import in_sentence, say
from yondle.model.quantities import as_shown, with_unit
from yondle.model.workloads import Direction
from yondle.reports.picture import Picture, PicturePoint
from yondle.reports.svg import picture_svg
from yondle.views.tune.charting import ChartView


def chart_svg(view: ChartView, rig: str) -> str:
    """Draw score against a knob as SVG text."""
    metric, unit = view.workload.metric, view.knob.unit
    lower = metric.direction is Direction.LOWER
    turned = say(", lower is better") if lower else ""
    picture = Picture(
        title=say(
            "{rig} · {workload} against {knob}", rig=rig, workload=view.workload.name, knob=in_sentence(view.knob.name)
        ),
        sentence=view.sentence,
        x_label=with_unit(view.knob.name, view.knob.unit),
        y_label=say(
            "{unit}{turned}; bars show 95 % ranges, faint marks other settings elsewhere",
            unit=metric.unit,
            turned=turned,
        ),
        points=tuple(
            PicturePoint(
                as_shown(p.value, unit), p.scores, p.spread.mean, p.spread.low, p.spread.high, p.verdict, p.strong
            )
            for p in view.points
        ),
        failures=tuple(
            (
                as_shown(f.value, unit),
                f.verdict,
                say("{failure} at {value}", failure=f.words, value=view.knob.text(f.value)),
            )
            for f in view.failures
        ),
        baseline=(view.baseline.mean, view.baseline.low, view.baseline.high) if view.baseline else None,
        proportion=view.anchor,
        lower_is_better=lower,
        names=view.knob.choices,
    )
    return picture_svg(picture)
