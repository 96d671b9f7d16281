"""The check ladder: which pass comes next, from quick to hard, until something fails or all is done."""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterator
from dataclasses import dataclass, replace

from yondle.analysis.judging import limit_acted, limit_near
from yondle.model.knobs import Knob, Setup, When
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.steps import COMPARED_STAGE, LONG, SCORE_STAGE, Check, PassRecord, Stage, StageKind

STEP_PASSES, PASSES_IN_TURNS = 5, 3
"""Score passes of every benchmark at a step, and at one that is run in turns with what it starts from, unless asked otherwise."""
BRACKET_EVERY = 4
"""After so many steps what they are held against is measured again: what drifts over an evening shows in nothing else."""
MOST_REPEATS = 3
"""How often one attempt repeats disturbed passes before it goes on with what it has."""
BAND_K = 2.0
"""A round starts at most so much cooler than it has to; less is as much as the readings of many sensors jump."""
IMPATIENT_S = 60.0
"""Once it didn't get as cool as it should, rounds wait so long and go on."""
MOST_WARMING, LOOK_EVERY, LEAST_RISE_K = 40, 3, 1.0
"""Passes that only warm, in one attempt at most; they end sooner where so many bring less than this many kelvin."""
PRELOAD_WINDOWS = 2.0
"""So many windows of load leave a seventh of what a limiter had saved up."""
MOST_PRELOADS = 3
USUAL_WINDOW_S, LONGEST_PRELOAD_S = 28.0, 120.0
"""The window of a limiter that isn't told, the longest in wide use; some tell windows of many minutes, which nobody waits for.

A machine that tells neither a window nor when a limit acts gives no reason to wait for one.
"""


@dataclass(frozen=True, slots=True)
class Settle:
    """Idle until a sensor is below a value, or falls no further where that is None, but not for ever.

    The sensor's last reading is the answer.
    """

    channel: str
    below: float | None
    at_most_s: float


@dataclass(frozen=True, slots=True)
class RunPass:
    """Run one pass of a workload."""

    stage: str
    workload: str
    round: int
    warm_up: bool
    seconds: float
    number: int
    of: int


@dataclass(frozen=True, slots=True)
class TakeUp:
    """Set the values of the step, or those it starts from, for the passes to come."""

    home: bool


Instruction = Settle | RunPass | TakeUp
Answer = PassRecord | float | None
"""The record of a pass, or what the sensor read after settling."""


def ladder(
    check: Check, declaration: RigDeclaration, setup: Setup, home: Setup | None = None
) -> Generator[Instruction, Answer, None]:
    """Yield what to do; receives the record of each pass, and ends at the first one that failed.

    Every scored pass is to start in the same state (docs/decisions/0036-the-same-state-before-every-pass.md): a machine that
    is too cool is warmed with passes that don't count, the order of benchmarks is balanced over the rounds, and a benchmark in
    which a limit acts runs for a while before it counts.
    """
    state = _State(check, declaration, setup, home or setup)
    for stage in check.stages:
        for at_home, round_ in _rounds(stage, check):
            yield from state.take_up(at_home)
            yield from _round(state, stage, round_)
            if state.over:
                return


def _rounds(stage: Stage, check: Check) -> Iterator[tuple[bool, int]]:
    """Give the rounds of a stage, those that warm up among them, each with whether it is run at the settings of home.

    In turns: half of the step's own, all of home's, the other half, so that what drifts falls on both alike (A B B A). The
    first passes after a change aren't those of its settings yet, so every visit warms up first; that is why home's two visits
    are made one, and why it is in the middle: the load that follows is the step's.
    """
    warm_ups, scored = range(stage.warm_up_rounds), range(stage.warm_up_rounds, stage.warm_up_rounds + stage.rounds)
    visits = [(False, scored)]
    if check.alternates and stage.kind is StageKind.SCORE:
        half = (stage.rounds + 1) // 2
        visits = [(False, scored[:half]), (True, scored), (False, scored[half:])]
    for at_home, rounds in visits:
        yield from ((at_home, round_) for round_ in (*warm_ups, *rounds))


def _round(state: _State, stage: Stage, round_: int) -> Generator[Instruction, Answer, None]:
    """Run every workload of a stage once, from the state it is to start in."""
    warm_up = round_ < stage.warm_up_rounds
    scored = stage.kind is StageKind.SCORE and not warm_up
    at = yield from state.settle(scored)
    while scored and state.too_cool(at):
        for _ in range(LOOK_EVERY):
            yield from state.warm(stage, stage.workloads[state.warmed % len(stage.workloads)], round_)
        at = yield from state.settle(scored)
    probing = state.probes and stage.kind is StageKind.SCORE
    state.probes = state.probes and not probing
    for name in balanced(stage.workloads, round_ - stage.warm_up_rounds) if scored else stage.workloads:
        if scored or probing:
            yield from state.preload(stage, name, round_, probing)
        yield from state.run(stage, name, round_, warm_up)
        if state.over:
            return


class _State:
    """What is known, while a ladder is climbed, of the state that passes start in, and how far it has come."""

    def __init__(self, check: Check, declaration: RigDeclaration, setup: Setup, home: Setup) -> None:
        self._check, self._declaration, self._setups = check, declaration, (setup, home)
        self._limited = set(check.preload)
        self._near: set[tuple[bool, str]] = set()
        self._free: set[tuple[bool, str]] = set()
        self._total = passes_of(check)
        self._number = self._repeats = 0
        self._above, self._below = check.settle_above, check.settle_below
        self._patience = check.settle_at_most_s
        self._last: float | None = None
        self._home = False
        self.warmed = 0
        self.over = False
        self.probes = check.probe

    def take_up(self, home: bool) -> Generator[Instruction, Answer, None]:
        """Have the values of the step, or those it starts from, set where they aren't."""
        if home is not self._home and not self.over:
            self._home = home
            yield TakeUp(home)

    def settle(self, scored: bool) -> Generator[Instruction, Answer, float | None]:
        """Settle, and give the reading it came to; the first scored round sets the band for the others where there is none."""
        if not self._check.settle_channel or self.over:
            return None
        at = yield Settle(self._check.settle_channel, self._below, self._patience)
        if not isinstance(at, float | int):
            return None
        if self._below is None and scored:
            self._above, self._below = band_around(at)
        elif self._below is not None and at > self._below:
            self._patience = min(self._patience, IMPATIENT_S)
        return at

    def too_cool(self, at: float | None) -> bool:
        """Tell whether to warm once more: cooler than asked for, and not as warm as it gets."""
        above = self._above
        if at is None or above is None or at >= above or self.warmed >= MOST_WARMING:
            return False
        rises = self._last is None or at > self._last + LEAST_RISE_K
        self._last = at
        return rises

    def warm(self, stage: Stage, name: str, round_: int) -> Generator[Instruction, Answer, None]:
        """Run a pass that only warms."""
        self.warmed += 1
        yield from self._run(stage, name, round_, True)

    def preload(self, stage: Stage, name: str, round_: int, probing: bool) -> Generator[Instruction, Answer, None]:
        """Use up what a limiter still has to give, where one acts in a benchmark, or to see whether one does.

        Where the load is hardly more than the limit that takes more windows than two; where none acts even then, none does.
        """
        here = self._home, name
        if not (probing or name in self._limited or here in self._near) or self._check.preload_s <= 0.0:
            return
        self._near.discard(here)
        for _ in range(MOST_PRELOADS):
            record = yield from self._run(stage, name, round_, True, self._check.preload_s)
            if record is None or here not in self._near:
                return
            self._near.discard(here)
        self._free.add(here)

    def run(self, stage: Stage, name: str, round_: int, warm_up: bool) -> Generator[Instruction, Answer, None]:
        """Run a pass of the check, again where something disturbed it."""
        self._number += 1
        record = yield from self._run(stage, name, round_, warm_up)
        while record is not None and record.disturbed and self._repeats < MOST_REPEATS and not warm_up:
            self._repeats += 1
            record = yield from self._run(stage, name, round_, warm_up)

    def _run(
        self, stage: Stage, name: str, round_: int, warm_up: bool, seconds: float = 0.0
    ) -> Generator[Instruction, Answer, PassRecord | None]:
        if self.over:
            return None
        seconds = seconds or _pass_s(stage, name, self._declaration)
        called = COMPARED_STAGE if self._home else stage.name
        record = yield RunPass(called, name, round_, warm_up, seconds, self._number, self._total)
        if not isinstance(record, PassRecord) or record.result is None:
            return None
        self.over = not record.result.ok
        setup, here = self._setups[self._home], (self._home, name)
        if limit_acted(self._declaration, setup, record):
            self._limited.add(name)
        elif here not in self._free and limit_near(self._declaration, setup, record):
            self._near.add(here)
        return record


def balanced(names: tuple[str, ...], round_: int) -> tuple[str, ...]:
    """Order benchmarks for a round so that over the rounds each stands in every place, and after every other, equally often.

    A Williams square (1949, Austral. J. Sci. Res. A 2), its rows by turns with their mirror images where the number is odd.
    """
    n = len(names)
    zigzag = [(place + 1) // 2 if place % 2 else -(place // 2) for place in range(n)]
    turn, mirrored = divmod(round_, 2) if n % 2 else (round_, 0)
    order = [names[(at + turn) % n] for at in zigzag]
    return tuple(order[::-1] if mirrored else order)


def check_seconds(check: Check, declaration: RigDeclaration) -> float:
    """Estimate how long the ladder takes when nothing fails, without the time to cool down."""
    return sum(seconds for _, _, seconds in _loads(check, declaration))


def loads_of(check: Check, declaration: RigDeclaration) -> dict[str, float]:
    """Give the seconds of every workload that a check runs at the step's own settings."""
    seconds: dict[str, float] = {}
    for at_home, name, each in _loads(check, declaration):
        if not at_home:
            seconds[name] = seconds.get(name, 0.0) + each
    return seconds


def _loads(check: Check, declaration: RigDeclaration) -> Iterator[tuple[bool, str, float]]:
    """Give every pass of a check with what is run before it: whether at home's settings, the workload, and the seconds."""
    for stage in check.stages:
        probes = check.probe and stage.kind is StageKind.SCORE
        for at_home, round_ in _rounds(stage, check):
            scored = stage.kind is StageKind.SCORE and round_ >= stage.warm_up_rounds
            for name in stage.workloads:
                before = probes or (scored and name in check.preload)
                yield at_home, name, _pass_s(stage, name, declaration) + before * check.preload_s
            probes = False


def quick_check(
    declaration: RigDeclaration, passes: int, setup: Setup | None = None, benchmarks: tuple[str, ...] = ()
) -> Check:
    """Make the usual ladder of a rig: rounds of all benchmarks with one warm-up, then loads from special to mixed.

    A setup that differs from stock in a subsystem with a load of its own is checked with that, too.
    """
    chosen = benchmarks or tuple(w.id for w in declaration.benchmarks if not w.by_hand)
    stages = [Stage(SCORE_STAGE, StageKind.SCORE, chosen, passes, 1)]
    touched = {declaration.knob(c.knob).subsystem for c in declaration.stock.changes_to(setup)} if setup else set()
    loads = [load for subsystem, load in declaration.loads_for.items() if subsystem in touched]
    if declaration.hard_load:
        loads.append((declaration.hard_load, declaration.hard_load_s))
    for workload, seconds in loads:
        if seconds <= 0.0:
            continue
        work = declaration.workload(workload)
        name = work.id if not work.scored else f"{LONG}{work.id}"
        stages.append(Stage(name, StageKind.LOAD, (work.id,), 1, 0, seconds))
    return from_one_state(tuple(stages), declaration)


def without_loads(check: Check, left_out: Collection[str]) -> Check:
    """Leave loads out of a check."""
    kept = (s for s in check.stages if s.kind is StageKind.SCORE or not left_out or s.workloads[0] not in left_out)
    return replace(check, stages=tuple(kept))


def score_check(declaration: RigDeclaration, passes: int) -> Check:
    """Make a check that is score passes with one warm-up and no more."""
    chosen = tuple(w.id for w in declaration.benchmarks if not w.by_hand)
    stage = Stage(SCORE_STAGE, StageKind.SCORE, chosen, passes, 1)
    return from_one_state((stage,), declaration)


def band_around(reading: float) -> tuple[float, float]:
    """Give the band of start temperatures around a reading."""
    return reading - BAND_K / 2.0, reading + BAND_K / 2.0


def knowing(check: Check, limited: tuple[str, ...] | None, start: float | None = None) -> Check:
    """Let a check know the benchmarks in which a limit acts, None where that is to be seen first, and where baselines started."""
    known = replace(check, preload=limited or (), probe=check.probe or limited is None or len(limited) > 0)
    if known.settle_below is not None or start is None:
        return known
    above, below = band_around(start)
    return replace(known, settle_above=above, settle_below=below)


def usual_passes(knob: Knob) -> int:
    """Give the score passes of a step over a knob unless asked otherwise: one that takes turns has its start's beside its own."""
    return PASSES_IN_TURNS if knob.when is When.LIVE else STEP_PASSES


def step_check(declaration: RigDeclaration, passes: int | None, home: Setup, setup: Setup, turns: bool = True) -> Check:
    """Make the check of a step that starts from a setup; with no number of passes it has the usual one.

    Where all that changes can be set live it takes turns with its start, unless that isn't wanted.
    """
    live = turns and set_live(declaration, home, setup)
    usual = declaration.step_passes or (PASSES_IN_TURNS if live else STEP_PASSES)
    check = quick_check(declaration, passes or usual, setup)
    return replace(check, alternates=live and check.scores)


def looking(check: Check, declaration: RigDeclaration, home: Setup, setup: Setup, seen: bool) -> Check:
    """Let a check look whether a limit acts now that didn't at its start, unless that was seen when the setup was tested.

    One that changes what limits others does: a limit, a mode, the cooling.
    """
    changes = any(declaration.knob(change.knob).governs for change in home.changes_to(setup))
    return replace(check, probe=check.probe or (check.scores and changes and not seen))


def set_live(declaration: RigDeclaration, home: Setup, setup: Setup) -> bool:
    """Tell whether two setups differ, and only in what can be set live."""
    changed = [declaration.knob(change.knob) for change in home.changes_to(setup)]
    return bool(changed) and all(knob.when is When.LIVE for knob in changed)


def bracketed(declaration: RigDeclaration, check: Check, home: Setup) -> Setup | None:
    """Name the setup that is measured again between such tests, to tell what drifts; None where none is.

    That is stock where it can be set without a hand, and what the step starts from where it can't. A test in turns measures
    its start beside itself, and leads nowhere that takes a restart.
    """
    if not check.scores:
        return None
    if check.alternates:
        return declaration.stock if set_live(declaration, declaration.stock, home) else None
    return home if declaration.differing(declaration.stock, home, When.BY_HAND, When.AT_HAND) else declaration.stock


def bracket_check(declaration: RigDeclaration) -> Check:
    """Make the check by which a setup is measured again between steps."""
    return score_check(declaration, PASSES_IN_TURNS)


def from_one_state(stages: tuple[Stage, ...], declaration: RigDeclaration) -> Check:
    """Make a check of stages whose scored passes all start in the state that is usual on a rig."""
    window_s = declaration.limiter_window_s
    if window_s is None:
        tells = any(c.quantity in (Quantity.FLAG, Quantity.COUNT) for c in declaration.channels)
        window_s = USUAL_WINDOW_S if tells else 0.0
    channel, below = declaration.settle_channel, declaration.settle_below
    above = below - BAND_K if channel and below is not None else None
    preload_s = min(PRELOAD_WINDOWS * window_s, LONGEST_PRELOAD_S)
    return Check(stages, channel, below, settle_above=above, preload_s=preload_s)


def _pass_s(stage: Stage, name: str, declaration: RigDeclaration) -> float:
    return stage.pass_s or declaration.workload(name).pass_s


def passes_of(check: Check) -> int:
    """Count the passes of a check, without those that only warm or use up what a limiter saved."""
    return sum(len(stage.workloads) * len(list(_rounds(stage, check))) for stage in check.stages)
