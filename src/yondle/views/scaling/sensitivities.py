"""Which benchmark answers to which knob: score % for each +1 % of setting, and what a switch is worth, with margins."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

from yondle.analysis.caps import at_cap, meets_cap
from yondle.analysis.levels import Levels
from yondle.analysis.limiting import DOES_NOT, Answer, Bound, what_limits
from yondle.analysis.margins import Gain, GainWord, passes_needed, spread
from yondle.analysis.scaling import Elasticity, elasticity
from yondle.analysis.shapes import FEWEST_FOR_SHAPE, CurveShape, read_curve
from yondle.language.saying import say
from yondle.model.knobs import Knob
from yondle.model.quantities import count
from yondle.model.rigs import RigDeclaration
from yondle.model.workloads import Workload
from yondle.views.scaling.curves import signed
from yondle.views.scaling.evidence import PARTS, answer, evidence
from yondle.views.shared.gains import gain_words
from yondle.views.shared.leveled import levels_of
from yondle.views.shared.measured import Group, Setting, Settings, groups_of
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.snapshot import Snapshot

WORTH = 0.01
"""What passes are counted for where nothing is seen yet: a gain of 1 % between the two ends."""
MOST_PASSES = 200


@dataclass(frozen=True, slots=True)
class SensitivityCell:
    """What one benchmark says of one knob, in words; `slope` is % for each +1 %, or the gain of a switch in %.

    `low` and `high` are its 95 % range; all three are nan where nothing can be told. `sure` where the range excludes 0.
    """

    words: str
    slope: float = math.nan
    low: float = math.nan
    high: float = math.nan
    sure: bool = False
    how: str = ""
    """How it was worked out, and from how many passes."""
    held_back: bool = False
    """Whether a limit acted where it was measured: what a benchmark answers to there isn't so where none does."""


@dataclass(frozen=True, slots=True)
class Sensitivities:
    """A table of cells, rows as `benchmarks`, columns as `knobs`; those that answer most come first."""

    benchmarks: tuple[Workload, ...]
    knobs: tuple[Knob, ...]
    cells: tuple[tuple[SensitivityCell, ...], ...]

    def answers(self, declaration: RigDeclaration, benchmark: Workload) -> tuple[Answer, ...]:
        """Give what a benchmark answers to in the parts of the machine where no limit acts."""
        row = next((cells for b, cells in zip(self.benchmarks, self.cells, strict=True) if b.id == benchmark.id), ())
        cells = zip(self.knobs, row, strict=True)
        return _answers(declaration, ((knob, cell) for knob, cell in cells if not cell.held_back))


def sensitivities(book: Snapshot, settings: Settings) -> Sensitivities:
    """Read every benchmark along every knob that was measured at two values or more with all else the same."""
    return at_once(sensitivities_in_pieces(book, settings))


def sensitivities_in_pieces(book: Snapshot, settings: Settings) -> Pieces[Sensitivities]:
    """Read them like `sensitivities`, with a pause after each benchmark along a knob."""
    now = book.in_force
    benchmarks = book.declaration.benchmarks
    columns: list[tuple[Knob, list[tuple[SensitivityCell, Setting | None]]]] = []
    for knob in book.declaration.knobs:
        groups = groups_of(settings, knob, now)
        if groups:
            cells = []
            for each in benchmarks:
                cells.append(_cell(book.declaration, each, groups, levels_of(book, each)))
                yield
            columns.append((knob, cells))
    columns.sort(key=lambda column: -max(_strength(cell) for cell, _ in column[1]))
    knobs = tuple(knob for knob, _ in columns)
    rows = [_limited(book.declaration, b, knobs, [cells[i] for _, cells in columns]) for i, b in enumerate(benchmarks)]
    return Sensitivities(benchmarks, knobs, tuple(rows))


def _answers(declaration: RigDeclaration, cells: Iterable[tuple[Knob, SensitivityCell]]) -> tuple[Answer, ...]:
    told = (answer(declaration, knob, cell.slope, cell.low, cell.high) for knob, cell in cells)
    return tuple(each for each in told if each is not None)


def _limited(
    declaration: RigDeclaration,
    benchmark: Workload,
    knobs: tuple[Knob, ...],
    row: list[tuple[SensitivityCell, Setting | None]],
) -> tuple[SensitivityCell, ...]:
    """Say of cells that show no sign what holds the benchmark back there, where the evidence says so.

    A limit that was reached says more than passes do; another part that holds it back is said only where the slope is small
    for sure.
    """
    answers = _answers(declaration, zip(knobs, (cell for cell, _ in row), strict=True))
    cells = []
    for knob, (cell, setting) in zip(knobs, row, strict=True):
        if setting is not None and not cell.sure and cell.slope == cell.slope:
            found = what_limits(evidence(declaration, benchmark, setting, answers, knob.id))
            other = found.bound in PARTS.values() and found.bound is not PARTS.get(knob.subsystem)
            small = knob.proportional and max(abs(cell.low), abs(cell.high)) < DOES_NOT
            if found.bound is Bound.LIMIT or (other and small):
                cell = replace(cell, words=say("limited by {part}", part=found.words))
        cells.append(cell)
    return tuple(cells)


def _strength(cell: SensitivityCell) -> float:
    return abs(cell.slope) if cell.sure else 0.0


def _cell(
    declaration: RigDeclaration, benchmark: Workload, groups: tuple[Group, ...], levels: Levels
) -> tuple[SensitivityCell, Setting | None]:
    """Read a benchmark in the first group that says something of it; gives the setting of its highest value, too."""
    for group in groups:
        points = _points(benchmark, group)
        if len(points) > 1:
            told = [s for s in group.settings if benchmark.id in s.figures]
            ends = levels.gain(told[-1].setup, told[0].setup)
            limited = any(what_limits(evidence(declaration, benchmark, s, ())).bound is Bound.LIMIT for s in told)
            cell = _read(benchmark, group.knob, points, ends)
            return replace(cell, how=_how(group.knob, points), held_back=limited), told[-1]
    return SensitivityCell(say("not measured")), None


def _how(knob: Knob, points: list[tuple[float, list[float]]]) -> str:
    """Say how a cell is worked out."""
    passes = count(sum(len(scores) for _, scores in points), "pass", "passes")
    span = say("{lowest} to {highest}", lowest=knob.bare(points[0][0]), highest=knob.text(points[-1][0]))
    if knob.choices or points[0][0] <= 0.0 or len(points) < FEWEST_FOR_SHAPE:
        return say(
            "between the ends of {span}: {passes} at {points} values, from passes and from how tests of the same settings differ",
            span=span,
            passes=passes,
            points=len(points),
        )
    return say(
        "slope of log score on log setting through {points} means of {passes}, {span}, Huber's fit with a t range",
        points=len(points),
        passes=passes,
        span=span,
    )


def _read(
    benchmark: Workload, knob: Knob, points: list[tuple[float, list[float]]], ends: Gain | None
) -> SensitivityCell:
    if at_cap(points, benchmark.metric.cap):
        return SensitivityCell(say("capped, tells nothing"))
    if len(points) >= FEWEST_FOR_SHAPE and not knob.choices:
        shape = read_curve(points, benchmark.metric.direction, benchmark.metric.cap).shape
        if shape is CurveShape.CAPPED:
            return SensitivityCell(say("runs into a cap"))
    elif meets_cap(points, benchmark.metric.cap):
        return SensitivityCell(say("runs into a cap"))
    if knob.choices or points[0][0] <= 0.0:
        return _switch(ends, points)
    slope = elasticity(points, benchmark.metric.direction)
    if slope is None or slope.settings < FEWEST_FOR_SHAPE:
        slope = _between(ends, points)
    if slope is None:
        return SensitivityCell(str(GainWord.TOO_FEW))
    told_by_ends = slope.settings < FEWEST_FOR_SHAPE or (
        ends is not None and ends.word in (GainWord.GAIN, GainWord.LOSS)
    )
    if slope.low <= 0.0 <= slope.high or not (slope.sure or told_by_ends):
        return SensitivityCell(say("no sign{needed}", needed=_needed(points)), slope.slope, slope.low, slope.high)
    return SensitivityCell(signed(slope.slope), slope.slope, slope.low, slope.high, True)


def _switch(ends: Gain | None, points: list[tuple[float, list[float]]]) -> SensitivityCell:
    if ends is None or ends.word is GainWord.TOO_FEW:
        return SensitivityCell(str(GainWord.TOO_FEW))
    shown = 100.0 * ends.fraction, 100.0 * ends.low, 100.0 * ends.high
    if ends.word is GainWord.WITHIN_NOISE:
        return SensitivityCell(say("no sign{needed}", needed=_needed(points)), *shown)
    return SensitivityCell(gain_words(ends), *shown, True)


def _between(ends: Gain | None, points: list[tuple[float, list[float]]]) -> Elasticity | None:
    """Give the slope between two values alone, with the range that their passes leave."""
    if ends is None or ends.word is GainWord.TOO_FEW:
        return None
    span = math.log(points[-1][0] / points[0][0])
    low, high = sorted(math.log1p(v) / span for v in (ends.low, ends.high))
    return Elasticity(math.log1p(ends.fraction) / span, low, high, 2)


def _needed(points: list[tuple[float, list[float]]]) -> str:
    """Say how many passes at each value would show 1 % between the ends; nothing where these are enough already."""
    told = [s.variation for _, scores in points if (s := spread(scores)) is not None and math.isfinite(s.variation)]
    if not told:
        return ""
    passes = passes_needed(WORTH, max(told))
    if passes <= min(len(scores) for _, scores in points):
        return ""
    return (
        say(" (1 % takes {passes})", passes=count(passes, "pass", "passes"))
        if passes <= MOST_PASSES
        else say(" (too noisy for 1 %)")
    )


def _points(benchmark: Workload, group: Group) -> list[tuple[float, list[float]]]:
    return [
        (s.setup[group.knob.id], [f.score for f in s.figures[benchmark.id]])
        for s in group.settings
        if benchmark.id in s.figures
    ]
