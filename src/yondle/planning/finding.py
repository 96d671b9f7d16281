"""The search for the edge as a plan: which value to load for how long, why, and what to recommend in the end."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from yondle.analysis.exposure import ANY_LOAD
from yondle.analysis.hold import Posterior, Run, Scale
from yondle.analysis.stability import HOUR_S, PER_HOUR, STANDARD_WORDS, Standard
from yondle.model.knobs import Knob, When
from yondle.model.quantities import count, duration, number
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Check, Stage, StageKind
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Climb, GoBack, Recall, Tried, Try
from yondle.planning.edge_search import CRASH_PRICE_S, LEAST_GAIN_PER_H, Aim, Chooser, NextTest, Prices, Style

LIVE_CHANGE_S = 20.0
"""Setting a live knob, reading it back and starting a load."""
USUAL_RESTART_S = 120.0
TYPICAL_WIDTH_NOTCHES = 0.6
LONGEST_PROOF_S = 3600.0
SURE_TO_FAIL = 0.05
MOST_RECOMMENDED = 6
"""A recommended setting that fails its check lowers the next recommendation; so often at most."""


@dataclass(frozen=True, slots=True)
class Edge:
    """Search for the riskiest value of a knob that meets a standard under each of these loads.

    `to` is the riskiest value that may be tried, `hours` the time the search may take.
    """

    knob: str
    loads: tuple[str, ...]
    standard: Standard = Standard.DAILY
    style: Style = Style.EVEN
    to: float | None = None
    hours: float | None = None


@dataclass(frozen=True, slots=True)
class Found:
    """What a search has come to: the value it recommends, the probability that it meets the standard, and what it rests on.

    `edge` are the values between which the edge of the worst load lies with 95 % probability, `next` the next test.
    """

    value: float
    probability: float
    a_notch_safer: float
    edge: tuple[float, float]
    chances: tuple[tuple[float, float], ...]
    tests: int
    failures: int
    loaded_s: float
    next: NextTest | None


@dataclass(frozen=True, slots=True)
class Proof:
    """Load what is in force for so many hours, each load for its share, an hour at a time at most."""

    loads: tuple[str, ...]
    hours: float


class EdgeSearch:
    """What is believed of a knob's edge under some loads, and the next test; pure, fed with runs."""

    def __init__(self, part: Edge, declaration: RigDeclaration) -> None:
        knob = declaration.knob(part.knob)
        self.part, self.knob = part, knob
        self._scale = Scale(knob)
        self._loads = {load: Posterior(knob.notches, self._scale.widths()) for load in part.loads}
        low, high = sorted(self._scale.notch(v) for v in declaration.own_range(knob))
        self._least, self._most = round(low), round(high)
        if part.to is not None:
            self._most = max(self._least, min(self._most, round(self._scale.notch(part.to))))
        restart = (declaration.restart_s or USUAL_RESTART_S) + (
            declaration.entry_s if knob.when is When.BY_HAND else 0.0
        )
        self._change_s = LIVE_CHANGE_S + (restart if knob.when is not When.LIVE else 0.0)
        self._restart_s = restart
        self._failures = self._crashes = self._tests = 0
        self._loaded_s = 0.0
        self._here: int | None = None
        self._less, self._held = 1, self._least
        self.held_back_from: float | None = None

    def learn(self, runs: Iterable[Run]) -> None:
        """Take in what runs said; those of other loads say nothing here."""
        for run in runs:
            concerned = [p for load, p in self._loads.items() if run.load in (load, ANY_LOAD)]
            for load in concerned:
                load.take(self._scale.notch(run.value), run.seconds, run.failures)
            if not concerned:
                continue
            self._tests += 1
            self._loaded_s += run.seconds
            self._failures += run.failures > 0
            self._crashes += run.down
            if not run.failures and run.seconds > 0.0:
                self._held = max(self._held, round(self._scale.notch(run.value)))
            self._here = None if run.failures else round(self._scale.notch(run.value))

    def take(self, value: float, tried: Tried) -> None:
        """Take in what a test of a value has told, and how far the machine let it go."""
        self.learn(tried.ran)
        if tried.verdict in (Verdict.HELD_BACK, Verdict.REFUSED):
            self.stay_below(value, tried.reached)

    def stand_at(self, value: float) -> None:
        """Take it that this value is in force now, so that going on there takes no change."""
        self._here = round(self._scale.notch(value))

    def stay_below(self, value: float, reached: float | None) -> None:
        """Try nothing as risky as this any more: it was refused, or the machine could not reach it or had to be stopped.

        Where it is known what was reached instead nothing beyond that is tried; else each time twice as many notches less,
        but never below what held.
        """
        self.held_back_from = (
            value if self.held_back_from is None else min(value, self.held_back_from, key=self._scale.notch)
        )
        notch = round(self._scale.notch(value))
        below = max(notch - self._less, min(self._held, notch - 1))
        if reached is not None:
            below = min(below, math.floor(self._scale.notch(reached)))
        else:
            self._less *= 2
        self._most = max(self._least, min(self._most, below))

    def next_test(self) -> NextTest | None:
        """Give the test that brings most for its price; None when none is worth it."""
        return self._chooser().next_test(list(self._loads.values()), LEAST_GAIN_PER_H, self._here)

    def found(self) -> Found:
        """Say what is known by now."""
        chooser, loads = self._chooser(), list(self._loads.values())
        notch = chooser.recommended(loads)
        ranges = [load.edge_range() for load in loads]
        worst = min(ranges, key=sum)
        every = range(self.knob.notches + 1)
        return Found(
            self._scale.value(notch),
            chooser.chance_right(loads, notch),
            chooser.chance_right(loads, max(notch - 1, 0)),
            (self._scale.place(worst[0]), self._scale.place(worst[1])),
            tuple((self._scale.value(n), chooser.chance_right(loads, n)) for n in every),
            self._tests,
            self._failures,
            self._loaded_s,
            self.next_test(),
        )

    def load_of(self, test: NextTest) -> str:
        """Name the load of a test."""
        return self.part.loads[test.load]

    def value_of(self, notch: int) -> float:
        """Give the value at a notch counted from the safest end."""
        return self._scale.value(notch)

    def why(self, test: NextTest, declaration: RigDeclaration) -> str:
        """Say in one sentence why a test comes next."""
        now = self._chooser().recommended(list(self._loads.values()))
        load = declaration.workload(self.load_of(test)).name
        begin = f"{duration(test.seconds)} of {load} at {self.knob.text(self.value_of(test.notch))}"
        up, down = test.if_held - now, now - test.if_failed
        more, fewer = (count(n, "notch", "notches") for n in (up, down))
        if test.chance < SURE_TO_FAIL:
            return f"{begin}: it will fail, and how soon tells how steep the edge is"
        if up > 0 and down > 0:
            gains = f"if it holds, {more} more can be recommended; if it fails, {fewer} fewer"
        elif up > 0:
            gains = f"if it holds, {more} more can be recommended"
        elif down > 0:
            gains = f"if it fails, {fewer} fewer can be recommended"
        else:
            gains = "either end narrows where the edge lies"
        return f"{begin}: {gains} ({number(100 * test.chance)} % to hold)"

    def _chooser(self) -> Chooser:
        crash_share = (self._crashes + 1.0) / (self._failures + 1.0)
        price = crash_share * (self._restart_s + CRASH_PRICE_S[self.part.style])
        prices = Prices(self._change_s, LIVE_CHANGE_S, price)
        return Chooser(Aim(PER_HOUR[self.part.standard]), prices, self._least, self._most)


def find_edge(part: Edge, declaration: RigDeclaration, start: Tried) -> Climb:
    """Search, then leave the rig at what is recommended, checked like any other step."""
    search = EdgeSearch(part, declaration)
    known = yield Recall(part.knob)
    search.learn(known.ran)
    search.stand_at(start.in_force[part.knob])
    spent_s = 0.0
    while (test := search.next_test()) is not None:
        if part.hours is not None and spent_s >= part.hours * HOUR_S:
            break
        value = search.value_of(test.notch)
        check = load_check(declaration, search.load_of(test), test.seconds)
        tried = yield Try({part.knob: value}, search.why(test, declaration), check, start.position)
        spent_s += tried.took_s
        search.take(value, tried)
    for _ in range(MOST_RECOMMENDED):
        found = search.found()
        if found.value == start.in_force[part.knob]:
            break
        why = f"recommended: {STANDARD_WORDS[part.standard]} with {number(100 * found.probability)} % probability"
        tried = yield Try({part.knob: found.value}, why, None, start.position)
        search.take(found.value, tried)
        if tried.verdict is Verdict.HELD:
            return
    yield GoBack(start.position, "nothing better is recommended")


def typical_run(knob: Knob, start: float, test: Try) -> Run:
    """Give how a test would end on a middling machine: its edge halfway from a start to the risky end. For dry runs."""
    scale = Scale(knob)
    edge = (scale.notch(start) + knob.notches) / 2.0
    stage = test.check.stages[0] if test.check is not None else None
    load, seconds = (stage.workloads[0], stage.pass_s or 0.0) if stage is not None else ("", 0.0)
    value = test.values[knob.id]
    lasts = HOUR_S * math.exp(min((edge - scale.notch(value)) / TYPICAL_WIDTH_NOTCHES, 20.0))
    return Run(load, value, min(lasts, seconds), int(lasts < seconds), lasts < seconds)


def load_check(declaration: RigDeclaration, load: str, seconds: float, times: int = 1) -> Check:
    """Make a check that is one load, once or several times, and no more."""
    work = declaration.workload(load)
    stage = Stage(f"{work.name.lower()} for the edge", StageKind.LOAD, (load,), times, 0, seconds)
    return Check((stage,), declaration.settle_channel, declaration.settle_below)


def prove(part: Proof, declaration: RigDeclaration, start: Tried) -> Climb:
    """Load what is in force; a failure ends it and leaves the rig where it was."""
    share_s = part.hours * HOUR_S / len(part.loads)
    times = max(1, math.ceil(share_s / LONGEST_PROOF_S))
    for load in part.loads:
        check = load_check(declaration, load, share_s / times, times)
        tried = yield Try({}, f"proof: {duration(share_s)} of {declaration.workload(load).name}", check, start.position)
        if tried.verdict is not Verdict.HELD:
            return
