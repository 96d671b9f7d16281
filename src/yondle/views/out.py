"""What views show, as tables to take out: a row a setting with gains beside the figures, a row a figure, and every view's own."""

from __future__ import annotations

import math
from collections.abc import Sequence

from yondle.analysis.group import GroupGain
from yondle.analysis.margins import Gain, spread
from yondle.language.saying import named, say
from yondle.model.knobs import Knob
from yondle.model.measured import Measured
from yondle.model.sensors import Channel
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction, Workload
from yondle.tables.writing import OutColumn, OutTable, Value, columns_of
from yondle.views.compare.compare import CompareView
from yondle.views.map.maps import MapView
from yondle.views.record.log import LogRow
from yondle.views.scaling.curves import ScalingView
from yondle.views.scaling.sensitivities import Sensitivities
from yondle.views.shared.gains import gain_of
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words, step_title, word_of


def steps_table(book: Snapshot) -> OutTable:
    """Give a row a step: its settings, the mean of every benchmark with its gain beside, how it went, and its notes."""
    knobs, benchmarks = _told_knobs(book), _told_benchmarks(book)
    columns = [OutColumn(say("step")), OutColumn(say("what")), *(_of_knob(knob) for knob in knobs)]
    for work in benchmarks:
        columns += [_of_benchmark(work), OutColumn(say("{benchmark}, gain", benchmark=work.name), percent=True)]
    columns += [OutColumn(say("how it went")), OutColumn(say("note"))]
    rows = []
    for record in book.steps:
        cells: list[Value] = [record.step.number, step_title(book.declaration, record.step)]
        cells += [knob.plain(record.step.setup[knob.id]) for knob in knobs]
        for work in benchmarks:
            told = spread(record.scores(work.id))
            cells += [told.mean if told is not None else None, _fraction(gain_of(book, record, work))]
        rows.append((*cells, _went(book, record), "; ".join(note.text for note in record.notes)))
    return OutTable(book.declaration.info.name, tuple(columns), tuple(rows))


def figures_table(book: Snapshot) -> OutTable:
    """Give a row for every step and benchmark, with its single figures as runs: what can be brought in again without loss."""
    knobs = _told_knobs(book)
    most = max((len(r.scores(w.id)) for r in book.steps for w in book.declaration.benchmarks), default=1)
    parts = list(dict.fromkeys(name for r in book.steps for m in _measured(r) for name in m.parts))
    columns = [
        *(_of_knob(knob) for knob in knobs),
        *columns_of((say("benchmark"), say("unit"), say("better"), say("group"))),
    ]
    columns += [OutColumn(say("run {i}", i=i + 1)) for i in range(max(most, 1))]
    told_of = [
        c for c in book.declaration.channels if any(c.id in a.measured.mean for r in book.steps for a in r.added)
    ]
    columns += [*(OutColumn(named(part)) for part in parts), *(_of_channel(c) for c in told_of)]
    columns += columns_of((say("outcome"), say("note")))
    rows: list[tuple[Value, ...]] = []
    for record in book.steps:
        setting = [knob.plain(record.step.setup[knob.id]) for knob in knobs]
        end = (_went(book, record), "; ".join(note.text for note in record.notes))
        met = False
        for work in book.declaration.benchmarks:
            scores = record.scores(work.id)
            if not scores:
                continue
            kept = next((m for m in _measured(record, work.id) if m.parts), Measured())
            lower = say("lower") if work.metric.direction is Direction.LOWER else say("higher")
            runs: list[Value] = [*scores, *(None,) * (max(most, 1) - len(scores))]
            told: list[Value] = [kept.parts.get(part) for part in parts]
            read = [a.measured.mean for a in record.added if a.workload == work.id and not a.discarded]
            told += [next((mean[c.id] for mean in read if c.id in mean), None) for c in told_of]
            group = str(work.subsystem) if work.grouped or not work.by_hand else ""
            rows.append((*setting, work.name, work.metric.unit, lower, group, *runs, *told, *end))
            met = True
        if not met and (end[0] or end[1]):
            rows.append((*setting, *(None,) * (len(columns) - len(knobs) - 2), *end))
    return OutTable(book.declaration.info.name, tuple(columns), tuple(rows))


def compare_table(view: CompareView) -> OutTable:
    """Give a row a benchmark: the mean of every column, with its gain over the one compared with beside it."""
    columns = [*columns_of((say("group"), say("benchmark"), say("unit"), say("better")))]
    for i, column in enumerate(view.columns):
        columns.append(OutColumn(column.name))
        if i != view.against:
            columns.append(OutColumn(say("{column}, gain", column=column.name), percent=True))
    rows: list[tuple[Value, ...]] = []
    for group in view.groups:
        for row in group.rows:
            metric = row.benchmark.metric
            cells: list[Value] = [group.name, row.benchmark.name, metric.unit, named(metric.direction)]
            for i, cell in enumerate(row.cells):
                cells.append(cell.spread.mean if cell is not None else None)
                if i != view.against:
                    cells.append(_fraction(cell.gain) if cell is not None else None)
            rows.append(tuple(cells))
        rows.append(_mean_row(view, say("mean of {group}", group=group.name), [_of_group(m) for m in group.means]))
    rows.append(_mean_row(view, say("mean of all"), [_of_group(m) for m in view.means]))
    return OutTable(
        say("Compared with {name}", name=view.columns[view.against].name), tuple(columns), tuple(rows), view.caveats
    )


def scaling_table(view: ScalingView) -> OutTable:
    """Give a row a value of the knob, and a column a benchmark."""
    values = sorted({p.value for curve in view.curves for p in curve.points})
    columns = [_of_knob(view.knob)]
    for curve in view.curves:
        columns += [OutColumn(curve.benchmark.name), OutColumn(say("{name}, low", name=curve.benchmark.name)),
                    OutColumn(say("{name}, high", name=curve.benchmark.name))]  # fmt: skip
    rows = []
    for value in values:
        cells: list[Value] = [view.knob.plain(value)]
        for curve in view.curves:
            point = next((p for p in curve.points if p.value == value), None)
            cells += [point.shown, point.low, point.high] if point is not None else [None, None, None]
        rows.append(tuple(cells))
    title = say("{measure} along {knob}", measure=named(view.measure), knob=view.knob.name)
    return OutTable(title, tuple(columns), tuple(rows), (view.held, *view.caveats))


def map_table(view: MapView) -> OutTable:
    """Give the grid of two knobs: a row a value of the one, a column a value of the other, gains inside."""
    across, up = sorted({p.x for p in view.points}), sorted({p.y for p in view.points})
    known = {(p.x, p.y): p for p in view.points}
    head = OutColumn(f"{view.up.name} \\ {view.across.name}")
    columns = (head, *(OutColumn(view.across.text(x), percent=True) for x in across))
    rows = []
    for y in up:
        cells: list[Value] = [view.up.plain(y)]
        for x in across:
            point = known.get((x, y))
            failed = point is not None and point.gain is None and point.verdict in (Verdict.DOWN, Verdict.WRONG)
            cells.append(
                named(point.verdict) if failed and point is not None else _fraction(point.gain) if point else None
            )
        rows.append(tuple(cells))
    return OutTable(
        say("{benchmark}, gain", benchmark=view.benchmark.name), columns, tuple(rows), (view.held, view.sentence)
    )


def sensitivities_table(view: Sensitivities) -> OutTable:
    """Give a row a benchmark and a column a knob: per cent of score for each per cent of the knob."""
    columns = [OutColumn(say("benchmark"))]
    for knob in view.knobs:
        ends = (say("{name}, low", name=knob.name), say("{name}, high", name=knob.name))
        columns += [OutColumn(knob.name, 2), *(OutColumn(end, 2) for end in ends)]
    rows: list[tuple[Value, ...]] = []
    for work, cells in zip(view.benchmarks, view.cells, strict=True):
        told: list[Value] = [work.name]
        for cell in cells:
            told += [cell.slope, cell.low, cell.high] if math.isfinite(cell.slope) else [cell.words, None, None]
        rows.append(tuple(told))
    return OutTable(say("Sensitivities"), tuple(columns), tuple(rows))


def log_table(rows: Sequence[LogRow]) -> OutTable:
    """Give the rows of the logbook."""
    heads = (
        say("when"),
        say("step"),
        say("kind"),
        say("what"),
        say("told"),
        say("verdict"),
        say("benchmark"),
        say("value"),
        say("left out"),
    )
    told = tuple((r.at, r.step, named(r.kind), r.what, r.told, r.word, r.benchmark, r.value, r.left_out) for r in rows)
    return OutTable(say("Logbook"), columns_of(heads), told)


def _measured(record: StepRecord, workload: str = "") -> list[Measured]:
    passes = (p for a in record.attempts for p in a.passes if p.counts and workload in ("", p.workload))
    measured = [p.result.measured for p in passes if p.result is not None]
    return measured + [a.measured for a in record.added if not a.discarded and workload in ("", a.workload)]


def _told_knobs(book: Snapshot) -> list[Knob]:
    """Give the knobs that any step has at another value than stock; all where none has."""
    stock = book.declaration.stock
    used = {c.knob for record in book.steps for c in stock.changes_to(record.step.setup)}
    return [knob for knob in book.declaration.knobs if knob.id in used] or list(book.declaration.knobs)


def _told_benchmarks(book: Snapshot) -> list[Workload]:
    return [w for w in book.declaration.benchmarks if any(record.scores(w.id) for record in book.steps)]


def _of_knob(knob: Knob) -> OutColumn:
    return OutColumn(f"{knob.name} ({knob.unit})" if knob.unit else knob.name, None if knob.choices else knob.digits)


def _of_channel(channel: Channel) -> OutColumn:
    return OutColumn(f"{channel.name} ({channel.unit})" if channel.unit else channel.name, channel.digits)


def _of_benchmark(work: Workload) -> OutColumn:
    return OutColumn(f"{work.name} ({work.metric.unit})" if work.metric.unit else work.name, work.metric.digits)


def _fraction(value: Gain | None) -> float | None:
    return value.fraction if value is not None and math.isfinite(value.fraction) else None


def _of_group(value: GroupGain | None) -> float | None:
    return _fraction(value.these) if value is not None else None


def _mean_row(view: CompareView, name: str, means: list[float | None]) -> tuple[Value, ...]:
    cells: list[Value] = ["", name, "", ""]
    for i, mean in enumerate(means):
        cells.append(None)
        if i != view.against:
            cells.append(mean)
    return tuple(cells)


def _went(book: Snapshot, record: StepRecord) -> str:
    """Say how a step went, in words that can be brought in again."""
    decides = record.deciding
    if record.verdict is Verdict.HELD:
        return named(Verdict.HELD)
    if decides is not None and decides.failure is not None:
        return named(decides.failure) if record.recorded else failure_words(book.declaration, decides)
    return "" if record.recorded else word_of(record)
