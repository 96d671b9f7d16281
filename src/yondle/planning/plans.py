"""Plans: sweeps, ladders and lists of steps as values, the moves they make, and a dry run before anything moves."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from enum import StrEnum
from random import Random

from yondle.language.saying import say
from yondle.model.knobs import Knob, Setup, When
from yondle.model.quantities import count
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Check
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Again, Climb, GoBack, Move, Recall, Tried, Try, climb
from yondle.planning.edge_plans import Proof, find_edge, prove, typical_run
from yondle.planning.finding import Edge
from yondle.planning.goals.climbing import climb_goal
from yondle.planning.goals.goal import Goal
from yondle.planning.ladder import (
    BRACKET_EVERY,
    bracket_check,
    bracketed,
    check_seconds,
    looking,
    score_check,
    step_check,
)

SETTLE_SHARE = 0.35
"""How much longer a check takes for its cool-downs than its passes alone, as seen on the shipped rigs."""

MOST_MOVES = 2000

BASELINES_A_ROUND = 3
"""How often the start is measured in every round of a sweep."""


class SweepOrder(StrEnum):
    """In which order a sweep goes through its values."""

    UP = "up"
    DOWN = "down"
    SHUFFLED = "shuffled"


@dataclass(frozen=True, slots=True)
class Sweep:
    """Every value of a knob from one to another, each tried from the same place; the rig ends where it began.

    With `rounds` each value is measured so often, once a round in random order, with the place it starts from measured
    again and again in between, so that drift can be told from gain; its passes are all there is to each visit.
    """

    knob: str
    low: float
    high: float
    by: float
    order: SweepOrder = SweepOrder.UP
    seed: int = 1
    rounds: int = 0


@dataclass(frozen=True, slots=True)
class Ladder:
    """Higher and higher (or lower: `by` below 0) until it fails, with relief per verdict; the rig stays at the best."""

    knob: str
    to: float
    by: float
    relief: tuple[tuple[Verdict, str, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Steps:
    """A list of steps one after the other; what holds stays, and what fails is left."""

    steps: tuple[tuple[tuple[str, float], ...], ...]


Part = Sweep | Ladder | Steps | Edge | Proof | Goal


@dataclass(frozen=True, slots=True)
class StopRules:
    """When a plan ends before its end: so many failures, so many hours, or one of these verdicts."""

    failures: int | None = None
    hours: float | None = None
    verdicts: tuple[Verdict, ...] = ()


@dataclass(frozen=True, slots=True)
class Plan:
    """What to try, with how many passes, how often once more after a failure to be sure, and when to stop.

    With `turns` live steps are tested in turns with what they start from.
    """

    name: str
    parts: tuple[Part, ...]
    passes: int = 5
    once_more: int = 0
    stop: StopRules = StopRules()
    turns: bool = True


@dataclass(frozen=True, slots=True)
class DryRun:
    """What a plan would do if every step held: tests, seconds, restarts, entries by hand, and what it leaves out."""

    tests: int
    seconds: float
    restarts: int
    entries: int
    left_out: tuple[str, ...]
    waits_for_hands: bool
    otherwise: tuple[str, ...] = ()
    """What is done otherwise than it was asked for, and why."""


def moves(plan: Plan, declaration: RigDeclaration, start: Tried, undone: list[str] | None = None) -> Climb:
    """Make the moves of a plan; raises KnownError for a knob the rig hasn't got or a value it doesn't take.

    What was asked for and is left out goes into `undone`, in words: what the tuner's limits leave out, and what a failure
    made needless.
    """
    now, left = start, undone if undone is not None else []
    for part in plan.parts:
        left += _left_out(part, declaration)
        retries = 0 if isinstance(part, Edge | Proof | Goal) else plan.once_more
        now = yield from _with_retries(_part(part, declaration, now, left), now, retries)


def dry_run(plan: Plan, declaration: RigDeclaration, in_force: Setup, unattended: bool) -> DryRun:
    """Go through a plan as if every step held; nothing is set. Raises KnownError as `moves` does.

    A search for an edge lives from failures, so it is played on a middling machine instead.
    """
    played = _Played(plan, declaration, in_force)
    going = moves(plan, declaration, played.now)
    try:
        move = next(going)
        for _ in range(MOST_MOVES):
            move = going.send(played.make(move))
    except StopIteration:
        pass
    finally:
        going.close()
    left_out = tuple(words for part in plan.parts for words in _left_out(part, declaration))
    waits = played.entries > 0 and not unattended
    otherwise = tuple(words for part in plan.parts if (words := _otherwise(part, declaration)))
    return DryRun(played.tests, played.seconds, played.restarts, played.entries, left_out, waits, otherwise)


class _Played:
    """A machine that is only imagined: counts what the moves of a plan would take."""

    def __init__(self, plan: Plan, declaration: RigDeclaration, in_force: Setup) -> None:
        self.now = Tried(Verdict.HELD, in_force, 0, 0)
        self.tests = self.restarts = self.entries = 0
        self.seconds = 0.0
        self._scored, self._measured = 0, dict[Setup, int]()
        self._plan, self._declaration, self._start = plan, declaration, in_force
        self._seen = [in_force]

    def make(self, move: Move) -> Tried:
        """Make a move; every test holds but those of a search."""
        here = self.now.in_force
        match move:
            case Try(origin=int(origin)) if move.of:
                return self._search(move, self._seen[origin], origin)
            case Try():
                home = here if move.origin is None else self._seen[move.origin]
                setup = home.with_values(move.values)
                self.tests += 1
                self._try(move.check, home, setup)
            case GoBack():
                setup = self._seen[move.step]
            case Again() | Recall():
                setup = here
        self._reach(setup)
        self._seen.append(setup)
        number = len(self._seen) - 1
        position = move.step if isinstance(move, GoBack) else number
        self.now = Tried(Verdict.HELD, setup, position, number, at_s=self.seconds)
        return self.now

    def _try(self, asked: Check | None, home: Setup, setup: Setup) -> None:
        """Price a test, with what is measured again before it, and with what its start has to be set again for that."""
        declaration = self._declaration
        check = asked or step_check(declaration, self._plan.passes, home, setup, self._plan.turns)
        again = bracketed(declaration, check, home) if asked is None else None
        if again is not None and self._scored - self._measured.get(again, 0) >= BRACKET_EVERY:
            self._price(bracket_check(declaration))
            restarts = 2 * bool(declaration.differing(home, again, When.RESTART))
            self.restarts += restarts
            self.seconds += restarts * declaration.restart_s
            self._measured[again] = self._scored
        self._price(looking(check, declaration, home, setup, seen=setup in self._seen))
        if check.scores:
            self._scored += 1
            self._measured[setup] = self._scored

    def _price(self, check: Check) -> None:
        self.seconds += check_seconds(check, self._declaration) * (1.0 + SETTLE_SHARE)

    def _search(self, move: Try, home: Setup, origin: int) -> Tried:
        setup = home.with_values(move.values)
        ran = typical_run(self._declaration.knob(move.of), self._start[move.of], move)
        self.tests += 1
        self.seconds += ran.seconds + ran.down * self._declaration.restart_s
        self._reach(setup)
        self._seen.append(setup)
        number = len(self._seen) - 1
        if ran.down:
            self.now = replace(self.now, in_force=setup)
            self._reach(home)
        verdict, at, position = (Verdict.DOWN, home, origin) if ran.down else (Verdict.HELD, setup, number)
        self.now = Tried(verdict, at, position, number, (ran,), ran.seconds, at_s=self.seconds)
        return self.now

    def _reach(self, setup: Setup) -> None:
        declaration, here = self._declaration, self.now.in_force
        by_hand = declaration.differing(here, setup, When.BY_HAND, When.AT_HAND)
        restart = bool(declaration.differing(here, setup, When.BY_HAND, When.RESTART))
        self.restarts += restart
        self.entries += bool(by_hand)
        self.seconds += restart * declaration.restart_s + bool(by_hand) * declaration.entry_s


def sweep_values(sweep: Sweep, declaration: RigDeclaration) -> list[float]:
    """List the values of a sweep in its order, without those beyond the tuner's own limits."""
    knob = declaration.knob(sweep.knob)
    values = [v for v in _grid(knob, sweep.low, sweep.high, abs(sweep.by)) if declaration.allows(knob, v)]
    match sweep.order:
        case SweepOrder.UP:
            return values
        case SweepOrder.DOWN:
            return values[::-1]
        case SweepOrder.SHUFFLED:
            Random(f"sweep/{sweep.seed}").shuffle(values)
            return values


def _part(part: Part, declaration: RigDeclaration, start: Tried, undone: list[str]) -> Climb:
    match part:
        case Sweep(rounds=0):
            yield from _sweep(part, declaration, start)
        case Sweep():
            yield from _in_rounds(part, declaration, start, undone)
        case Ladder():
            knob = declaration.knob(part.knob)
            stride = round(abs(part.by) / knob.step)
            stride = stride if part.by > 0 else -stride
            now = knob.notch_of(start.in_force[part.knob])
            most = max(0, (knob.notch_of(knob.checked(part.to)) - now) // stride)
            relief = {
                verdict: (helper, round(by / declaration.knob(helper).step)) for verdict, helper, by in part.relief
            }
            yield from climb(declaration, start, part.knob, stride, relief, most)
        case Steps():
            yield from _steps(part, declaration, start)
        case Edge():
            yield from find_edge(part, declaration, start)
        case Proof():
            yield from prove(part, declaration, start, undone)
        case Goal():
            yield from climb_goal(part, declaration, start, undone)


def _sweep(sweep: Sweep, declaration: RigDeclaration, start: Tried) -> Climb:
    for value in sweep_values(sweep, declaration):
        if value == start.in_force[sweep.knob]:
            continue
        tried = yield Try({sweep.knob: value}, say("the next value of the sweep"))
        if tried.verdict is Verdict.HELD:
            yield GoBack(start.position, say("every value is tried from the same place"))


def _in_rounds(sweep: Sweep, declaration: RigDeclaration, start: Tried, undone: list[str]) -> Climb:
    """Visit every value once a round, with the start in between; where a restart lies between, in order, all passes at once."""
    knob = declaration.knob(sweep.knob)
    live = knob.when is When.LIVE
    rounds, passes = (sweep.rounds, 1) if live else (1, sweep.rounds)
    check = score_check(declaration, passes)
    compared = Try({}, say("what all is compared with"), check, start.position)
    values = [v for v in sweep_values(sweep, declaration) if v != start.in_force[sweep.knob]]
    chance, failed = Random(f"rounds/{sweep.seed}"), set[float]()
    for number in range(1, rounds + 1):
        order = chance.sample(values, len(values)) if live else values
        for i, value in enumerate(order):
            if i % max(1, -(-len(order) // BASELINES_A_ROUND) if live else 2) == 0:
                yield compared
            if value not in failed:
                tried = yield Try(
                    {sweep.knob: value},
                    say("round {number} of {rounds}", number=number, rounds=rounds),
                    check,
                    start.position,
                )
                if tried.verdict in (Verdict.DOWN, Verdict.WRONG, Verdict.REFUSED):
                    failed.add(value)
                    if number < rounds:
                        undone.append(
                            say(
                                "{value} from round {number} on, after it failed",
                                value=knob.text(value),
                                number=number + 1,
                            )
                        )
    yield compared
    yield GoBack(start.position, say("every value was measured against the same place"))


def _steps(steps: Steps, declaration: RigDeclaration, start: Tried) -> Climb:
    now = start
    for step in steps.steps:
        values = {k: declaration.knob(k).checked(v) for k, v in step}
        allowed = all(declaration.allows(declaration.knob(k), v) for k, v in values.items())
        if allowed and any(now.in_force[k] != v for k, v in values.items()):
            now = yield Try(values, say("the next step of the list"))


def _with_retries(going: Climb, start: Tried, times: int) -> Generator[Move, Tried, Tried]:
    """Hand moves on; a step that fails is tested once more, so often, before the plan hears of it.

    What failed once and held once counts as failed. What is not yet proven, by a weak sign
    or since it failed in an earlier run, is tested once more in any case before it ends anything. Gives the last word.
    """
    now = start
    try:
        move = next(going)
        while True:
            now = yield move
            failed, usual = now.verdict, isinstance(move, Try) and move.check is None
            if usual and failed is Verdict.UNPROVEN:
                now = yield Again(now.step, say("not yet proven: once more, to be sure"))
                failed = now.verdict
            for _ in range(times if isinstance(move, Try) and failed in (Verdict.DOWN, Verdict.WRONG) else 0):
                now = yield Again(now.step, say("once more, to be sure"))
                if now.verdict is Verdict.HELD:
                    break
            undecided = now.verdict is Verdict.UNPROVEN and failed is not Verdict.UNPROVEN
            move = going.send(replace(now, verdict=failed) if undecided else now)
    except StopIteration:
        return now


def _grid(knob: Knob, low: float, high: float, by: float) -> list[float]:
    first, last = knob.checked(min(low, high)), knob.checked(max(low, high))
    stride = max(1, round(by / knob.step)) * knob.step
    many = math.floor((last - first) / stride + 1e-6)
    return list(dict.fromkeys(knob.nearest(first + i * stride) for i in range(many + 1)))


def _left_out(part: Part, declaration: RigDeclaration) -> list[str]:
    match part:
        case Sweep():
            asked = [(part.knob, v) for v in _grid(declaration.knob(part.knob), part.low, part.high, abs(part.by))]
        case Ladder():
            asked = [(part.knob, part.to)]
        case Steps():
            asked = [pair for step in part.steps for pair in step]
        case Edge():
            asked = [(part.knob, part.to)] if part.to is not None else []
            asked += [(part.along, value) for value in part.at] if part.along is not None else []
        case Proof() | Goal():
            asked = []
    found = (declaration.beyond(declaration.knob(knob_id), value) for knob_id, value in asked)
    return [beyond for beyond in found if beyond]


def _otherwise(part: Part, declaration: RigDeclaration) -> str:
    """Say where rounds become one, since each visit of a value takes a restart or a hand; nothing where all is as asked."""
    if not isinstance(part, Sweep) or part.rounds < 2 or declaration.knob(part.knob).when is When.LIVE:
        return ""
    if declaration.knob(part.knob).when is When.AT_HAND:
        return say(
            "{knob} is set by hand, so each value is visited once for {passes} instead of in {rounds} rounds",
            knob=declaration.knob(part.knob).name,
            passes=count(part.rounds, "pass", "passes"),
            rounds=part.rounds,
        )
    return say(
        "{knob} takes a restart, so each value is visited once for {passes} instead of in {rounds} rounds",
        knob=declaration.knob(part.knob).name,
        passes=count(part.rounds, "pass", "passes"),
        rounds=part.rounds,
    )
