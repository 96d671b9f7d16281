"""`yondle trace`: what the sensors said during a test, as figures, or every reading as CSV."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.books.export import csv_text, write
from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, print_table, tell
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.views.traces.spans import SpanView, span_view
from yondle.views.traces.traces import Trace, end_words, latest_run, trace_of


def add_trace_command(app: typer.Typer, console: Console) -> None:
    """Add `trace`, which sums the readings of a test up, or writes all of them."""

    @app.command()
    def trace(
        logbook: LogbookPath,
        step: Annotated[int | None, typer.Argument(help="A step; by default the latest test.")] = None,
        begin: Annotated[float, typer.Option("--from", min=0.0, help="From so many seconds into the test.")] = 0.0,
        end: Annotated[
            float | None, typer.Option("--to", help="To so many seconds into it; by default to its end.")
        ] = None,
        csv: Annotated[Path | None, typer.Option(help="Write every reading of the span to this file.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Tell lowest, mean and highest readings of a test, dips, limits reached, and what moved before a failure."""
        with opened(lambda: open_logbook(logbook)) as session:
            shown = trace_of(session.snapshot, latest_run(session.snapshot, step).attempt)
        low, high = begin, end if end is not None else shown.lasted_s
        if not low < high:
            raise KnownError(
                say("Nothing lies between {low:g} and {high:g} s.", low=low, high=high),
                say("The test lasted {lasted_s:g} s.", lasted_s=shown.lasted_s),
            )
        if csv is not None:
            write(csv, readings_csv(shown, low, high))
            tell(console, as_json, say("{file} is written.", file=csv), file=str(csv))
            return
        view = span_view(shown, shown.panels, low, high)
        if as_json:
            print_json(
                {**asdict(view), "step": shown.run.step, "attempt": shown.run.attempt, "ended": end_words(shown)}
            )
        else:
            _show(shown, view, console)


def readings_csv(trace: Trace, low: float, high: float) -> str:
    """Write every reading of a span as CSV: seconds since the test began, and a column a channel, empty without a reading."""
    known = {c.id: f"{c.name} ({c.unit})" if c.unit else c.name for c in trace.declaration.read_ever}
    inside = (trace.times >= low) & (trace.times <= high)
    columns = [(known.get(name, name), values[inside]) for name, values in trace.columns.items()]
    rows = [["time (s)", *(name for name, _ in columns)]]
    for i, t in enumerate(trace.times[inside].tolist()):
        rows.append([f"{t:.6g}", *("" if v[i] != v[i] else f"{v[i]:.7g}" for _, v in columns)])
    return csv_text(rows)


def _show(trace: Trace, view: SpanView, console: Console) -> None:
    console.print(f"{trace.run.words}: {end_words(trace)}. {view.title}.")
    head = ("", say("lowest"), say("mean"), say("highest"))
    print_table(console, head, [(row.name, row.lowest, row.mean, row.highest) for row in view.rows], (1, 2, 3))
    for words in (view.last, view.held_back, view.hottest, view.voltage):
        if words:
            console.print(words)
