"""`yondle scaling`, `map`, `limits` and `target`: how scores answer to knobs, what holds them back, and how far a target is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, print_table
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import number
from yondle.model.verdicts import Verdict
from yondle.views.map.maps import MapPoint, MapView, map_of, table_rows
from yondle.views.scaling.curves import Curve, ScalingView, scaling
from yondle.views.scaling.limits import limits
from yondle.views.scaling.sensitivities import Sensitivities, sensitivities
from yondle.views.scaling.target import Target, target
from yondle.views.shared.gains import benchmark_of, gain_words
from yondle.views.shared.measured import settings_of
from yondle.views.shared.showing import MEASURE_WORDS, Measure


def add_scaling_command(app: typer.Typer, console: Console) -> None:
    """Add the readings of curves."""

    @app.command(name="scaling")
    def scaling_(
        logbook: LogbookPath,
        knob: Annotated[
            str | None, typer.Argument(help="A knob; by default the table of all knobs.", show_default=False)
        ] = None,
        measure: Annotated[Measure, typer.Option(help="What to show along the knob.")] = Measure.GAIN,
        group: Annotated[int, typer.Option(min=1, help="Which of the settings held else, as listed.")] = 1,
        as_json: AsJson = False,
    ) -> None:
        """See how scores scale with a knob, or which benchmark answers to which."""
        with opened(lambda: open_logbook(logbook)) as session:
            if knob is None:
                _show_table(sensitivities(session.snapshot, settings_of(session.snapshot)), console, as_json)
            else:
                named = session.snapshot.declaration.knob(knob)
                view = scaling(session.snapshot, settings_of(session.snapshot), named, measure, group - 1)
                _show_curves(view, console, as_json)

    @app.command(name="map")
    def map_(
        logbook: LogbookPath,
        across: Annotated[str, typer.Argument(help="A knob.", show_default=False)],
        up: Annotated[str, typer.Argument(help="Another knob.", show_default=False)],
        benchmark: Annotated[str | None, typer.Option(help="A benchmark; by default the first.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """See two knobs together: gains at every pair of values, and what is left over."""
        with opened(lambda: open_logbook(logbook)) as session:
            declaration = session.snapshot.declaration
            one, other = declaration.knob(across), declaration.knob(up)
            if one is other:
                raise KnownError(say("A map takes two knobs."), say("Name another one, too."))
            view = map_of(
                session.snapshot,
                settings_of(session.snapshot),
                one,
                other,
                benchmark_of(session.snapshot, benchmark or ""),
            )
        if as_json:
            print_json(_map_values(view))
        else:
            _show_map(view, console)

    @app.command(name="limits")
    def limits_(
        logbook: LogbookPath,
        step: Annotated[
            int | None, typer.Argument(help="A step; by default the present one.", show_default=False)
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Say what holds every benchmark back at a step, with the evidence."""
        with opened(lambda: open_logbook(logbook)) as session:
            settings = settings_of(session.snapshot)
            told = limits(session.snapshot, settings, sensitivities(session.snapshot, settings), step)
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
        with opened(lambda: open_logbook(logbook)) as session:
            told = target(
                session.snapshot, settings_of(session.snapshot), session.snapshot.declaration.workload(benchmark), score
            )
        if as_json:
            print_json(_target_values(told))
            return
        console.print(told.sentence)
        for way in told.ways if told.joint else told.ways[1:]:
            console.print(way.sentence)


def _show_map(view: MapView, console: Console) -> None:
    console.print(view.sentence)
    if not view.points:
        return
    console.print(say("{held}. Shown: gain over the baseline, %.", held=view.held))
    across = sorted({p.x for p in view.points})
    known = {(p.x, p.y): p for p in view.points}
    head = (f"{view.up.name} \\ {view.across.name}", *(view.across.text(x) for x in across))
    rows = [
        (view.up.text(y), *(_map_cell(known.get((x, y))) for x in across))
        for y in sorted({p.y for p in view.points}, reverse=True)
    ]
    print_table(console, head, rows)
    for name, words, _ in table_rows(view):
        console.print(f"{name}: {words}")


def _map_cell(point: MapPoint | None) -> str:
    if point is None:
        return ""
    if point.gain is None:
        return named(point.verdict)
    return (
        gain_words(point.gain) if point.verdict is Verdict.HELD else f"{gain_words(point.gain)}, {named(point.verdict)}"
    )


def _map_values(view: MapView) -> dict[str, Any]:
    return {
        "across": view.across.id,
        "up": view.up.id,
        "benchmark": view.benchmark.id,
        "held": view.held,
        "sentence": view.sentence,
        "edge": [list(pair) for pair in view.edge],
        "points": [
            {
                "across": p.x,
                "up": p.y,
                "verdict": str(p.verdict),
                "passes": p.passes,
                "gain": asdict(p.gain) if p.gain is not None else None,
            }
            for p in view.points
        ],
        "two_by_two": asdict(view.table) if view.table is not None else None,
    }


def _target_values(told: Target) -> dict[str, Any]:
    ways = [
        {
            "knob": w.knob.id,
            "value": w.value,
            "low": w.low,
            "high": w.high,
            "against": list(w.against),
            "short": w.short,
        }
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
        "joint": told.joint,
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
        console.print(
            say("No knob is measured at two values with all else the same yet: sweep one, or test another value.")
        )
        return
    head = (say("% for each +1 %"), *(knob.name for knob in told.knobs))
    lines = [(b.name, *(c.words for c in cells)) for b, cells in zip(told.benchmarks, told.cells, strict=True)]
    print_table(console, head, lines)


def _show_curves(view: ScalingView, console: Console, as_json: bool) -> None:
    if as_json:
        print_json(_values(view))
        return
    console.print(view.sentence)
    if not view.curves:
        return
    console.print(
        say("{held}. Shown: {measure_words}.", held=view.held, measure_words=named(MEASURE_WORDS[view.measure]))
    )
    values = sorted({p.value for c in view.curves for p in c.points})
    head = (view.knob.name, *(c.benchmark.name for c in view.curves))
    print_table(
        console, head, [(view.knob.text(value), *(_at(curve, value) for curve in view.curves)) for value in values]
    )
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
