"""One benchmark along one knob for several machines, or one machine under several other settings, and where they cross."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yondle.analysis.crossing import Crossing, Lead, crossing, leads
from yondle.analysis.margins import spread
from yondle.analysis.shapes import FEWEST_FOR_SHAPE
from yondle.language.saying import in_sentence, say, together
from yondle.model.knobs import Knob
from yondle.model.quantities import signed_percent
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Workload
from yondle.views.compare.columns import Books, title
from yondle.views.shared.measured import Group, Setting, Settings, groups_of, held_words, like
from yondle.views.shared.snapshot import Snapshot

MOST_LINES = 8
COST = "cost "
"""Before the id of a sensor: a cost that scores are set against, in the place of a knob."""


@dataclass(frozen=True, slots=True)
class MachinePoint:
    """One value of the knob: the geometric mean of the score, its 95 % range (nan with one pass), and every pass."""

    value: float
    mean: float
    low: float
    high: float
    passes: tuple[float, ...]
    verdict: Verdict
    steps: tuple[int, ...]
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


@dataclass(frozen=True, slots=True)
class MachineLine:
    """One machine under one group of other settings: what tells it from its other groups is in its name, `held` the rest."""

    machine: str
    name: str
    held: str
    points: tuple[MachinePoint, ...]

    @property
    def scores(self) -> list[tuple[float, list[float]]]:
        """The passes by value."""
        return [(p.value, list(p.passes)) for p in self.points]


@dataclass(frozen=True, slots=True)
class Meeting:
    """How another line stands to the first: who leads where, where they cross if they do, and that in a sentence."""

    other: MachineLine
    leads: tuple[Lead, ...]
    crossing: Crossing | None
    sentence: str


@dataclass(frozen=True, slots=True)
class MachinesView:
    """All lines of a benchmark along a knob; the first is what the others are held against."""

    knob: Knob
    benchmark: Workload
    lines: tuple[MachineLine, ...]
    meetings: tuple[Meeting, ...]
    sentence: str

    @property
    def held(self) -> tuple[str, ...]:
        """Say for every machine what all else was."""
        return tuple(dict.fromkeys(f"{line.machine}: {line.held[:1].lower()}{line.held[1:]}." for line in self.lines))


def knobs_shared(books: Books) -> tuple[Knob, ...]:
    """List the knobs of the first logbook that any was measured along, those of most machines first."""
    measured = {
        knob: sum(bool(_groups(book, settings, knob)) for book, settings in books if _same(book, knob) is not None)
        for knob in books[0][0].declaration.knobs
    }
    return tuple(sorted((k for k, n in measured.items() if n), key=lambda k: -measured[k]))


def costs_told(books: Books) -> tuple[Knob, ...]:
    """List what figures of machines elsewhere were told with, as something to set scores against as one does a knob."""
    channels = {c.id: c for book, _ in books if book.elsewhere for c in book.declaration.channels}
    made = []
    for channel in channels.values():
        told = [v for book, settings in books for _, v in _costs(book, settings, channel.id)]
        if len(set(told)) > 1:
            low, high, step = min(told), max(told), 10.0**-channel.digits
            own = [(s, v) for book, settings in books[:1] for s, v in _costs(book, settings, channel.id)]
            stock = next((v for s, v in own if s.setup == books[0][0].declaration.stock), low)
            made.append(
                Knob(
                    COST + channel.id, channel.name, channel.unit, channel.subsystem, low, high, step, stock, channel.digits,
                    stops=tuple(sorted(set(told))),
                )
            )  # fmt: skip
    return tuple(made)


def _costs(book: Snapshot, settings: Settings, channel: str, benchmark: str = "") -> list[tuple[Setting, float]]:
    """Give what settings cost, as the mean of what their figures were told with."""
    found = []
    for setting in settings:
        those = [f for id_, figures in setting.figures.items() if benchmark in ("", id_) for f in figures]
        told = [f.measured.mean[channel] for f in those if channel in f.measured.mean]
        if told and book.elsewhere:
            found.append((setting, sum(told) / len(told)))
    return found


def _against(books: Books, cost: Knob, benchmark: Workload) -> MachinesView:
    """Set the scores of machines elsewhere against a cost that was told with them."""
    lines = []
    for book, settings in books:
        own = like(book.declaration, benchmark)
        points = []
        for setting, told in _costs(book, settings, cost.id.removeprefix(COST), own.id) if own is not None else ():
            scores = [f.score for f in setting.figures[own.id]] if own is not None else []
            summed = spread(scores)
            if summed is not None:
                points.append(
                    MachinePoint(
                        told, summed.mean, summed.low, summed.high, tuple(scores), setting.verdict, setting.steps,
                        setting.recorded,
                    )
                )  # fmt: skip
        if len(points) > 1:
            name = title(book)
            every = tuple(sorted(points, key=lambda p: p.value))
            lines.append(MachineLine(name, name, say("every setting that was told with it"), every))
    sentence = say(
        "{benchmark} against {cost}, as they were told together.", benchmark=benchmark.name, cost=in_sentence(cost.name)
    )
    return MachinesView(cost, benchmark, tuple(lines[:MOST_LINES]), (), sentence)


def machines(books: Books, knob: Knob, benchmark: Workload) -> MachinesView:
    """Give the lines of the first logbook and of others; groups of four values or more, or else the best there is."""
    if knob.id.startswith(COST):
        return _against(books, knob, benchmark)
    names = [title(book) for book, _ in books]
    found: list[MachineLine] = []
    for name, (book, settings) in zip(names, books, strict=True):
        own = _same(book, knob)
        if own is None:
            continue
        groups = [g for g in _groups(book, settings, own) if len(_scores(g, book, benchmark)) > 1]
        full = [g for g in groups if len(_scores(g, book, benchmark)) >= FEWEST_FOR_SHAPE]
        kept = full or groups[:1]
        differing = _differing(kept)
        found += [_line(name, book, group, benchmark, differing) for group in kept]
    lines = tuple(found[:MOST_LINES])
    meetings = tuple(_meeting(lines[0], other, knob, benchmark) for other in lines[1:])
    return MachinesView(knob, benchmark, lines, meetings, _sentence(knob, benchmark, lines, meetings))


def _same(book: Snapshot, knob: Knob) -> Knob | None:
    """Find a knob of another machine that means the same."""
    return next(
        (k for k in book.declaration.knobs if (k.id, k.unit, k.choices) == (knob.id, knob.unit, knob.choices)), None
    )


def _groups(book: Snapshot, settings: Settings, knob: Knob) -> tuple[Group, ...]:
    return groups_of(settings, knob, book.in_force)


def _scores(group: Group, book: Snapshot, benchmark: Workload) -> list[tuple[Setting, list[float]]]:
    own = like(book.declaration, benchmark)
    if own is None:
        return []
    return [(s, [f.score for f in s.figures[own.id]]) for s in group.settings if own.id in s.figures]


def _differing(groups: Sequence[Group]) -> frozenset[str]:
    """Give the knobs in which groups of one machine differ, besides the one that varies in each."""
    setups = [dict(g.settings[0].setup.items_) for g in groups]
    known = {knob for setup in setups for knob in setup if knob != groups[0].knob.id}
    return frozenset(knob for knob in known if len({setup.get(knob) for setup in setups}) > 1)


def _line(name: str, book: Snapshot, group: Group, benchmark: Workload, differing: frozenset[str]) -> MachineLine:
    points = []
    for setting, scores in _scores(group, book, benchmark):
        if (told := spread(scores)) is not None:
            value = setting.setup[group.knob.id]
            points.append(
                MachinePoint(
                    value,
                    told.mean,
                    told.low,
                    told.high,
                    tuple(scores),
                    setting.verdict,
                    setting.steps,
                    setting.recorded,
                )
            )
    setup = group.settings[0].setup
    words = ", ".join(k.text(setup[k.id]) for k in book.declaration.knobs if k.id in differing)
    held = held_words(book.declaration, setup, group.knob.id, *differing)
    return MachineLine(name, f"{name} · {words}" if words else name, held, tuple(points))


def _meeting(first: MachineLine, other: MachineLine, knob: Knob, benchmark: Workload) -> Meeting:
    direction = benchmark.metric.direction
    told = leads(first.scores, other.scores, direction)
    meet = crossing(first.scores, other.scores, direction)
    return Meeting(other, told, meet, _words(first, other, told, meet, knob))


def _words(first: MachineLine, other: MachineLine, told: tuple[Lead, ...], meet: Crossing | None, knob: Knob) -> str:
    if not told:
        return say(
            "{first} and {other} share too little to be compared: it takes four values of {knob} each.",
            first=first.name,
            other=other.name,
            knob=in_sentence(knob.name),
        )
    if meet is not None:
        below, above = (first, other) if meet.first_below else (other, first)
        at, low, high = (knob.nearest(v) for v in (meet.at, meet.low, meet.high))
        return say(
            "{below} is better below {at}, {above} above (the crossing lies between {low} and {high}).",
            below=below.name,
            at=knob.text(at),
            above=above.name,
            low=knob.bare(low),
            high=knob.text(high),
        )
    sure = [lead for lead in told if lead.ahead]
    if not sure:
        return say("No sign that {first} and {other} differ.", first=first.name, other=other.name)
    ahead, behind = (first, other) if sure[0].ahead > 0 else (other, first)
    spans = together(
        say(
            "from {from_} to {to}",
            from_=knob.bare(knob.nearest(s.low)),
            to=knob.text(knob.nearest(s.high)),
        )
        for s in sure
    )
    gaps = [s.gap if sure[0].ahead > 0 else 1.0 / (1.0 + s.gap) - 1.0 for s in sure]
    by = signed_percent(sum(gaps) / len(gaps))
    rest = "" if len(sure) == len(told) else say("; no sign of a difference elsewhere")
    return say(
        "{ahead} is ahead of {behind} {spans}, by {by} on average{rest}.",
        ahead=ahead.name,
        behind=behind.name,
        spans=spans,
        by=by,
        rest=rest,
    )


def _sentence(knob: Knob, benchmark: Workload, lines: tuple[MachineLine, ...], meetings: tuple[Meeting, ...]) -> str:
    along = say("{benchmark} along {knob}", benchmark=benchmark.name, knob=in_sentence(knob.name))
    if not lines:
        return say("{along} isn't measured at two values anywhere: sweep it, or choose another.", along=along)
    if not meetings:
        return say(
            "{along}: only {lines} is measured. Tick a column of another logbook, or test it under other settings.",
            along=along,
            lines=lines[0].name,
        )
    crossed = sum(m.crossing is not None for m in meetings)
    if crossed:
        return next(m.sentence for m in meetings if m.crossing is not None)
    return meetings[0].sentence
