"""`yondle scaling`, `limits` and `target`: how scores answer to knobs, what holds them back, and how far a target is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

import typer
from rich.console import Console
from rich.table import Table

from yondle.app.session import Session
from yondle.app.views.curves import MEASURE_WORDS, Curve, Measure, ScalingView, scaling
from yondle.app.views.limits import limits
from yondle.app.views.sensitivities import Sensitivities, sensitivities
from yondle.app.views.target import Target, target
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json
from yondle.model.quantities import number


def add_scaling_command(app: typer.Typer, console: Console) -> None:
    """Add the readings of curves."""

    @app.command(name="scaling")
    def scaling_(
        logbook: LogbookPath,
        knob: Annotated[
            str | None, typer.Argument(help="A knob; without one the table of all knobs.", show_default=False)
        ] = None,
        measure: Annotated[Measure, typer.Option(help="What to show along the knob.")] = Measure.GAIN,
        group: Annotated[int, typer.Option(min=1, help="Which of the settings held else, as listed.")] = 1,
        as_json: AsJson = False,
    ) -> None:
        """See how scores scale with a knob, or which benchmark answers to which."""
        with opened(lambda: Session.open(logbook)) as session:
            if knob is None:
                _show_table(sensitivities(session), console, as_json)
            else:
                _show_curves(scaling(session, session.declaration.knob(knob), measure, group - 1), console, as_json)

    @app.command(name="limits")
    def limits_(
        logbook: LogbookPath,
        step: Annotated[int | None, typer.Argument(help="A step; the present one without.", show_default=False)] = None,
        as_json: AsJson = False,
    ) -> None:
        """Say what holds every benchmark back at a step, with the evidence."""
        with opened(lambda: Session.open(logbook)) as session:
            told = limits(session, step)
        if as_json:
            print_json({each.benchmark.id: asdict(each.finding) for each in told})
            return
        for each in told:
            signs = f": {'; '.join(each.finding.signs)}" if each.finding.signs else ""
            console.print(f"{each.benchmark.name} · {each.finding.words}{signs}.")

    @app.command(name="target")
    def target_(
        logbook: LogbookPath,
        benchmark: Annotated[str, typer.Argument(help="A benchmark.", show_default=False)],
        score: Annotated[float, typer.Argument(help="The score to reach, in its unit.", show_default=False)],
        as_json: AsJson = False,
    ) -> None:
        """Say how far a target score is, and which setting would reach it if the trend held."""
        with opened(lambda: Session.open(logbook)) as session:
            told = target(session, session.declaration.workload(benchmark), score)
        if as_json:
            print_json(_target_values(told))
            return
        console.print(told.sentence)
        for way in told.ways[1:]:
            console.print(way.sentence)


def _target_values(told: Target) -> dict[str, Any]:
    ways = [
        {"knob": w.knob.id, "value": w.value, "low": w.low, "high": w.high, "against": list(w.against)}
        for w in told.ways
    ]
    return {
        "benchmark": told.benchmark.id,
        "wanted": told.wanted,
        "best": told.best,
        "best_step": told.best_step,
        "reached": told.reached,
        "passes": told.passes,
        "missing": told.missing,
        "ways": ways,
        "sentence": told.sentence,
    }


def _show_table(told: Sensitivities, console: Console, as_json: bool) -> None:
    if as_json:
        rows = {
            benchmark.id: {knob.id: asdict(cell) for knob, cell in zip(told.knobs, cells, strict=True)}
            for benchmark, cells in zip(told.benchmarks, told.cells, strict=True)
        }
        print_json({"knobs": [knob.id for knob in told.knobs], "benchmarks": rows})
        return
    if not told.knobs:
        console.print("No knob is measured at two values with all else the same yet: sweep one, or test another value.")
        return
    table = Table("% for each +1 %", *(knob.name for knob in told.knobs), box=None)
    for benchmark, cells in zip(told.benchmarks, told.cells, strict=True):
        table.add_row(benchmark.name, *(cell.words for cell in cells))
    console.print(table)


def _show_curves(view: ScalingView, console: Console, as_json: bool) -> None:
    if as_json:
        print_json(_values(view))
        return
    console.print(view.sentence)
    if not view.curves:
        return
    console.print(f"{view.held}. Shown: {MEASURE_WORDS[view.measure]}.")
    values = sorted({p.value for c in view.curves for p in c.points})
    table = Table(view.knob.name, *(c.benchmark.name for c in view.curves), box=None)
    for value in values:
        table.add_row(view.knob.text(value), *(_at(curve, value) for curve in view.curves))
    console.print(table)
    for words in (*(c.sentence for c in view.curves), *view.caveats):
        console.print(words)
    for i, words in enumerate(view.groups):
        if i != view.group:
            console.print(f"--group {i + 1}: {words}")


def _at(curve: Curve, value: float) -> str:
    point = next((p for p in curve.points if p.value == value), None)
    if point is None:
        return ""
    half = (point.high - point.low) / 2.0
    return f"{number(point.shown, 1)} ± {number(half, 1)}" if half == half else number(point.shown, 1)


def _values(view: ScalingView) -> dict[str, Any]:
    return {
        "knob": view.knob.id,
        "measure": str(view.measure),
        "held": view.held,
        "group": view.group + 1,
        "groups": list(view.groups),
        "sentence": view.sentence,
        "caveats": list(view.caveats),
        "failures": [
            {"value": f.value, "verdict": str(f.verdict), "step": f.step, "words": f.words} for f in view.failures
        ],
        "curves": [
            {
                "benchmark": curve.benchmark.id,
                "answers": curve.answers,
                "capped": curve.capped,
                "sentence": curve.sentence,
                "reading": asdict(curve.reading) if curve.reading is not None else None,
                "points": [asdict(point) for point in curve.points],
            }
            for curve in view.curves
        ],
    }
