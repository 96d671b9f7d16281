"""Several columns side by side: every benchmark with its gain, margin and possible ranks, and the means of groups."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yondle.analysis.caps import at_cap
from yondle.analysis.efficiency import power_channel
from yondle.analysis.group import GroupGain, group_gain
from yondle.analysis.levels import Difference, Levels
from yondle.analysis.margins import Gain, GainWord, Spread, spread
from yondle.analysis.ranking import Rank, ranks
from yondle.language.saying import later, named, say
from yondle.model.knobs import Subsystem
from yondle.model.pacing import LOW
from yondle.model.quantities import THIN, count, digits_for, figure, number, ranged, signed_percent, with_unit
from yondle.model.sensors import Channel, Quantity
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction, Workload
from yondle.views.compare.columns import Column
from yondle.views.shared.gains import drawn_words, gain_words, lows_words
from yondle.views.shared.leveled import SCORE, Of, Place, levels_across
from yondle.views.shared.measured import single_words, unknown_words, unlike_words
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.steps import word_of


@dataclass(frozen=True, slots=True)
class ComparedCell:
    """A benchmark in one column: its passes with their spread, the gain over the column compared with, the places it may hold.

    `gain` is None in the column compared with, and `difference` is what it is of, for this cell alone; `lows` is the gain in
    the mean rate of the slowest 1 % of frames.
    """

    scores: tuple[float, ...]
    spread: Spread
    gain: Gain | None
    difference: Difference | None
    lows: Gain | None
    rank: Rank | None
    capped: bool


@dataclass(frozen=True, slots=True)
class Row:
    """A benchmark across the columns."""

    benchmark: Workload
    cells: tuple[ComparedCell | None, ...]
    caveat: str = ""


@dataclass(frozen=True, slots=True)
class RowGroup:
    """Benchmarks of one part of the machine, and the geometric mean of their gains in every column."""

    name: str
    rows: tuple[Row, ...]
    means: tuple[GroupGain | None, ...]


@dataclass(frozen=True, slots=True)
class CompareView:
    """The whole table. `against` is the place of the column compared with; `means` are over all benchmarks."""

    columns: tuple[Column, ...]
    against: int
    groups: tuple[RowGroup, ...]
    means: tuple[GroupGain | None, ...]
    sentence: str
    caveats: tuple[str, ...]
    dearer: tuple[float | None, ...]
    """By how much every column costs more than the one compared with; None where that isn't told."""

    @property
    def rows(self) -> tuple[Row, ...]:
        """Every row, group by group."""
        return tuple(row for group in self.groups for row in group.rows)


def compare(columns: Sequence[Column], against: int = 0, prices: Mapping[str, float] | None = None) -> CompareView:
    """Compare columns with one of them; `prices` are what columns cost, by their addresses.

    The ranges of a row hold for all its columns together, so with more columns they are wider than on the trail.
    """
    return at_once(compare_in_pieces(columns, against, prices))


def compare_in_pieces(
    columns: Sequence[Column], against: int = 0, prices: Mapping[str, float] | None = None
) -> Pieces[CompareView]:
    """Compare like `compare`, with a pause after each benchmark."""
    columns = tuple(columns)
    against = min(max(against, 0), max(len(columns) - 1, 0))
    groups: dict[str, list[Row]] = {}
    for benchmark in _benchmarks(columns):
        row = _row(benchmark, columns, against)
        if any(cell is not None for cell in row.cells):
            groups.setdefault(group_name(benchmark), []).append(row)
        yield
    order = [named(each) for each in (*_PARTS, TYPED_IN)]
    made = tuple(
        RowGroup(name, tuple(rows), _means(rows, columns, against))
        for name, rows in sorted(
            groups.items(), key=lambda item: order.index(item[0]) if item[0] in order else len(order)
        )
    )
    means = _means([row for group in made for row in group.rows], columns, against)
    sentence = _sentence(columns, against, made, means)
    dearer = _dearer(columns, against, prices or {})
    return CompareView(columns, against, made, means, sentence, _caveats(columns), dearer)


TYPED_IN, POWER = later("typed in"), "power"
_PARTS = (Subsystem.PROCESSOR, Subsystem.MEMORY, Subsystem.GRAPHICS, Subsystem.STORAGE, Subsystem.WHOLE)


def group_name(benchmark: Workload) -> str:
    """Name the group a benchmark stands in: the part of the machine it is for, or that it was typed in."""
    return named(TYPED_IN if benchmark.by_hand and not benchmark.grouped else benchmark.subsystem)


def cell_words(cell: ComparedCell | None, benchmark: Workload, against: bool) -> str:
    """Write a cell: the gain, or the score in the column compared with."""
    if cell is None:
        return ""
    if against:
        return score_words(cell, benchmark)
    if cell.capped:
        return say("at its cap")
    if 0.0 in cell.scores:
        return score_words(cell, benchmark)
    return gain_words(cell.gain) or say("nothing to compare with")


def score_words(cell: ComparedCell, benchmark: Workload) -> str:
    """Write the mean score with half its 95 % range and its unit."""
    told, metric = cell.spread, benchmark.metric
    return ranged(told.mean, told.low, told.high, metric.unit, metric.digits)


def rank_words(cell: ComparedCell | None) -> str:
    """Write the places a column may hold: '1', or '2–4' where passes don't tell them apart."""
    if cell is None or cell.rank is None:
        return ""
    first, last = cell.rank.first, cell.rank.last
    return str(first) if first == last else f"{first}–{last}"


def mean_words(value: GroupGain | None) -> str:
    """Write the mean of several gains: of these benchmarks, with the noise of their passes."""
    return gain_words(value.these) if value is not None else ""


def ordered(view: CompareView, by: int | None, rising: bool) -> tuple[tuple[str, tuple[Row, ...]], ...]:
    """Give the groups with their rows in the order of one column's gain; as they are listed with None."""

    def key(row: Row) -> float:
        cell = row.cells[by] if by is not None else None
        told = cell.gain if cell is not None else None
        if told is None:
            return math.inf
        return told.fraction if rising else -told.fraction

    return tuple((g.name, tuple(sorted(g.rows, key=key)) if by is not None else g.rows) for g in view.groups)


def best_first(view: CompareView) -> tuple[int, ...]:
    """Give the places of the columns in the order of their means, the one compared with first."""
    others = [i for i in range(len(view.columns)) if i != view.against]
    others.sort(key=lambda i: -(view.means[i].these.fraction if view.means[i] is not None else -math.inf))  # type: ignore[union-attr]
    return (view.against, *others)


def _benchmarks(columns: tuple[Column, ...]) -> list[Workload]:
    """List what any column has, once; the same name in another unit is another benchmark."""
    found: dict[tuple[str, str, Direction], Workload] = {}
    for column in columns:
        for each in column.declaration.workloads:
            if each.id in column.setting.figures:
                found.setdefault((each.name, each.metric.unit, each.metric.direction), each)
    return list(found.values())


def _dearer(columns: tuple[Column, ...], against: int, prices: Mapping[str, float]) -> tuple[float | None, ...]:
    if not columns:
        return ()
    base = prices.get(columns[against].address, 0.0)
    return tuple(prices[c.address] - base if c.address in prices else None for c in columns)


def price_words(more: float | None, told: Gain | None) -> str:
    """Say what each +1 % of a gain costs, with its range; nothing where there is no price or no sure gain."""
    if more is None or told is None or told.word is not GainWord.GAIN:
        return ""
    each, low, high = (more / (100.0 * v) for v in (told.fraction, told.high, told.low))
    digits = digits_for((high - low) / 2.0)
    return say(
        "{each} ({low} to {high})", each=number(each, digits), low=number(low, digits), high=number(high, digits)
    )


def _row(benchmark: Workload, columns: tuple[Column, ...], against: int) -> Row:
    sides = [[f.score for f in column.figures(benchmark)] for column in columns]
    compared = max(sum(bool(side) for side in sides) - 1, 1)
    levels, at = _levels(benchmark, columns, SCORE)
    lows = _levels(benchmark, columns, Of(LOW))[0] if any(_parts_of(c, benchmark, LOW) for c in columns) else None
    places = ranks([place if side else None for place, side in zip(at, sides, strict=True)], levels)
    cells: list[ComparedCell | None] = []
    for i, side in enumerate(sides):
        told = spread(side)
        if told is None:
            cells.append(None)
            continue
        ratio = 0.0 not in side and 0.0 not in sides[against]
        over = levels.difference(at[i], at[against]) if ratio else None
        other = over.gain(compared) if over is not None else levels.gain(at[i], at[against]) if ratio else None
        capped = at_cap([(0.0, side)], benchmark.metric.cap)
        capped = capped and (i == against or at_cap([(0.0, sides[against])], benchmark.metric.cap))
        low = lows.gain(at[i], at[against], compared) if lows is not None else None
        cells.append(ComparedCell(tuple(side), told, other, over, low, places[i], capped))
    return Row(benchmark, tuple(cells), _preset_caveat(benchmark, columns))


def _levels(benchmark: Workload, columns: tuple[Column, ...], of: Of) -> tuple[Levels, list[Place | str]]:
    """Give the levels of a benchmark out of everything the columns' logbooks have measured, and where each column stands in them.

    What was measured at a column's settings counts to it, unless another column has the same settings: then each has the
    passes of its own step alone.
    """
    books = {c.book.path: c.book for c in columns if c.book is not None}
    setups = Counter((c.book.path, c.setting.setup) for c in columns if c.book is not None)
    places: list[Place | str] = []
    for column in columns:
        if column.book is None:
            places.append(column.address)
        elif column.step is not None and setups[column.book.path, column.setting.setup] > 1:
            places.append((column.book.path, column.step.step.number))
        else:
            places.append((column.book.path, column.setting.setup))
    apart = frozenset(place for place in places if not isinstance(place, str) and isinstance(place[1], int))
    typed = tuple(
        (c.address, tuple(f.score for f in c.figures(benchmark))) for c in columns if c.book is None and of == SCORE
    )
    return levels_across(list(books.values()), benchmark, of, apart, typed), places


def details(view: CompareView, row: Row) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Write what a row expands to, a name and a word for every column: places, prices, lows, sub-scores, costs, passes."""
    benchmark, cells, columns = row.benchmark, row.cells, view.columns
    unit, digits = benchmark.metric.unit, benchmark.metric.digits
    lines: list[tuple[str, tuple[str, ...]]] = [(say("place"), tuple(rank_words(cell) for cell in cells))]
    paid = tuple(price_words(more, c.gain if c else None) for more, c in zip(view.dearer, cells, strict=True))
    if any(paid):
        lines.append((say("price of each +1\u202f%"), paid))
    means = tuple(score_words(c, benchmark).removesuffix(f"{THIN}{unit}") if c else "" for c in cells)
    lines.append((say("mean, {unit}", unit=unit), means))
    lows = [_parts_of(column, benchmark, LOW) for column in columns]
    if any(lows):
        words = [
            _with_lows(_mean_words(side, digits), cell.lows if cell else None, len(side) * benchmark.pass_s)
            for side, cell in zip(lows, cells, strict=True)
        ]
        lines.append((f"{named(LOW)}, {unit}", tuple(words)))
    for name in _parts(benchmark, columns):
        each = [_parts_of(column, benchmark, name) for column in columns]
        base = each[view.against]
        lines.append((named(name), tuple(_with_change(side, base, digits) for side in each)))
    lines += _costs(benchmark, columns)
    for i in range(max((len(c.scores) for c in cells if c is not None), default=0)):
        words = [number(c.scores[i], digits) if c is not None and i < len(c.scores) else "" for c in cells]
        lines.append((say("pass {i}", i=i + 1), tuple(words)))
    return tuple(lines)


def _with_lows(words: str, told: Gain | None, seconds: float) -> str:
    return f"{words} · {lows_words(told, seconds)}" if words and told is not None else words


def _with_change(values: list[float], base: list[float], digits: int) -> str:
    """Write a mean with how far it is from another, in %; which way is better isn't known of a sub-score."""
    words = _mean_words(values, digits)
    if values is base or not values or not base or sum(base) == 0.0:
        return words
    change = (sum(values) / len(values)) / (sum(base) / len(base)) - 1.0
    return f"{words} · {signed_percent(change)}"


def _parts(benchmark: Workload, columns: tuple[Column, ...]) -> list[str]:
    names = {name: None for column in columns for figure in column.figures(benchmark) for name in figure.measured.parts}
    return [name for name in names if name != LOW]


def _costs(benchmark: Workload, columns: tuple[Column, ...]) -> list[tuple[str, tuple[str, ...]]]:
    """Write mean power and the hottest sensor of the passes, where anything read them."""
    watts, hottest = [], []
    for column in columns:
        power = power_channel(column.declaration)
        watts.append(_mean_words(_means_of(column, benchmark, power), 1) if power is not None else "")
        hot = [c.id for c in column.declaration.read_ever if c.quantity is Quantity.TEMPERATURE]
        most = [f.measured.most[c] for c in hot for f in column.figures(benchmark) if c in f.measured.most]
        hottest.append(figure(max(most), "°C", 1) if most else "")
    named = ((say("mean power, W"), watts), (with_unit(say("hottest sensor"), "°C"), hottest))
    return [(name, tuple(words)) for name, words in named if any(words)]


def _parts_of(column: Column, benchmark: Workload, name: str) -> list[float]:
    return [f.measured.parts[name] for f in column.figures(benchmark) if name in f.measured.parts]


def _means_of(column: Column, benchmark: Workload, channel: Channel) -> list[float]:
    return [f.measured.mean[channel.id] for f in column.figures(benchmark) if channel.id in f.measured.mean]


def _mean_words(values: list[float], digits: int) -> str:
    return number(sum(values) / len(values), digits) if values else ""


def _preset_caveat(benchmark: Workload, columns: tuple[Column, ...]) -> str:
    """Say where figures of one benchmark were measured with another preset or passage."""
    told = []
    for what in ("preset", "passage"):
        values = {str(f.measured.told.get(what, "")) for column in columns for f in column.figures(benchmark)}
        if len(values) > 1:
            told.append(f"{what} {' / '.join(sorted(v or say('not told') for v in values))}")
    return say("not measured alike: {told}", told=", ".join(told)) if told else ""


def _means(rows: list[Row], columns: tuple[Column, ...], against: int) -> tuple[GroupGain | None, ...]:
    """Give the geometric mean of the gains in every column, over what both have and neither is capped at."""
    return tuple(None if i == against else _mean(rows, i, against) for i in range(len(columns)))


def _mean(rows: list[Row], column: int, against: int) -> GroupGain | None:
    pairs = [(row.cells[column], row.cells[against]) for row in rows if not row.caveat]
    there = [cell for cell, base in pairs if cell is not None and base is not None and not cell.capped]
    told = group_gain([cell.difference for cell in there if cell.difference is not None])
    if told is not None:
        return told
    logs = [math.log1p(cell.gain.fraction) for cell in there if cell.gain is not None]
    if not logs:
        return None
    fraction = math.expm1(sum(logs) / len(logs))
    single = all(cell.gain.told for cell in there if cell.gain is not None)
    return GroupGain(len(logs), Gain(1, 1, fraction, math.nan, math.nan, GainWord.TOO_FEW, told=single), None)


def _sentence(
    columns: tuple[Column, ...], against: int, groups: tuple[RowGroup, ...], means: tuple[GroupGain | None, ...]
) -> str:
    if not columns:
        return say("Nothing is chosen to compare.")
    if not groups:
        return say("None of these has any figures yet.")
    base = columns[against].name
    if len(columns) == 1:
        return say("{base} stands alone: choose something to compare it with.", base=base)
    known = [(m, i) for i, m in enumerate(means) if m is not None]
    if not known:
        return say("Nothing else here was measured in what {base} was.", base=base)
    best, at = max(known, key=lambda pair: pair[0].these.fraction)
    rows = [row for group in groups for row in group.rows]
    shared = [(row.cells[at], row.benchmark) for row in rows if row.cells[at] is not None]
    sure = [
        (cell.gain, b) for cell, b in shared if cell is not None and cell.gain is not None and cell.gain.word in _SURE
    ]
    better = sorted((pair for pair in sure if pair[0].word is GainWord.GAIN), key=lambda pair: -pair[0].fraction)
    worse = sorted((pair for pair in sure if pair[0].word is GainWord.LOSS), key=lambda pair: pair[0].fraction)
    name = columns[at].name
    parts = [say("{name} against {base}: {mean} over these benchmarks.", name=name, base=base, mean=mean_words(best))]
    drawn = drawn_words(best)
    if drawn:
        parts.append(say("Were they drawn at random from others of their kind: {drawn}.", drawn=drawn))
    if better:
        most = f"{better[0][1].name} {gain_words(better[0][0])}"
        parts.append(
            say(
                "Better for sure in {benchmarks}, most in {most}.",
                benchmarks=count(len(better), "benchmark"),
                most=most,
            )
        )
    if worse:
        parts.append(
            say(
                "Worse for sure in {benchmarks}, most in {worse} {gain}.",
                benchmarks=count(len(worse), "benchmark"),
                worse=worse[0][1].name,
                gain=gain_words(worse[0][0]),
            )
        )
    if not sure:
        parts.append(say("No benchmark tells them apart."))
    return " ".join(parts)


_SURE = (GainWord.GAIN, GainWord.LOSS)


def _caveats(columns: tuple[Column, ...]) -> tuple[str, ...]:
    """Say what the columns don't share, and what hasn't held."""
    rigs = {column.rig for column in columns if column.step is not None}
    parts = frozenset(name for column in columns for name in column.declaration.info.facts) - {POWER}
    unlike = unlike_words([column.setting for column in columns], parts if len(rigs) > 1 else frozenset())
    caveats = [unlike] if unlike else []
    for rig in sorted(rigs):
        own = [column for column in columns if column.rig == rig and column.step is not None]
        caveats += [words] if (words := unknown_words(own[0].declaration, [c.setting for c in own])) else []
    names = {w.id: w.name for column in columns if column.step is not None for w in column.declaration.benchmarks}
    single = single_words([column.setting for column in columns], names)
    caveats += [single] if single else []
    typed = [c.name for c in columns if c.step is None]
    if typed:
        caveats.append(say("Typed in, so not measured under the same conditions: {typed}.", typed=", ".join(typed)))
    failed = [
        f"{c.name} ({word_of(c.step)})" for c in columns if c.step is not None and c.step.verdict is not Verdict.HELD
    ]
    if failed:
        caveats.append(say("Not held: {failed}.", failed=", ".join(failed)))
    return tuple(caveats)
