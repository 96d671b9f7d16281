"""The figures from elsewhere of one step, a row a benchmark: each as it was typed, with mean, spread and gain."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.margins import spread
from yondle.model.quantities import THIN, number
from yondle.model.steps import AddedResult
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.gains import words_of_gain
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class GridRow:
    """One benchmark with its figures that count, and what they come to; without a `workload` it isn't known yet."""

    name: str = ""
    unit: str = ""
    direction: Direction = Direction.HIGHER
    workload: Workload | None = None
    figures: tuple[AddedResult, ...] = ()
    texts: tuple[str, ...] = ()
    mean: str = ""
    spread: str = ""
    gain: str = ""


def figures_grid(book: Snapshot, step: int) -> list[GridRow]:
    """Give a row for every benchmark whose figures come from elsewhere, in the order in which they became known."""
    record = book.step(step)
    rows = []
    for work in book.declaration.benchmarks:
        if not work.by_hand or not work.metric.name:
            continue
        figures = tuple(a for a in record.added if a.workload == work.id and not a.discarded)
        told = spread([f.score for f in figures])
        several = told is not None and not math.isnan(told.variation)
        rows.append(
            GridRow(
                work.name, work.metric.unit, work.metric.direction, work, figures,
                tuple(f"{f.score:.{work.metric.digits}f}" for f in figures),
                number(told.mean, work.metric.digits + several) if told is not None else "",
                f"{number(100 * told.variation, 1)}{THIN}%" if several and told is not None else "",
                words_of_gain(book, record, work),
            )
        )  # fmt: skip
    return rows
