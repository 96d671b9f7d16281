"""The search for an edge: what is believed of it, which test comes next and why, and what is recommended."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping
from copy import copy
from dataclasses import dataclass

from yondle.analysis.edges import told_by_others
from yondle.analysis.exposure import ANY_LOAD
from yondle.analysis.hazards import BelievedHazards, Hazards
from yondle.analysis.hold import Scale
from yondle.analysis.runs import Run
from yondle.analysis.soak import cooled, warmed
from yondle.analysis.stability import HOUR_S, PER_HOUR, Standard, least_per_hour
from yondle.analysis.warming import notches_per_k, warming_k
from yondle.language.saying import say
from yondle.model.knobs import When
from yondle.model.quantities import count, duration, number
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Tried
from yondle.planning.edge_search import (
    CRASH_PRICE_S,
    LEAST_GAIN_PER_H,
    RISK,
    RISK_OF_TWO,
    USUAL_NOTCHES,
    WATCHED_LONGER,
    Aim,
    Chooser,
    Load,
    NextTest,
    Prices,
    Style,
)

LIVE_CHANGE_S = 20.0
"""Setting a live knob, reading it back and starting a load."""
USUAL_RESTART_S = 120.0
SURE_TO_FAIL = 0.05
PROVEN_SHARE = 0.125
"""What is recommended has itself run for this share of the time in which its standard allows one failure."""
FAILURES_TELL = 4
"""So many failures of one setting that fails too often tell what a further one would."""
_MOST_AHEAD = 20
_MOST_AT_ONCE = 3
"""Corrected errors come in bursts: more than so many of one run are no proof by themselves that a setting fails too often."""
_LARGEST_EXPONENT = 20.0


@dataclass(frozen=True, slots=True)
class Edge:
    """Search for the riskiest value of a knob that meets a standard under each of these loads.

    `to` is the riskiest value that may be tried, `hours` the time the search may take, and `room` how many notches safer
    than recommended the rig is left. With `along` the edge is searched at each value `at` of that knob, and the rig is left
    where it began.
    """

    knob: str
    loads: tuple[str, ...]
    standard: Standard = Standard.DAILY
    style: Style = Style.EVEN
    to: float | None = None
    hours: float | None = None
    room: int = 0
    along: str | None = None
    at: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Found:
    """What a search has come to: the value it recommends, the probability that it meets the standard, and what it rests on.

    `left_at` is the value with the room asked for, `sure_there` its probability, `edge` are the values between which the edge
    of the worst load lies with 95 % probability, `corrected` those between which it lies where errors are corrected, once any
    were; `contradicted_from` is a value that fails too often by its own record where the model would have recommended it or
    more: something else has changed. Of the `runs` under load, `recalled` were made before the search began; `failures` of
    them failed, and `held_back` tests ended with the machine held back or refusing. All of it holds for a room of `room_c`,
    in °C, `warmer_k` warmer than in the tests; None where nobody told how warm it was.
    """

    value: float
    probability: float
    a_notch_safer: float
    left_at: float
    sure_there: float
    edge: tuple[float, float]
    chances: tuple[tuple[float, float], ...]
    runs: int
    recalled: int
    failures: int
    held_back: int
    loaded_s: float
    contradicted_from: float | None
    corrected: tuple[float, float] | None = None
    room_c: float | None = None
    warmer_k: float = 0.0


def lasting_s(notch: float, edge: float, width: float) -> float:
    """Give how long a load lasts on average at a notch, seconds, by edge and width in notches."""
    return HOUR_S * math.exp(min((edge - notch) / width, _LARGEST_EXPONENT))


class EdgeSearch:
    """What is believed of a knob's edge under some loads, and the next test; pure, fed with runs."""

    def __init__(self, part: Edge, declaration: RigDeclaration, share: float = 1.0, change_s: float = 0.0) -> None:
        """Begin with nothing known; its knob may fail for this share of the failures that the standard allows.

        A change counts as so many seconds at least, where it costs more than it takes.
        """
        self._share = share
        knob = declaration.knob(part.knob)
        self.part, self.knob = part, knob
        self._scale = Scale(knob)
        self.notches = self._scale.notches
        counts = any(channel.quantity is Quantity.ERRORS for channel in declaration.channels)
        self._loads = {load: Hazards(self.notches, self._scale.widths(), counts) for load in part.loads}
        low, high = sorted(self._scale.notch(v) for v in declaration.own_range(knob))
        self._least, self._most = round(low), round(high)
        if part.to is not None:
            self._most = max(self._least, min(self._most, round(self._scale.notch(part.to))))
        entry_s = declaration.entry_s if knob.when in (When.BY_HAND, When.AT_HAND) else 0.0
        self._restart_s = (declaration.restart_s or USUAL_RESTART_S) + entry_s
        restarts = knob.when in (When.BY_HAND, When.RESTART)
        self._change_s = max(LIVE_CHANGE_S + (self._restart_s if restarts else entry_s), change_s)
        self._failures = self._ended = self._crashes = self._runs = self._recalled = self._held_back = 0
        self._loaded_s = self._warmth = 0.0
        self._here: int | None = None
        self._less, self._held, self._look = 1, self._least, self.notches
        self._seen: list[tuple[int, float, int]] = []
        self._clean: list[tuple[str, int, float]] = []
        self._rooms: list[tuple[float, float]] = []
        self._warmest: float | None = None
        self.held_back_from: float | None = None

    def expect(self, there: Mapping[str, BelievedHazards]) -> None:
        """Take in what is expected beforehand, by load."""
        for load, believed in there.items():
            self._loads[load].expect(believed)

    def may_cause(self, share: float) -> None:
        """Take it that its knob may fail for this share of the failures that the standard allows."""
        self._share = share

    def believed(self) -> dict[str, BelievedHazards]:
        """Give what is believed by now of each load's edge."""
        return {load: posterior.middle() for load, posterior in self._loads.items()}

    def learn(self, runs: Iterable[Run]) -> None:
        """Take in what runs said; those of other loads say nothing here."""
        for run in runs:
            concerned = [p for load, p in self._loads.items() if run.load in (load, ANY_LOAD)]
            for load in concerned:
                load.take(self._scale.notch(run.value), run)
            self._warmth = cooled(warmed(run.warmth, run.seconds), self._restart_s if run.down else 0.0)
            if not concerned:
                continue
            self._seen.append((round(self._scale.notch(run.value)), run.seconds, min(run.failures, _MOST_AT_ONCE)))
            self._runs += 1
            self._loaded_s += run.seconds
            self._failures += run.failures > 0
            self._ended += run.failures > run.corrected
            self._crashes += run.down
            if not run.failures:
                self._clean.append((run.load, self._seen[-1][0], run.seconds))
            if not run.failures and run.seconds > 0.0:
                self._held = max(self._held, round(self._scale.notch(run.value)))
            self._here = None if run.failures else round(self._scale.notch(run.value))

    def recall(self, known: Tried) -> None:
        """Take in what was known before the search began, and how warm the room was at the most."""
        self.learn(known.ran)
        self._recalled, self._warmest = self._runs, known.room_c

    def take(self, value: float, tried: Tried) -> None:
        """Take in what a test of a value has told, and how far the machine let it go."""
        self.learn(tried.ran)
        if tried.room_c is not None:
            self._rooms.append((self._loaded_s, tried.room_c))
        if tried.verdict in (Verdict.HELD_BACK, Verdict.REFUSED):
            self._held_back += 1
            self.stay_below(value, tried.reached)

    def stand_at(self, value: float) -> None:
        """Take it that this value is in force now, so that going on there takes no change."""
        self._here = round(self._scale.notch(value))

    def look_up_to(self, notch: int) -> None:
        """Look no further than a notch for now, though no nearer than what held."""
        self._look = max(notch, self._held + 1, self._least)

    @property
    def held_notch(self) -> int:
        """The riskiest notch that held."""
        return self._held

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

    def next_test(self, least: float | None = None) -> NextTest | None:
        """Give the test that brings most for its price; None when none brings so many notches an hour, or what usually does."""
        if least is None:
            least = LEAST_GAIN_PER_H * self.notches / USUAL_NOTCHES * (WATCHED_LONGER if self._two else 1.0)
        return self._chooser().next_test(self._told(), least, self._here)

    @property
    def seen_runs(self) -> int:
        """How many runs it has learned from."""
        return self._runs

    def seconds_left(self) -> float:
        """Estimate what the search will still take: the tests to come, played on the machine that is likeliest by now."""
        ahead, likeliest, seconds = copy(self), self.believed(), 0.0
        ahead._loads = {load: copy(posterior) for load, posterior in self._loads.items()}
        ahead._seen = []
        for _ in range(_MOST_AHEAD):
            test = ahead.next_test()
            if test is None:
                break
            load = self.load_of(test)
            fatal = likeliest[load].fatal
            lasts = lasting_s(test.notch, fatal.edge, math.exp(fatal.log_width))
            failed = lasts < test.seconds
            seconds += LIVE_CHANGE_S if test.notch == ahead._here else self._change_s
            seconds += min(lasts, test.seconds) + failed * self._restart_s
            value = self.value_of(test.notch)
            warmth = cooled(ahead._warmth, LIVE_CHANGE_S)
            ahead.learn([Run(load, value, min(lasts, test.seconds), int(failed), failed, warmth)])
        return seconds

    def found(self) -> Found:
        """Say what is known by now."""
        chooser, loads = self._chooser(), self._told()
        notch = chooser.recommended(loads)
        failed = self._surely_too_high()
        contradicted = failed is not None and notch >= failed
        if failed is not None:
            notch = max(min(notch, failed - 1), 0)
        ranges = [load.edge_range() for load in loads]
        worst = min(ranges, key=sum)
        chances = chooser.chances_right(loads)
        roomy = max(notch - self.part.room, min(self._least, notch))
        return Found(
            self._scale.value(notch),
            chances[notch],
            chances[max(notch - 1, 0)],
            self._scale.value(roomy),
            chances[roomy],
            (self._scale.place(worst[0]), self._scale.place(worst[1])),
            tuple((self._scale.value(n), chance) for n, chance in enumerate(chances)),
            self._runs,
            self._recalled,
            self._failures,
            self._held_back,
            self._loaded_s,
            self._scale.value(failed) if failed is not None and contradicted else None,
            self._corrected(),
            round(self._mean_room() + self._warming_k(), 1) if self._rooms else None,
            self._warming_k(),
        )

    def unproven_s(self, load: str, value: float) -> float:
        """Give how long a value has yet to run a load, seconds: a share of the time in which its standard allows one failure.

        What it or a riskier value ran without a failure counts.
        """
        notch = round(self._scale.notch(value))
        ran = sum(seconds for of, at, seconds in self._clean if of == load and at >= notch)
        return max(0.0, PROVEN_SHARE * HOUR_S / PER_HOUR[self.part.standard] - ran)

    def _corrected(self) -> tuple[float, float] | None:
        ranges = [load.corrected.edge_range() for load in self._loads.values() if load.seen]
        if not ranges:
            return None
        low, high = sorted(self._scale.place(end) for end in min(ranges, key=sum))
        return low, high

    def _mean_room(self) -> float:
        return sum(room for _, room in self._rooms) / len(self._rooms)

    def _warming_k(self) -> float:
        return warming_k(self._rooms, self._warmest)

    def _surely_too_high(self) -> int | None:
        """Give the lowest notch that fails too often by its own record, whatever the model makes of it; None without one.

        Time that riskier notches were loaded counts for it, too: it can't be worse than they are.
        """
        per_hour = PER_HOUR[self.part.standard]
        for notch in sorted({notch for notch, _, failures in self._seen if failures}):
            failures = sum(f for n, _, f in self._seen if n == notch)
            seconds = sum(s for n, s, _ in self._seen if n >= notch)
            if least_per_hour(failures, seconds) > per_hour:
                return notch
        return None

    def load_of(self, test: NextTest) -> str:
        """Name the load of a test."""
        return self.part.loads[test.load]

    def value_of(self, notch: int) -> float:
        """Give the value at a notch counted from the safest end."""
        return self._scale.value(notch)

    def why(self, test: NextTest, declaration: RigDeclaration) -> str:
        """Say in one sentence why a test comes next."""
        now = self._chooser().recommended(self._told())
        load = declaration.workload(self.load_of(test)).name
        begin = say(
            "{seconds} of {load} at {value_of}",
            seconds=duration(test.seconds),
            load=load,
            value_of=self.knob.text(self.value_of(test.notch)),
        )
        up, down = test.if_held - now, now - test.if_failed
        more, fewer = (count(n, "notch", "notches") for n in (up, down))
        if test.chance < SURE_TO_FAIL:
            return say("{begin}: it will fail, and how soon tells how steep the edge is", begin=begin)
        if up > 0 and down > 0:
            gains = say(
                "if it holds, {more} more can be recommended; if it fails, {fewer} fewer", more=more, fewer=fewer
            )
        elif up > 0:
            gains = say("if it holds, {more} more can be recommended", more=more)
        elif down > 0:
            gains = say("if it fails, {fewer} fewer can be recommended", fewer=fewer)
        else:
            gains = say("either end narrows where the edge lies")
        return say("{begin}: {gains} ({chance} % to hold)", begin=begin, gains=gains, chance=number(100 * test.chance))

    @property
    def _two(self) -> bool:
        return any(load.counts for load in self._loads.values())

    def _told(self) -> list[Load]:
        return [load.view() for load in told_by_others(list(self._loads.values()))]

    def _chooser(self) -> Chooser:
        crash_share = (self._crashes + 1.0) / (self._ended + 1.0)
        price = crash_share * (self._restart_s + CRASH_PRICE_S[self.part.style])
        prices = Prices(self._change_s, LIVE_CHANGE_S, price)
        warmth = cooled(self._warmth, LIVE_CHANGE_S)
        lower = self._warming_k() * max(notches_per_k(load.fatal) for load in self._loads.values())
        aim = Aim(self._share * PER_HOUR[self.part.standard], RISK_OF_TWO if self._two else RISK, lower)
        return Chooser(
            aim, prices, self._least, max(min(self._most, self._look, self._told_enough()), self._least), warmth
        )

    def _told_enough(self) -> int:
        """Give the riskiest notch that is still worth a test: one that fails too often by its own record, and has done so
        several times, tells nothing more, and neither does what is riskier.
        """
        failed = Counter(notch for notch, _, failures in self._seen if failures)
        too_high = self._surely_too_high()
        known = [n for n, times in failed.items() if times >= FAILURES_TELL and too_high is not None and n >= too_high]
        return min(known, default=self.notches + 1) - 1
