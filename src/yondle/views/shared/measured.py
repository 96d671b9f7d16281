"""What was measured at every setting, gathered once, and the settings that differ in one knob alone."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from yondle.language.saying import CONDITION, in_sentence, listed, named, say
from yondle.model.knobs import Knob, Setup
from yondle.model.measured import Measured
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Attempt, PassRecord, StepRecord
from yondle.model.verdicts import SAYS_NOTHING, Outcome, Verdict
from yondle.model.workloads import Workload
from yondle.views.shared.rooms import ROOM
from yondle.views.shared.snapshot import Snapshot

_OWN = ("asked because", ROOM)
"""Conditions that differ from test to test and make no two of them incomparable."""


@dataclass(frozen=True, slots=True)
class Figure:
    """One pass that counts: its score and when it began, with what was measured beside it."""

    score: float
    started_s: float
    measured: Measured
    told: bool = False
    """Whether it was told, and not measured by Yondle."""


@dataclass(frozen=True, slots=True)
class Setting:
    """All that was measured at one setup: passes by benchmark, the steps, the latest verdict, how it failed if it did.

    Passes of 0, of which nothing is a ratio, are apart in `zeros`.
    """

    setup: Setup
    figures: dict[str, tuple[Figure, ...]]
    steps: tuple[int, ...]
    verdict: Verdict
    failure: Outcome | None
    conditions: frozenset[tuple[str, str]]
    zeros: dict[str, tuple[Figure, ...]] = field(default_factory=dict)
    unknown: frozenset[str] = frozenset()
    """Knobs that came to the machine since some of it was measured, which are taken to have been as they were found."""
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""


Settings = tuple[Setting, ...]


@dataclass(frozen=True, slots=True)
class Group:
    """Settings that differ in one knob alone, by its value; `here` where all else is as it is now."""

    knob: Knob
    settings: tuple[Setting, ...]
    here: bool

    @property
    def values(self) -> tuple[float, ...]:
        """The values of the knob with figures."""
        return tuple(s.setup[self.knob.id] for s in self.settings if s.figures)


def settings_of(book: Snapshot) -> Settings:
    """Gather the steps by their setup, in the order they were first tested."""
    gathered: dict[Setup, list[StepRecord]] = {}
    compared: dict[Setup, list[PassRecord]] = {}
    for record in book.steps:
        if record.attempts:
            gathered.setdefault(record.step.setup, []).append(record)
        for attempt in record.attempts:
            if attempt.home is not None and attempt.compared:
                compared.setdefault(attempt.home, []).extend(attempt.compared)
    return tuple(setting_of(setup, records, compared.get(setup, ())) for setup, records in gathered.items())


def setting_of(setup: Setup, records: list[StepRecord], compared: Sequence[PassRecord] = ()) -> Setting:
    """Gather what steps of one setup have measured, and what was `compared` with it by others that took turns with it."""
    attempts = [attempt for record in records for attempt in record.attempts]
    figures: dict[str, list[Figure]] = {}
    zeros: dict[str, list[Figure]] = {}
    for made in (*(p for attempt in attempts for p in attempt.passes), *compared):
        result = made.result
        if made.counts and result is not None and result.score is not None and result.score >= 0.0:
            (figures if result.score else zeros).setdefault(made.workload, []).append(
                Figure(result.score, made.started_s, result.measured)
            )
    for record in records:
        for added in (a for a in record.added if not a.discarded):
            (figures if added.score else zeros).setdefault(added.workload, []).append(
                Figure(added.score, 0.0, added.measured, told=True)
            )
    outcomes = [a.outcome for a in attempts if a.outcome is not None and a.outcome.failure not in SAYS_NOTHING]
    failed = [o for o in outcomes if o.failure is not None]
    return Setting(
        setup,
        {name: tuple(those) for name, those in figures.items()},
        tuple(record.step.number for record in records),
        records[-1].verdict,
        failed[-1] if failed else None,
        frozenset(pair for attempt in attempts for pair in _conditions(attempt)),
        {name: tuple(those) for name, those in zeros.items()},
        frozenset(knob for record in records for knob in record.step.unknown),
        all(record.recorded for record in records),
    )


def like(declaration: RigDeclaration, benchmark: Workload) -> Workload | None:
    """Find another machine's benchmark here: by its name, unit and direction, as ids of typed ones differ."""
    wanted = (benchmark.name, benchmark.metric.unit, benchmark.metric.direction)
    return next((w for w in declaration.workloads if (w.name, w.metric.unit, w.metric.direction) == wanted), None)


def changed_words(declaration: RigDeclaration, setup: Setup, *without: str) -> str:
    """Say which knobs differ from stock, leaving out those named; empty where none does."""
    return ", ".join(changed_knobs(declaration, setup, *without))


def changed_knobs(declaration: RigDeclaration, setup: Setup, *without: str) -> list[str]:
    """Name each knob that differs from stock with its value."""
    changed = [declaration.knob(c.knob) for c in declaration.stock.changes_to(setup) if c.knob not in without]
    return [f"{in_sentence(k.name)} {k.text(setup[k.id])}" for k in changed]


def held_words(declaration: RigDeclaration, setup: Setup, *without: str) -> str:
    """Say what all else was while some knobs varied."""
    words = changed_words(declaration, setup, *without)
    return say("All else held: {words}", words=words) if words else say("All else held at stock")


def unlike_words(settings: Iterable[Setting], expected: frozenset[str] = frozenset()) -> str:
    """Say in what conditions settings were not measured alike; empty where they were.

    `expected` are conditions that may differ, as the parts of machines that are compared.
    """
    told: dict[str, set[str]] = {}
    for setting in settings:
        for name, value in setting.conditions:
            told.setdefault(name, set()).add(value)
    unlike = [
        f"{named(name, CONDITION)} ({', '.join(named(value) for value in sorted(values))})"
        for name, values in sorted(told.items())
        if len(values) > 1 and name not in expected
    ]
    return say("Not all measured alike: {unlike}.", unlike="; ".join(unlike)) if unlike else ""


def single_words(settings: Iterable[Setting], names: Mapping[str, str]) -> str:
    """Say which benchmarks, by id and name, have but one told figure at some setting: those have no margin of their own."""
    single = {
        name: None
        for setting in settings
        for id_, name in names.items()
        if len(made := setting.figures.get(id_, ())) == 1 and made[0].told
    }
    if not single:
        return ""
    return say("One figure a setting, without a margin of its own: {benchmarks}.", benchmarks=listed(list(single)))


def unknown_words(declaration: RigDeclaration, settings: Sequence[Setting]) -> str:
    """Say which knobs only some of the settings know, so that it can't be told whether they are alike in them."""
    some = {knob for s in settings for knob in s.unknown if not all(knob in other.unknown for other in settings)}
    names = [in_sentence(declaration.knob(knob).name) for knob in sorted(some)]
    if not names:
        return ""
    return say("Not known of all, taken to have been as found: {knobs}.", knobs=", ".join(names))


def groups_of(settings: Settings, knob: Knob, in_force: Setup) -> tuple[Group, ...]:
    """Group settings by all else than a knob: the present other settings first, then those with most values of it.

    Groups with fewer than two values that have figures are left out.
    """
    parts: dict[tuple[tuple[str, float], ...], list[Setting]] = {}
    for setting in settings:
        if knob.id in setting.setup:
            parts.setdefault(_others(setting.setup, knob), []).append(setting)
    now = _others(in_force, knob)
    groups = [
        Group(knob, tuple(sorted(those, key=lambda s: s.setup[knob.id])), others == now)
        for others, those in parts.items()
    ]
    usable = [g for g in groups if len(set(g.values)) > 1]
    return tuple(sorted(usable, key=lambda g: (not g.here, -len(set(g.values)))))


def _others(setup: Setup, knob: Knob) -> tuple[tuple[str, float], ...]:
    """Give the other knobs with their values; the items of a setup stand in the order of their ids."""
    items = setup.items_
    at = bisect_left(items, (knob.id,))
    return items[:at] + items[at + 1 :] if at < len(items) and items[at][0] == knob.id else items


def _conditions(attempt: Attempt) -> list[tuple[str, str]]:
    """The conditions that two measurements must share to be compared: versions, parts and power."""
    return [(name, value) for name, value in attempt.conditions.items() if isinstance(value, str) and name not in _OWN]
