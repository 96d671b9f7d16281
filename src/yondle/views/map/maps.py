"""Two knobs together: gains at every pair of values, a surface where the points support one, the edge, and what is left over."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from yondle.analysis.levels import Levels
from yondle.analysis.margins import Gain, GainWord
from yondle.analysis.scaling import Interaction
from yondle.analysis.surface import Surface, fit_surface
from yondle.language.saying import capital, in_sentence, later, named, say
from yondle.model.knobs import Knob, Risk
from yondle.model.quantities import number, signed_percent
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Workload
from yondle.views.shared.gains import gain_words, how_gained, told_words
from yondle.views.shared.leveled import family_of, levels_of
from yondle.views.shared.measured import Setting, Settings, held_words
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class MapPoint:
    """One pair of values: the gain over the baseline (None without figures), how many passes, the verdict, and its steps."""

    x: float
    y: float
    gain: Gain | None
    passes: int
    verdict: Verdict
    steps: tuple[int, ...]
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


@dataclass(frozen=True, slots=True)
class TwoByTwo:
    """What two changes bring alone and together from one corner, and what that leaves over."""

    low: tuple[float, float]
    high: tuple[float, float]
    first: Gain
    second: Gain
    both: Gain
    left_over: Interaction


@dataclass(frozen=True, slots=True)
class MapView:
    """Two knobs for one benchmark with all else held; `edge` are pairs between what held and what failed, in order of y."""

    across: Knob
    up: Knob
    benchmark: Workload
    points: tuple[MapPoint, ...]
    surface: Surface | None
    edge: tuple[tuple[float, float], ...]
    table: TwoByTwo | None
    held: str
    sentence: str


def pairs_measured(book: Snapshot, settings: Settings) -> tuple[tuple[Knob, Knob], ...]:
    """List the pairs of knobs of which both vary with all else the same, those with most settings first."""
    found: list[tuple[int, Knob, Knob]] = []
    varying = [k for k in book.declaration.knobs if len({s.setup.get(k.id) for s in settings}) > 1]
    for one, other in combinations(varying, 2):
        group = _group(settings, one, other, book)
        if len({s.setup[one.id] for s in group}) > 1 and len({s.setup[other.id] for s in group}) > 1:
            found.append((len(group), one, other))
    return tuple((one, other) for _, one, other in sorted(found, key=lambda each: -each[0]))


def map_of(book: Snapshot, settings: Settings, across: Knob, up: Knob, benchmark: Workload) -> MapView:
    """Give the map of two knobs in the group of settings that holds most pairs of them."""
    group = _group(settings, across, up, book)
    base = book.baseline_step
    levels = levels_of(book, benchmark)
    points = tuple(
        MapPoint(
            s.setup[across.id],
            s.setup[up.id],
            _gain(levels, s, base, benchmark),
            len(s.figures.get(benchmark.id, ())),
            s.verdict,
            s.steps,
            s.recorded,
        )
        for s in group
    )
    table = _two_by_two(group, across, up, benchmark, levels, family_of(book))
    surface = _surface(points, across, up)
    held = held_words(book.declaration, group[0].setup, across.id, up.id) if group else ""
    sentence = _sentence(across, up, benchmark, points, table)
    return MapView(across, up, benchmark, points, surface, _edge(points, across, up), table, held, sentence)


def _gain(levels: Levels, setting: Setting, base: StepRecord | None, benchmark: Workload) -> Gain | None:
    """Give what a setting gains over the baseline, which gains nothing over itself."""
    passes = len(setting.figures.get(benchmark.id, ()))
    if base is None or not passes:
        return None
    if setting.setup == base.step.setup:
        return Gain(passes, passes, 0.0, 0.0, 0.0, GainWord.WITHIN_NOISE)
    return levels.gain(setting.setup, base.step.setup)


def _group(settings: Settings, one: Knob, other: Knob, book: Snapshot) -> list[Setting]:
    """Give the settings that differ in two knobs alone: the largest such group, the present one where it is as large."""
    parts: dict[frozenset[tuple[str, float]], list[Setting]] = {}
    for setting in settings:
        if one.id in setting.setup and other.id in setting.setup:
            parts.setdefault(_others(setting.setup.items_, one, other), []).append(setting)
    now = _others(book.in_force.items_, one, other)
    best = max(parts.items(), key=lambda part: (_spread_of(part[1], one, other), part[0] == now), default=None)
    return best[1] if best is not None else []


def _spread_of(settings: list[Setting], one: Knob, other: Knob) -> int:
    """Count the settings of a group, none where only one of the knobs varies."""
    varied = all(len({s.setup[k.id] for s in settings}) > 1 for k in (one, other))
    return len(settings) if varied else 0


def _others(items: tuple[tuple[str, float], ...], one: Knob, other: Knob) -> frozenset[tuple[str, float]]:
    return frozenset(pair for pair in items if pair[0] not in (one.id, other.id))


def _surface(points: tuple[MapPoint, ...], across: Knob, up: Knob) -> Surface | None:
    """Fit a surface through the gains, where both knobs have an order to fit along."""
    if across.choices or up.choices:
        return None
    known = [(p.x, p.y, 100.0 * p.gain.fraction) for p in points if p.gain is not None]
    return fit_surface(np.array(known, dtype=np.float64).reshape(-1, 3))


def _edge(points: tuple[MapPoint, ...], across: Knob, up: Knob) -> tuple[tuple[float, float], ...]:
    """For every value of the knob upward, the middle between the riskiest value across that held and the next that failed."""
    if across.risk is Risk.NONE:
        return ()
    sign = 1.0 if across.risk is Risk.UP else -1.0
    edge = []
    for y in sorted({p.y for p in points}):
        held = [sign * p.x for p in points if p.y == y and p.verdict is Verdict.HELD]
        failed = [sign * p.x for p in points if p.y == y and p.verdict in (Verdict.DOWN, Verdict.WRONG)]
        beyond = [x for x in failed if not held or x > max(held)]
        if held and beyond:
            edge.append((sign * (max(held) + min(beyond)) / 2.0, y))
    return tuple(edge)


def _two_by_two(
    group: list[Setting], across: Knob, up: Knob, benchmark: Workload, levels: Levels, family: int
) -> TwoByTwo | None:
    """Take the widest rectangle whose four corners are measured."""
    setups = {(s.setup[across.id], s.setup[up.id]): s.setup for s in group if benchmark.id in s.figures}
    xs, ys = (sorted({pair[i] for pair in setups}) for i in (0, 1))
    corners = [
        (low, high)
        for low in setups
        for high in setups
        if high[0] > low[0] and high[1] > low[1] and (low[0], high[1]) in setups and (high[0], low[1]) in setups
    ]
    if not corners:
        return None
    wide, tall = xs[-1] - xs[0], ys[-1] - ys[0]
    low, high = max(corners, key=lambda c: (c[1][0] - c[0][0]) / wide * (c[1][1] - c[0][1]) / tall)
    neither, both = setups[low], setups[high]
    first, second = setups[high[0], low[1]], setups[low[0], high[1]]
    over = levels.contrast({both: 1.0, first: -1.0, second: -1.0, neither: 1.0})
    alone, other, together = (levels.gain(setup, neither) for setup in (first, second, both))
    if over is None or alone is None or other is None or together is None:
        return None
    told = over.gain(family=family)
    left_over = Interaction(told.fraction, told.low, told.high, told.sure)
    return TwoByTwo(low, high, alone, other, together, left_over)


def _sentence(across: Knob, up: Knob, benchmark: Workload, points: tuple[MapPoint, ...], table: TwoByTwo | None) -> str:
    told = (Verdict.HELD, Verdict.UNPROVEN)
    known = [
        p for p in points if p.gain is not None and (p.verdict is Verdict.HELD or (p.recorded and p.verdict in told))
    ]
    if not known:
        return say(
            "{benchmark} has no figures at any pair of {across} and {up}.",
            benchmark=benchmark.name,
            across=in_sentence(across.name),
            up=in_sentence(up.name),
        )
    best = max(known, key=lambda p: p.gain.fraction if p.gain is not None else -math.inf)
    words = say(
        "{benchmark} is best at {x} and {y}: {told}.",
        benchmark=benchmark.name,
        x=across.text(best.x),
        y=up.text(best.y),
        told=told_words(best.gain),
    )
    if table is None:
        return say(
            "{words} Together or apart can't be told yet: it takes all four corners, two passes each.", words=words
        )
    over = table.left_over
    low, high = number(100 * over.low, 1), number(100 * over.high, 1)
    return say(
        "{words} {together}: {fraction} left over ({low} to {high}).",
        words=words,
        together=capital(over.words),
        fraction=signed_percent(over.fraction),
        low=low,
        high=high,
    )


_LEFT_OVER = later(
    "What both bring together over what each brings alone, multiplied; its range from the passes at all four corners and "
    "from how tests of the same settings differ."
)


def table_rows(view: MapView) -> tuple[tuple[str, str, str], ...]:
    """Write the two-by-two table: each change alone, both, and what is left over, each with how it was worked out."""
    table = view.table
    if table is None:
        return ()
    (x0, y0), (x1, y1) = table.low, table.high
    over = table.left_over
    half = (over.high - over.low) / 2.0
    across = say(
        "{across} {x0} to {x1} alone", across=view.across.name, x0=view.across.bare(x0), x1=view.across.text(x1)
    )
    up = say("{up} {y0} to {y1} alone", up=view.up.name, y0=view.up.bare(y0), y1=view.up.text(y1))
    gains = ((across, table.first), (up, table.second), (say("both"), table.both))
    return (
        *((name, gain_words(told), how_gained(told)) for name, told in gains),
        (say("left over"), f"{signed_percent(over.fraction)} ± {number(100 * half, 1)}", named(_LEFT_OVER)),
    )
