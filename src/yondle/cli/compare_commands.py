"""`yondle compare` and `reference`: steps, profiles, other logbooks and figures from elsewhere side by side."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

import typer
from rich.console import Console

from yondle.app.books.columns import (
    AddReference,
    DropReference,
    KeepPrice,
    Shelf,
    compared,
    prices,
)
from yondle.app.session.opening import open_logbook
from yondle.cli.running import AsJson, LogbookPath, opened
from yondle.cli.shown import print_json, print_table, tell
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import ranged
from yondle.views.compare.compare import CompareView, cell_words, compare, details, mean_words
from yondle.views.compare.efficiency import CostView, battery_of, cost_words, efficiency
from yondle.views.compare.machines import MachinesView, machines
from yondle.views.shared.gains import benchmark_of
from yondle.views.shared.measured import settings_of


def add_compare_commands(app: typer.Typer, console: Console) -> None:
    """Add the comparison of columns, and references to compare with."""

    @app.command(name="compare")
    def compare_(
        logbook: LogbookPath,
        what: Annotated[
            list[str] | None,
            typer.Argument(
                help="Columns: a step's number, 'stock', 'here', a profile, a reference, other.yondle, or"
                " other.yondle#12; by default those last chosen in the window.",
                show_default=False,
            ),
        ] = None,
        against: Annotated[int, typer.Option(min=1, help="The column that gains are told over, counted from 1.")] = 1,
        along: Annotated[str, typer.Option(help="A knob: the logbooks' curves along it, and where they cross.")] = "",
        benchmark: Annotated[str, typer.Option(help="With --along: a benchmark; by default the first.")] = "",
        passes: Annotated[bool, typer.Option("--passes", help="Every pass and what it cost below each row.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Put steps, profiles, samples and rigs side by side."""
        with opened(lambda: open_logbook(logbook)) as session:
            shelf, addresses = Shelf(lambda: session.snapshot), tuple(what or compared(session.snapshot))
            columns, paid = [shelf.column(each) for each in addresses], prices(session.snapshot)
            if along:
                books = shelf.with_settings(settings_of(session.snapshot), addresses)
                knob = session.snapshot.declaration.knob(along)
                _show_lines(machines(books, knob, benchmark_of(session.snapshot, benchmark)), console, as_json)
                return
        if not columns:
            raise KnownError(say("There is nothing to compare yet."), say("Run the baseline first."))
        if against > len(columns):
            raise KnownError(
                say("There is no column {against}.", against=against), say("There are {columns}.", columns=len(columns))
            )
        view = compare(columns, against - 1, paid)
        if as_json:
            print_json(_values(view))
        else:
            _show(view, console, passes)

    @app.command(name="efficiency")
    def efficiency_(
        logbook: LogbookPath,
        what: Annotated[
            list[str] | None, typer.Argument(help="Other logbooks to put beside it.", show_default=False)
        ] = None,
        benchmark: Annotated[str, typer.Option(help="A benchmark; by default the first.")] = "",
        battery: Annotated[
            float | None, typer.Option(help="What the battery holds, in Wh; by default what the conditions say.")
        ] = None,
        as_json: AsJson = False,
    ) -> None:
        """Say what scores cost: per watt, per unit of work, in heat and noise, and which settings no other beats."""
        with opened(lambda: open_logbook(logbook)) as session:
            shelf = Shelf(lambda: session.snapshot)
            books = shelf.with_settings(
                settings_of(session.snapshot), tuple(shelf.column(each).address for each in what or ())
            )
            held = battery if battery is not None else battery_of(session.snapshot.conditions)
            view = efficiency(books, benchmark_of(session.snapshot, benchmark), held)
        if as_json:
            print_json({**asdict(view), "benchmark": view.benchmark.id})
        else:
            _show_costs(view, console)

    @app.command(name="price")
    def price_(
        logbook: LogbookPath,
        what: Annotated[str, typer.Argument(help="A column, as for 'compare'.", show_default=False)],
        price: Annotated[float | None, typer.Argument(help="What it costs; nothing takes it away.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Keep what a column costs, so that 'compare --passes' tells the price of its gains."""
        with opened(lambda: open_logbook(logbook)) as session:
            column = Shelf(lambda: session.snapshot).column(what)
            session.do(KeepPrice(column.address, price))
            words = (
                say("{column} costs {price:g}.", column=column.name, price=price)
                if price is not None
                else say("{column} has no price any more.", column=column.name)
            )
            tell(console, as_json, words, column=column.address, price=price)

    @app.command(name="reference")
    def reference_(
        logbook: LogbookPath,
        name: Annotated[str, typer.Argument(help="What it is called.", show_default=False)],
        benchmark: Annotated[str, typer.Argument(help="A benchmark; its unit counts.", show_default=False)] = "",
        scores: Annotated[list[float] | None, typer.Argument(help="One score or more.", show_default=False)] = None,
        note: Annotated[str, typer.Option(help="Where they come from.")] = "",
        drop: Annotated[bool, typer.Option("--drop", help="Forget the reference.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Keep scores from elsewhere to compare with."""
        with opened(lambda: open_logbook(logbook)) as session:
            if drop:
                session.do(DropReference(name))
            else:
                session.do(AddReference(name, benchmark, tuple(scores or ()), note))
            words = say("{name} is forgotten.", name=name) if drop else say("{name} can be compared with.", name=name)
            tell(console, as_json, words, reference=name)


def _show(view: CompareView, console: Console, passes: bool) -> None:
    console.print(view.sentence)
    rows: list[tuple[str, ...]] = []
    for group in view.groups:
        rows.append((group.name, *(mean_words(m) for m in group.means)))
        for row in group.rows:
            words = (cell_words(cell, row.benchmark, i == view.against) for i, cell in enumerate(row.cells))
            rows.append((f"  {row.benchmark.name}", *words))
            rows += [(f"    {name}", *values) for name, values in details(view, row)] if passes else []
    rows.append((say("all"), *(mean_words(m) for m in view.means)))
    print_table(console, ("", *(_head(view, i) for i in range(len(view.columns)))), rows)
    for column in view.columns:
        console.print(f"{column.name}: {column.setup}")
    for caveat in (*(f"{r.benchmark.name}: {r.caveat}." for r in view.rows if r.caveat), *view.caveats):
        console.print(caveat)


def _show_costs(view: CostView, console: Console) -> None:
    console.print(view.sentence)
    if not view.costs:
        return
    costs = sorted(view.frontier, key=lambda c: c.watts) or view.costs
    names = dict.fromkeys(name for cost in costs for name, _ in cost_words(cost, view))
    console.print(
        say("None of these is surely beaten by another setting of the same machine on score, power and noise:")
    )
    rows = []
    for cost in costs:
        told = dict(cost_words(cost, view))
        rows.append((f"{cost.machine}, {cost.setup}", *(told.get(name, "") for name in names)))
    print_table(console, ("", *names), rows)


def _show_lines(view: MachinesView, console: Console, as_json: bool) -> None:
    if as_json:
        print_json(_line_values(view))
        return
    console.print(view.sentence)
    values = sorted({p.value for line in view.lines for p in line.points})
    rows = []
    for value in values:
        points = [next((p for p in line.points if p.value == value), None) for line in view.lines]
        cells = (ranged(p.mean, p.low, p.high) if p is not None else "" for p in points)
        rows.append((view.knob.text(value), *cells))
    head = (f"{view.knob.name}, {view.benchmark.metric.unit}", *(line.name for line in view.lines))
    print_table(console, head, rows)
    for words in (*(m.sentence for m in view.meetings), *view.held):
        console.print(words)


def _line_values(view: MachinesView) -> dict[str, Any]:
    return {
        "knob": view.knob.id,
        "benchmark": view.benchmark.id,
        "sentence": view.sentence,
        "lines": [asdict(line) for line in view.lines],
        "meetings": [
            {
                "other": m.other.name,
                "sentence": m.sentence,
                "leads": [asdict(lead) for lead in m.leads],
                "crossing": asdict(m.crossing) if m.crossing is not None else None,
            }
            for m in view.meetings
        ],
    }


def _head(view: CompareView, i: int) -> str:
    return say("{columns}, compared with", columns=view.columns[i].name) if i == view.against else view.columns[i].name


def _values(view: CompareView) -> dict[str, Any]:
    return {
        "columns": [{"address": c.address, "name": c.name, "rig": c.rig, "setup": c.setup} for c in view.columns],
        "against": view.against + 1,
        "sentence": view.sentence,
        "caveats": list(view.caveats),
        "means": [asdict(m) if m is not None else None for m in view.means],
        "groups": [
            {
                "name": group.name,
                "means": [asdict(m) if m is not None else None for m in group.means],
                "rows": [
                    {
                        "benchmark": row.benchmark.id,
                        "unit": row.benchmark.metric.unit,
                        "caveat": row.caveat,
                        "cells": [asdict(c) if c is not None else None for c in row.cells],
                    }
                    for row in group.rows
                ],
            }
            for group in view.groups
        ],
    }
