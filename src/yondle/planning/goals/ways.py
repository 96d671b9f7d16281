"""What is worth trying next toward a goal: a few ways, each with what it would bring, its chance, its time, and its reason.

A way is one change, or an enabler and then what follows it; only its first change is ever proposed. What is said of it is what
the ground believes (ground.py): a range where it was measured, and "nobody has measured" where it wasn't.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from yondle.analysis.stability import HOUR_S, PER_HOUR, STANDARD_WORDS
from yondle.language.saying import in_sentence, named, say
from yondle.model.knobs import Knob, Risk, Setup, When
from yondle.model.quantities import chance, duration, signed_percent
from yondle.model.steps import SCORE_STAGE, Check, Stage, StageKind
from yondle.planning.finding import PROVEN_SHARE
from yondle.planning.goals.ground import Ground, Outlook
from yondle.planning.goals.optimum import MOST_TOGETHER, followed, optimum
from yondle.planning.goals.reasons import UPPER, pair_reason, reason
from yondle.planning.ladder import check_seconds, from_one_state

MOST_WAYS = 5
LEAST_GAIN = 0.002
"""What a way has to bring at least to be told, on logs."""
SETTLE_SHARE, SEARCH_S, LOOK_S = 0.35, 3600.0, 240.0
"""How much longer a check takes for its cool-downs, how long a search for an edge usually takes, and a look at an enabler."""
_STEP_ROUNDS = 3
_SURE_ENOUGH, _UNPROVEN_SHARE, _LEAST_SHIFT = 0.95, 0.5, 0.5
_WORTH_MEASURING = 0.004


class WayKind(StrEnum):
    """What a way does."""

    STEP = "one step"
    PAIR = "two steps"
    EDGE = "to its edge"
    MEASURE = "measure"
    PROVE = "prove"
    STOP = "stop"


@dataclass(frozen=True, slots=True)
class Way:
    """One way on: its changes in order, what it may bring on the goal's scale as fractions, its chance to hold, and its time.

    `first` is what is proposed when it is taken; None for one that tests no other value. `reason` says why, with its evidence;
    `unknown` what isn't known of it, empty where all of it was measured.
    """

    kind: WayKind
    changes: tuple[tuple[str, float], ...]
    brings: float
    low: float
    high: float
    chance: float
    seconds: float
    title: str
    reason: str
    unknown: str = ""

    @property
    def first(self) -> tuple[str, float] | None:
        """The change it begins with."""
        return self.changes[0] if self.changes else None

    @property
    def an_hour(self) -> float:
        """What it may be expected to bring an hour: ways are ranked by it."""
        return self.brings * self.chance / max(self.seconds / HOUR_S, 0.05)


def worth_trying(ground: Ground, here: Setup) -> list[Way]:
    """Give up to five ways on from a setup, the one that brings most an hour first; the last says stop where none is worth it."""
    now = ground.outlook(here)
    singles = [way for knob in ground.movable if (way := _single(ground, here, now, knob)) is not None]
    found = [*singles, *_pairs(ground, here, now, singles)]
    found.sort(key=lambda way: -way.an_hour)
    ways = _apart(found)[: MOST_WAYS - 1]
    others = [way for way in (_measure(ground, here), _prove(ground, here, now)) if way is not None]
    ways = (ways[: MOST_WAYS - len(others)] + others) if ways or others else []
    return ways or [_stop(ground)]


def worth_of_knobs(ground: Ground, here: Setup) -> list[tuple[Knob, float]]:
    """Give what each knob is worth now, on logs, most first: with what follows it, beyond what that brings alone."""
    alone = ground.outlook(followed(ground, here, ground.followers[:MOST_TOGETHER])).utility
    now, found = ground.outlook(here).utility, list[tuple[Knob, float]]()
    for knob in ground.movable:
        if knob in ground.followers:
            worth = ground.outlook(followed(ground, here, [knob])).utility - now
        elif knob in ground.enablers and ground.concerns(knob):
            worth = ground.outlook(optimum(ground, here, [knob, *ground.followers[:MOST_TOGETHER]])).utility - alone
        else:
            continue
        found.append((knob, max(worth, 0.0)))
    return sorted(found, key=lambda each: -each[1])


def _single(ground: Ground, here: Setup, now: Outlook, knob: Knob) -> Way | None:
    """Give the best that one knob can do alone; None where that is nothing."""
    edged = knob in ground.followers
    if not edged and not ground.concerns(knob):
        return None
    there = optimum(ground, here, [knob])
    value = there[knob.id]
    if value == here[knob.id] or ground.failed(there):
        return None
    ahead = ground.outlook(there)
    brings = ahead.utility - now.utility
    if brings < LEAST_GAIN or not ahead.fits:
        return None
    kind = WayKind.EDGE if edged and _towards_edge(knob, here[knob.id], value) else WayKind.STEP
    seconds = _check_s(ground, knob) + (SEARCH_S if kind is WayKind.EDGE else 0.0) + _change_s(ground, knob)
    spread = ground.gain(there, here)[1]
    title = say("{knob} to {value}", knob=knob.name, value=knob.text(value))
    if kind is WayKind.EDGE:
        title = say("{knob} toward its edge, about {value}", knob=knob.name, value=knob.text(value))
    why = reason(ground, here, there, knob, kind is WayKind.EDGE)
    return _way(
        kind, ((knob.id, value),), brings, spread, ahead.chance, seconds, title, why, _unknown(ground, there, [knob])
    )


def _pairs(ground: Ground, here: Setup, now: Outlook, singles: Sequence[Way]) -> Iterator[Way]:
    """Give what an enabler brings together with what follows it, beyond what that brings alone.

    Room under limits, and cooling, that both need comes first; nothing is told that an enabler does not bring by itself.
    """
    alone = {way.changes[0][0]: way.brings for way in singles}
    room = [k for k in ground.enablers if k.governs and not k.choices and ground.concerns(k)]
    for follower in ground.followers[:MOST_TOGETHER]:
        for enabler in ground.enablers:
            if not ground.concerns(enabler) or not _may_free(ground, here, enabler, follower):
                continue
            needed = [k for k in room if k is not enabler] if not enabler.governs else []
            there = optimum(ground, here, [*needed, enabler, follower])
            moved = [k for k in (*needed, enabler, follower) if there[k.id] != here[k.id]]
            if enabler not in moved or follower not in moved or ground.failed(there):
                continue
            ahead = ground.outlook(there)
            brings = ahead.utility - now.utility
            if brings < alone.get(follower.id, 0.0) + LEAST_GAIN or not ahead.fits:
                continue
            seconds = (
                _check_s(ground, follower) + SEARCH_S + sum(_change_s(ground, k) for k in moved) + LOOK_S * len(moved)
            )
            before = ", ".join(
                say("{knob} to {value}", knob=k.name if i == 0 else in_sentence(k.name), value=k.text(there[k.id]))
                for i, k in enumerate(moved[:-1])
            )
            title = say(
                "{before}, then {follower} toward {edge}", before=before, follower=in_sentence(follower.name),
                edge=follower.text(there[follower.id]),
            )  # fmt: skip
            spread = ground.gain(there, here)[1]
            why = pair_reason(ground, here, there, enabler, follower)
            changes = tuple((k.id, there[k.id]) for k in moved)
            unknown = _unknown(ground, there, [enabler, follower])
            yield _way(WayKind.PAIR, changes, brings, spread, ahead.chance, seconds, title, why, unknown)


def _may_free(ground: Ground, here: Setup, enabler: Knob, follower: Knob) -> bool:
    """Tell whether an enabler may move the edge of a follower, or give it room."""
    if enabler.governs:
        return True
    ends = (here.with_values({enabler.id: float(ground.reach(enabler)[i])}) for i in (0, -1))
    return any(ground.edges.shift(follower, here, there)[0] >= _LEAST_SHIFT for there in ends)


def _way(
    kind: WayKind, changes: tuple[tuple[str, float], ...], brings: float, spread: float, chance_: float, seconds: float,
    title: str, reason: str, unknown: str,
) -> Way:  # fmt: skip
    low, high = (math.expm1(brings + sign * UPPER * spread) for sign in (-1.0, 1.0))
    return Way(kind, changes, math.expm1(brings), low, high, chance_, seconds, title, reason, unknown)


def _apart(ways: Sequence[Way]) -> list[Way]:
    """Leave out ways that begin as another does and bring less."""
    seen, kept = set[str](), list[Way]()
    for way in ways:
        first = way.changes[0][0]
        if first not in seen:
            seen.add(first)
            kept.append(way)
    return kept


def _measure(ground: Ground, here: Setup) -> Way | None:
    """Give the knob that nobody has measured and that may matter most by what it is."""
    best: tuple[float, Knob, float] | None = None
    for knob in ground.movable:
        if knob.id in ground.measured or not ground.concerns(knob) or (knob.unit == "V" and ground.followers):
            continue
        value = _probe(ground, here, knob)
        if value is None:
            continue
        middle, spread = ground.gain(here.with_values({knob.id: value}), here)
        promise = max(middle, 0.0) + spread
        if best is None or promise > best[0]:
            best = (promise, knob, value)
    if best is None or best[0] < _WORTH_MEASURING:
        return None
    promise, knob, value = best
    return Way(
        WayKind.MEASURE, ((knob.id, value),), 0.0, math.expm1(-promise), math.expm1(promise),
        ground.outlook(here.with_values({knob.id: value})).chance, _check_s(ground, knob) + _change_s(ground, knob),
        say("Measure {knob} at {value}", knob=in_sentence(knob.name), value=knob.text(value)),
        say(
            "What it is worth isn't measured here; a knob of its kind may bring up to {promise}.",
            promise=signed_percent(math.expm1(promise), 1),
        ),
        say("what it is worth"),
    )  # fmt: skip


def _probe(ground: Ground, here: Setup, knob: Knob) -> float | None:
    values = [float(v) for v in ground.reach(knob) if v != here[knob.id]]
    if knob.risk is Risk.UP:
        values = [v for v in values if v > here[knob.id]][:2]
    elif knob.risk is Risk.DOWN:
        values = [v for v in values if v < here[knob.id]][-2:]
    fits = [v for v in values if ground.outlook(here.with_values({knob.id: v})).chance >= _SURE_ENOUGH]
    return fits[-1] if fits else None


def _prove(ground: Ground, here: Setup, now: Outlook) -> Way | None:
    """Give the proof that what is in force still lacks."""
    if here == ground.declaration.stock:
        return None
    goal = ground.goal
    needed = PROVEN_SHARE * HOUR_S / PER_HOUR[goal.standard]
    left = {load: max(0.0, needed - ground.ran_s(here, load)) for load in goal.loads}
    seconds = sum(left.values())
    if seconds < _UNPROVEN_SHARE * needed:
        return None
    return Way(
        WayKind.PROVE, (), 0.0, 0.0, 0.0, now.chance, seconds,
        say("Prove what is in force for {time}", time=duration(seconds)),
        say(
            "It ran {ran} of its loads so far; {standard} asks for {needed} of each, and is met with {sure} probability.",
            ran=duration(sum(ground.ran_s(here, load) for load in goal.loads)),
            standard=named(STANDARD_WORDS[goal.standard]), needed=duration(needed), sure=chance(now.chance),
        ),
    )  # fmt: skip


def _stop(ground: Ground) -> Way:
    return Way(
        WayKind.STOP, (), 0.0, 0.0, 0.0, 1.0, 0.0, say("Stop: nothing left is worth its time"),
        say("No change that may be made is expected to bring {least} or more.", least=signed_percent(LEAST_GAIN, 1)),
    )  # fmt: skip


def _unknown(ground: Ground, there: Setup, knobs: Sequence[Knob]) -> str:
    """Say what isn't known of a way."""
    missing = [in_sentence(knob.name) for knob in knobs if knob.id not in ground.measured]
    words = [say("not measured yet: {knobs}", knobs=", ".join(missing))] if missing else []
    last = knobs[-1]
    own = ground.declaration.own_range(last)
    if there[last.id] in own and own != (last.low, last.high):
        words.append(say("what lies beyond your own limit, where it ends"))
    return "; ".join(words)


def _towards_edge(knob: Knob, here: float, value: float) -> bool:
    return (value > here) == (knob.risk is Risk.UP)


def _check_s(ground: Ground, knob: Knob) -> float:
    names = tuple(name for name, _ in ground.goal.benchmarks)
    check: Check = from_one_state((Stage(SCORE_STAGE, StageKind.SCORE, names, _STEP_ROUNDS, 1),), ground.declaration)
    check = replace(check, alternates=knob.when is When.LIVE)
    return check_seconds(check, ground.declaration) * (1.0 + SETTLE_SHARE)


def _change_s(ground: Ground, knob: Knob) -> float:
    declaration = ground.declaration
    restart = declaration.restart_s if knob.when in (When.RESTART, When.BY_HAND) else 0.0
    return restart + (declaration.entry_s if knob.when in (When.BY_HAND, When.AT_HAND) else 0.0)
