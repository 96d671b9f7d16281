"""The climb toward a goal: what matters, what frees it, where its edge then is; one change at a time, each with its reason.

Screening measures what no test has told yet. Then, again and again: work out the setup that is expected to serve the goal
best (ground.py), go there by single changes, what makes room first, and look for the edge of what follows (finding.py), told
beforehand what the other searches have found. It ends when nothing left is worth its time, or the hours are over.
"""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import replace

from yondle.analysis.hazards import BelievedHazards
from yondle.analysis.hold import Scale
from yondle.analysis.stability import HOUR_S, PER_HOUR, STANDARD_WORDS
from yondle.language.saying import in_sentence, listed, named, say
from yondle.model.knobs import Change, Knob, Risk, Setup, Subsystem, When
from yondle.model.quantities import chance
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import FOR_EDGE, SCORE_STAGE, Check, Stage, StageKind
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction
from yondle.planning.climb import Climb, GoBack, Move, Recall, Tried, Try
from yondle.planning.edge_plans import LEAST_RUN_IN_S, load_check
from yondle.planning.edge_search import LEAST_GAIN_PER_H, USUAL_NOTCHES
from yondle.planning.finding import PROVEN_SHARE, Edge, EdgeSearch
from yondle.planning.goals.beliefs import caps
from yondle.planning.goals.goal import Goal, Kind, reach
from yondle.planning.goals.ground import Ground
from yondle.planning.goals.optimum import best_value, followed, optimum
from yondle.planning.goals.reasons import why_on_the_way
from yondle.planning.ladder import from_one_state

SCREENING_SHARE = 0.25
"""Of the hours so much may go into finding out what matters at all."""
SCREENING_ROUNDS, STEP_ROUNDS, FEW_CHOICES = 2, 2, 4
"""Score passes of every benchmark of the goal when a knob is screened, and when one is set on the way; and so many choices
of a switch or mode are screened."""
COOLING_S, LOOKED_AT_S = 300.0, 60.0
"""What cooling is worth shows after so long under load; and so long an enabler is loaded on the way."""
LEAST_WORTH = 0.004
"""A way that is expected to bring less than this, on logs, ends the climb."""
RATHER_SURE = 0.9
"""What is screened toward its risky end is to hold with this chance, and so is what stands in the end."""
SCREENED_BY, SCREENED_SAFELY_BY = 0.025, 0.1
"""A knob that may fail is screened by moving it about so much, on logs: enough to show, and hardly a risk; toward its safe end
by so much."""
LAST_S = 900.0
"""With less time than this left nothing new is begun."""
MOST_TURNS, MOST_LOWERED, MOST_REFUSED, MOST_PROOFS = 10, 4, 2, 3
MORE_CAUTION, MOST_CAUTION = 1.5, 9.0
"""Where what stands isn't sure enough, the next turn keeps so many notches more from the edges, up to so many."""
SEARCH_SHARE = 0.7
"""Of the time that is left, without that of the proof, one search may take so much."""
LEAST_AN_HOUR, USUAL_HOURS = 0.0015, 8.0
"""What an hour of search is to bring at least, on logs, where there are so many hours."""
COARSER, CLOSER, MOST_COARSE = 4.0, 0.25, 4.0
"""A search on the way ends at so many times that, since the settings may yet change, and at the end at so many; but at no more
than so many times what ends one that is asked for by itself."""
MAIN_SHARE = 0.75
"""Of the failures that a standard allows, the knob with an edge that brings most may cause so many; the others share the rest."""
HAND_COUNTS_S = 3600.0
"""A value that somebody has to enter counts as an hour: between two entries as much is tested as is worth it."""
BEYOND_WANTED, BEYOND_HELD = 2, 2
"""An edge is looked for up to so many notches beyond what serves the goal, and beyond what held or where it is expected."""


class GoalClimb:
    """One climb: what is believed, where it stands, and how much of its time is left."""

    def __init__(self, goal: Goal, declaration: RigDeclaration, start: Tried) -> None:
        self.goal, self.declaration, self.start = goal, declaration, start
        self.ground = Ground(declaration, goal)
        self.home, self.now_s = start, start.at_s
        self.given_up: set[tuple[str, float]] = set()
        self.screened: set[tuple[str, float]] = set()
        self.stood: list[Tried] = []
        self.searches: dict[tuple[str, Setup], EdgeSearch] = {}

    # -- what the moves are made by -------------------------------------------------------------------------------------

    def moves(self, left_out: list[str]) -> Climb:
        """Make the moves; what is left out for want of time goes into `left_out`, in words."""
        known = yield Recall("")
        self._hear(known)
        late = yield from self._screen(1.0 if self.goal.kind is Kind.MATTERS else SCREENING_SHARE)
        if self.goal.kind is not Kind.MATTERS:
            yield from self._ascend()
            if late and self.left_s > 0.0:
                # What there was no time for at first is looked at with what is left.
                late = yield from self._screen(1.0)
                yield from self._ascend()
        if late:
            left_out.append(say("screening {knobs}, for want of time", knobs=", ".join(late)))
        told = {knob for knob, _ in self.screened if knob not in self.ground.measured}
        mute = [in_sentence(k.name) for k in self.declaration.knobs if k.id in told]
        if mute:
            left_out.append(say("what {knobs} may be worth: no pass of it counted", knobs=", ".join(mute)))
        if self._worse_than_the_start():
            self.home = self.start
        if self._elsewhere:
            yield GoBack(self.home.position, say("this is the best that was found"))

    def _worse_than_the_start(self) -> bool:
        """Tell whether what stands serves the goal less than what the climb began with, which stays within limits."""
        with self.ground.limits.for_what_stands():
            here, began = (self.ground.outlook(each.in_force) for each in (self.home, self.start))
        return began.fits and here.utility < began.utility

    def _ask(self, move: Move) -> Generator[Move, Tried, Tried]:
        """Make a move, and learn from it."""
        tried = yield move
        self._hear(tried)
        return tried

    def _hear(self, tried: Tried) -> None:
        self.ground.learn(tried.lessons, tried.at_s)
        self.now_s = max(self.now_s, tried.at_s)
        self._at = tried.position

    @property
    def _elsewhere(self) -> bool:
        return self._at != self.home.position

    @property
    def left_s(self) -> float:
        """The seconds that are left."""
        return self.goal.hours * HOUR_S - (self.now_s - self.start.at_s)

    # -- screening --------------------------------------------------------------------------------------------------------

    def _screen(self, share: float) -> Generator[Move, Tried, list[str]]:
        """Measure what was never measured, within a share of the hours; gives the names of what there was no time for."""
        until_s = self.start.at_s + share * self.goal.hours * HOUR_S
        late: list[str] = []
        for knob, values in self._to_screen():
            for value in values:
                if self.now_s >= until_s:
                    late.append(in_sentence(knob.name))
                    break
                why = say("what {knob} brings is not known yet", knob=in_sentence(knob.name))
                check = self._scores(SCREENING_ROUNDS, knob)
                if knob.subsystem is Subsystem.COOLING:
                    check = self._loaded(check, dict.fromkeys(self.goal.loads[:1], COOLING_S))
                self.screened.add((knob.id, value))
                yield from self._ask(Try({knob.id: value}, why, check, self.home.position))
        return late

    def _to_screen(self) -> list[tuple[Knob, list[float]]]:
        """Give what to screen by which values, what may bring most first; what was measured, or only frees others, not."""
        found, home = [], self.home.in_force
        for knob in self.ground.movable:
            known = self.ground.measured.get(knob.id, set())
            frees = caps(knob) or (knob.unit == "V" and self.goal.kind is not Kind.MATTERS)
            if frees or (known and not knob.choices):
                continue
            # What was looked at without a figure to show for it isn't looked at again.
            asked = (v for v in self._screening_values(knob) if v not in known and (knob.id, v) not in self.screened)
            values = [v for v in asked if not self.ground.failed(home.with_values({knob.id: v}))]
            if values:
                found.append((self._promise(knob, values), knob, values))
        found.sort(key=lambda each: -each[0])
        return [(knob, values) for _, knob, values in found]

    def _promise(self, knob: Knob, values: list[float]) -> float:
        """Give how far what a value brings may lie from nothing, by what is believed of it."""
        home = self.home.in_force
        told = [self.ground.gain(home.with_values({knob.id: v}), home) for v in values]
        return max(abs(middle) + spread for middle, spread in told) / (4.0 if knob.when is not When.LIVE else 1.0)

    def _screening_values(self, knob: Knob) -> list[float]:
        here, values = self.home.in_force[knob.id], reach(self.declaration, knob)
        others = [v for v in values if v != here]
        if knob.choices:
            return others[:FEW_CHOICES]
        if knob.risk is Risk.NONE:
            return [others[-1] if others[-1] > here else others[0]] if others else []
        riskier = [v for v in others if (v > here) == (knob.risk is Risk.UP)]
        some = [v for v in riskier if self._moved(knob, v) >= SCREENED_BY] or riskier[-1:]
        nearest = min(some, key=lambda v: abs(v - here), default=here)
        there = self.home.in_force.with_values({knob.id: nearest})
        if nearest != here and self.ground.outlook(there).chance >= RATHER_SURE:
            return [nearest]
        # Toward the safe end the score answers as well, nothing is risked, and a large move shows more.
        safer = [v for v in others if v not in riskier]
        logs = self.ground.features.logs(knob)
        some = [v for v in safer if not logs or self._moved(knob, v) <= SCREENED_SAFELY_BY] or safer
        farthest = max(some, key=lambda v: abs(v - here), default=here)
        there = self.home.in_force.with_values({knob.id: farthest})
        return [farthest] if farthest != here and self.ground.outlook(there).chance >= RATHER_SURE else []

    def _moved(self, knob: Knob, value: float) -> float:
        return abs(
            self.ground.features.place(knob, value) - self.ground.features.place(knob, self.home.in_force[knob.id])
        )

    # -- ascent -----------------------------------------------------------------------------------------------------------

    def _ascend(self) -> Climb:
        """Turn after turn: the best that is expected, by single changes, and its edge; then what is left is proved.

        Where the proof fails what it taught is taken in, and it goes on from there.
        """
        for _ in range(MOST_TURNS):
            self._note_what_stands()
            worth = self._worth_of_going()
            if worth is not None and self._time_for_more() and not self._reached():
                went = yield from self._walk(worth)
                if went:
                    continue
            yield from self._refine()
            if self._time_for_more() and self._more_careful():
                continue
            if self._time_for_more() and not self._reached() and self._worth_of_going() is not None:
                continue
            self._note_what_stands()
            self._take_the_best()
            proved = yield from self._prove()
            if proved:
                return
            if self.left_s < LAST_S:
                break
        yield from self._end_with_what_holds()

    def _end_with_what_holds(self) -> Climb:
        """Prove the best of what stood; where nothing does, and what stands isn't sure, end where the climb began."""
        for _ in range(MOST_PROOFS):
            self._take_the_best()
            lacks_s = sum(self._unproven_s(load) for load in self.goal.loads)
            if lacks_s > 0.0 and self.left_s < lacks_s:
                break
            if lacks_s == 0.0 and self._unsure():
                # What was proved before failed close to it since.
                if not (yield from self._lower()):
                    break
                continue
            if (yield from self._prove()):
                return
        looked_at = any(search.seen_runs for _, search in self._searched(self.home.in_force))
        if not looked_at or self._unsure():
            self.home = self.start

    def _lower(self) -> Generator[Move, Tried, bool]:
        """Go down from edges that leave too little room where it stands, to what is recommended there; tells whether it did."""
        went = False
        for knob in self._unsure():
            search = self.searches.get(self._context(knob, self.home.in_force))
            if search is not None:
                went |= yield from self._settle_on(search)
        return went

    def _note_what_stands(self) -> None:
        looked_at = (
            any(search.seen_runs for _, search in self._searched(self.home.in_force)) or not self.ground.followers
        )
        if looked_at and not self._unsure() and self._stands():
            self.stood.append(self.home)

    def _take_the_best(self) -> None:
        """Go back to what stood before where that is worth more: what was given up on the way may have brought nothing."""
        with self.ground.limits.for_what_stands():
            stood = [t for t in self.stood if not self.ground.failed(t.in_force) and not self._unsure(t.in_force)]
            seen = [(self.ground.outlook(each.in_force), each) for each in stood]
            now = self.ground.outlook(self.home.in_force).utility
        best = max((s for s in seen if s[0].fits), key=lambda each: each[0].utility, default=None)
        if best is not None and best[0].utility > now + LEAST_WORTH:
            self.home = best[1]

    def _unsure(self, here: Setup | None = None) -> list[Knob]:
        """Give the knobs whose edge leaves too little room at a setting, where it stands without: the safest end may fail.

        Knobs of one part share its edge, so the surest of their searches speaks for it.
        """
        here, sure = here or self.home.in_force, dict[Subsystem, float]()
        for knob, search in self._searched(here):
            if search.seen_runs and not self.ground.edges.as_stock(knob, here):
                chance_here = dict(search.found().chances)[here[knob.id]]
                sure[knob.subsystem] = max(sure.get(knob.subsystem, 0.0), chance_here)
        return [k for k in self.ground.followers if sure.get(k.subsystem, 1.0) < RATHER_SURE]

    def _more_careful(self) -> bool:
        """Have the next turn keep further from edges that what stands isn't sure of; tells whether there is one."""
        caution = self.ground.edges.caution
        unsure = [k for k in self._unsure() if caution.get(k.id, 0.0) < MOST_CAUTION]
        for knob in unsure:
            caution[knob.id] = caution.get(knob.id, 0.0) + MORE_CAUTION
        return bool(unsure)

    def _searched(self, here: Setup) -> list[tuple[Knob, EdgeSearch]]:
        """Give the knobs whose edge was looked for with all else as in a setting."""
        found = ((k, self.searches.get(self._context(k, here))) for k in self.ground.followers)
        return [(knob, search) for knob, search in found if search is not None]

    def _time_for_more(self) -> bool:
        return self.left_s >= LAST_S + self._proof_s()

    def _worth_of_going(self) -> Setup | None:
        """Give the setup to go toward; None where none is worth its time.

        Where an edge was looked for, the law is held against itself: it hopes for more than a search dares. And what stands,
        and is sure, is left only for what is still better by what a search would dare there.
        """
        here = self.home.in_force
        searched, unsure = self._searched(here), self._unsure()
        if any(self.ground.edges.caution.get(k.id) for k in unsure):
            return self._other_than_here(optimum(self.ground, here))
        if searched and not unsure and not self._stands():
            return self._other_than_here(optimum(self.ground, here))
        target, now = optimum(self.ground, here), followed(self.ground, here, [knob for knob, _ in searched])
        ahead, before = (self.ground.outlook(each) for each in (target, now))
        if (before.fits or searched) and ahead.utility - before.utility < LEAST_WORTH * (2.0 if searched else 1.0):
            return None
        if searched and not unsure:
            dared = self.ground.outlook(self._as_dared(target, now))
            if dared.utility - self.ground.outlook(here).utility < LEAST_WORTH:
                return None
        return self._other_than_here(target)

    def _stands(self) -> bool:
        """Tell whether what stands keeps clear of limits: where rooms get warmer it is not left for the first doubt."""
        with self.ground.limits.for_what_stands():
            return self.ground.outlook(self.home.in_force).fits

    def _other_than_here(self, target: Setup) -> Setup | None:
        return target if target != self.home.in_force else None

    def _as_dared(self, target: Setup, now: Setup) -> Setup:
        """Give a setup with edges as far below what the law hopes for as what stands is below what it hopes for here."""
        safer = dict[str, float]()
        for knob in self.ground.followers:
            scale = Scale(knob)
            short = scale.notch(now[knob.id]) - scale.notch(self.home.in_force[knob.id])
            safer[knob.id] = scale.value(max(round(scale.notch(target[knob.id]) - max(short, 0.0)), 0))
        return target.with_values(safer)

    @staticmethod
    def _context(knob: Knob, here: Setup) -> tuple[str, Setup]:
        return knob.id, here.with_values({knob.id: knob.stock})

    def _refine(self) -> Climb:
        """Look closer at the edges where it stands, with the time that proof will not need."""
        for knob in self.ground.followers:
            if self._time_for_more():
                yield from self._follow(knob, CLOSER)
        followers, here = self.ground.followers, self.home.in_force
        if len(followers) > 1 and all(self.ground.edges.as_stock(knob, here) for knob in followers[1:]):
            # What the others were not moved for is left to the one that brings most.
            search = self.searches.get(self._context(followers[0], here))
            if search is not None and self._time_for_more():
                search.may_cause(1.0)
                yield from self._follow(followers[0], CLOSER)

    def _reached(self) -> bool:
        target = self.goal.target
        if target is None:
            return False
        work = self.declaration.workload(self.goal.benchmarks[0][0])
        best = self.home.best.get(work.id)
        if best is None:
            return False
        return best <= target if work.metric.direction is Direction.LOWER else best >= target

    def _walk(self, target: Setup) -> Generator[Move, Tried, bool]:
        """Go toward a setup by single changes, what makes room first; tells whether anything came of it."""
        went, followers = False, self.ground.followers
        edged = {k.id for k in followers}
        for knob in followers:
            # What has to be given up for the others to hold goes first.
            wanted, here = target[knob.id], self.home.in_force[knob.id]
            if wanted != here and (wanted < here) == (knob.risk is Risk.UP):
                went |= yield from self._set(knob, wanted)
        enabling = [c for c in self.home.in_force.changes_to(target) if c.knob not in edged]
        went |= yield from self._set_together(enabling)
        while enabling and self.left_s >= LAST_S:
            change = max(enabling, key=lambda c: self._room_after(c.knob, c.new))
            enabling.remove(change)
            if self.ground.failed(self.home.in_force.with_values({change.knob: change.new})):
                continue
            held = yield from self._set(self.declaration.knob(change.knob), change.new)
            went |= held
            if not held:
                return True
        for knob in followers:
            if self.left_s < LAST_S:
                break
            if best_value(self.ground, self.home.in_force, knob) != self.home.in_force[knob.id]:
                went |= yield from self._follow(knob)
        return went

    def _set_together(self, enabling: list[Change]) -> Generator[Move, Tried, bool]:
        """Set in one entry what waits for one anyway and only makes room for others; takes what held out of what is left.

        Somebody who restarts for each of them is away all evening, and none of them is judged by itself. Where they don't hold
        together each is tried alone.
        """
        knobs = [(self.declaration.knob(c.knob), c) for c in enabling]
        together = [c for knob, c in knobs if knob.when in (When.BY_HAND, When.RESTART) and self._frees(knob)]
        seconds = dict.fromkeys(self.goal.loads, LOOKED_AT_S)
        if len(together) < 2 or not seconds or self.left_s < LAST_S:
            return False
        names = listed([in_sentence(self.declaration.knob(c.knob).name) for c in together])
        why = say(
            "{knobs} in one restart: none of them is judged by itself, they make room for what comes next", knobs=names
        )
        tried = yield from self._ask(
            Try({c.knob: c.new for c in together}, why, self._only_loads(seconds), self.home.position)
        )
        if tried.verdict is not Verdict.HELD:
            return False
        self.home = tried
        enabling[:] = [c for c in enabling if c not in together]
        return True

    @staticmethod
    def _frees(knob: Knob) -> bool:
        return (knob.unit == "V" or knob.governs) and not knob.choices

    def _room_after(self, knob_id: str, value: float) -> float:
        seen = self.ground.outlook(self.home.in_force.with_values({knob_id: value}))
        return seen.chance + seen.fits

    def _set(self, knob: Knob, value: float) -> Generator[Move, Tried, bool]:
        """Set one value on the way, look how it holds and what it draws; tells whether it held."""
        seconds = dict.fromkeys(self.goal.loads, LOOKED_AT_S)
        frees = (knob.unit == "V" or knob.governs) and bool(seconds)
        check = self._only_loads(seconds) if frees else self._loaded(self._scores(STEP_ROUNDS, knob), seconds)
        tried = yield from self._ask(
            Try(
                {knob.id: value},
                why_on_the_way(self.ground, self.home.in_force, knob, value),
                check,
                self.home.position,
            )
        )
        if tried.verdict is Verdict.HELD:
            self.home = tried
            return True
        self.given_up.add((knob.id, value))
        return False

    # -- followers --------------------------------------------------------------------------------------------------------

    def _follow(self, knob: Knob, coarser: float = COARSER) -> Generator[Move, Tried, bool]:
        """Move a knob with an edge to where it serves the goal best: searched for where that is at the edge, else set."""
        if not self.goal.loads:
            wanted = optimum(self.ground, self.home.in_force, [knob])[knob.id]
            return wanted != self.home.in_force[knob.id] and (yield from self._set(knob, wanted))
        context = self._context(knob, self.home.in_force)
        search = self.searches.get(context)
        if search is None:
            search = self.searches[context] = self._begin(knob)
            known = yield from self._ask(Recall(knob.id))
            search.recall(known)
        search.stand_at(self.home.in_force[knob.id])
        until_s = self.now_s + SEARCH_SHARE * (self.left_s - self._proof_s())
        refused, held_back, least = 0, 0, self._least_of(search, coarser)
        while max(refused, held_back) < MOST_REFUSED and self.now_s < until_s and not self._edge_of_no_interest(search):
            self._bound(search)
            test = search.next_test(least)
            if test is None or self.now_s + test.seconds > until_s + LAST_S:
                break
            value, check = search.value_of(test.notch), load_check(self.declaration, search.load_of(test), test.seconds)
            why = search.why(test, self.declaration)
            tried = yield from self._ask(Try({knob.id: value}, why, check, self.home.position, knob.id))
            refused += tried.verdict is Verdict.REFUSED
            # What a limit holds back at one value after the other is held back by something else than this knob.
            held_back = held_back + 1 if tried.verdict is Verdict.HELD_BACK else 0
            search.take(value, tried)
        return (yield from self._settle_on(search))

    def _bound(self, search: EdgeSearch) -> None:
        """Look no further than the goal asks, and not at once far beyond where the edge is expected or something held."""
        scale, home = Scale(search.knob), self.home.in_force
        wanted = round(scale.notch(best_value(self.ground, home, search.knob))) + BEYOND_WANTED
        expected = [self.ground.edges.believed(search.knob, home, at) for at in range(len(self.goal.loads))]
        likely = min((each.edge for each in expected), default=float(scale.notches))
        search.look_up_to(min(wanted, max(round(likely), search.held_notch + BEYOND_HELD)))

    def _least_of(self, search: EdgeSearch, coarser: float) -> float:
        """Give how many notches an hour a search has to bring: more on the way of few hours, or where a notch is worth little.

        What a notch is worth has its bound: whether it holds at all has to be known of every setting that is left in force.
        """
        an_hour = LEAST_AN_HOUR * (math.sqrt(USUAL_HOURS / self.goal.hours) if coarser > 1.0 else 1.0)
        usual = LEAST_GAIN_PER_H * search.notches / USUAL_NOTCHES
        return min(coarser * an_hour / max(self._worth_of_a_notch(search), 1e-6), MOST_COARSE * usual)

    def _worth_of_a_notch(self, search: EdgeSearch) -> float:
        """Give what one notch more of a knob is worth, on logs, about where it stands."""
        scale, home = Scale(search.knob), self.home.in_force
        at = round(scale.notch(home[search.knob.id]))
        low, high = max(at - 2, 0), min(at + 2, scale.notches)
        ends = (self.ground.outlook(home.with_values({search.knob.id: scale.value(n)})).utility for n in (high, low))
        return (next(ends) - next(ends)) / max(high - low, 1)

    def _share(self, knob: Knob) -> float:
        """Give which share of the failures that the standard allows a knob may cause: most of them the one that brings most."""
        followers = self.ground.followers
        if len(followers) < 2:
            return 1.0
        return MAIN_SHARE if knob.id == followers[0].id else (1.0 - MAIN_SHARE) / (len(followers) - 1)

    def _begin(self, knob: Knob) -> EdgeSearch:
        """Begin a search, told beforehand what the law over all settings expects here; runs made here it recalls by itself."""
        goal, home = self.goal, self.home.in_force
        part = Edge(knob.id, goal.loads, goal.standard, goal.style)
        waits_s = HAND_COUNTS_S if knob.when in (When.BY_HAND, When.AT_HAND) else 0.0
        search = EdgeSearch(part, self.declaration, self._share(knob), waits_s)
        expected = (self.ground.edges.believed(knob, home, at, apart=True) for at in range(len(goal.loads)))
        search.expect({load: BelievedHazards(each, None) for load, each in zip(goal.loads, expected, strict=True)})
        return search

    def _edge_of_no_interest(self, search: EdgeSearch) -> bool:
        """Tell whether more than what serves the goal best is recommended already: where the edge lies is of no interest."""
        scale, best = Scale(search.knob), best_value(self.ground, self.home.in_force, search.knob)
        return search.seen_runs > 0 and scale.notch(search.found().value) > scale.notch(best)

    def _settle_on(self, search: EdgeSearch) -> Generator[Move, Tried, bool]:
        """Go to what is recommended, or to what serves the goal better and is safer, and measure it."""
        knob, scale = search.knob, Scale(search.knob)
        for _ in range(MOST_LOWERED):
            found, home = search.found(), self.home.in_force
            value = best_value(self.ground, home, knob, found.left_at)
            there = home.with_values({knob.id: value})
            while (knob.id, value) in self.given_up and scale.notch(value) > 0:
                value = scale.value(round(scale.notch(value)) - 1)
                there = home.with_values({knob.id: value})
            if value == home[knob.id]:
                return False
            # What is no riskier than stock is lowered for no doubt.
            as_stock = self.ground.edges.as_stock(knob, home)
            sure = as_stock or dict(found.chances)[home[knob.id]] >= RATHER_SURE
            if sure and self.ground.outlook(there).utility < self.ground.outlook(home).utility:
                return False
            why = say(
                "recommended: {standard_words} with {sure} probability",
                standard_words=named(STANDARD_WORDS[self.goal.standard]),
                sure=chance(dict(found.chances)[value]),
            )
            check = self._loaded(self._scores(STEP_ROUNDS, knob), dict.fromkeys(self.goal.loads, LOOKED_AT_S))
            tried = yield from self._ask(Try({knob.id: value}, why, check, self.home.position))
            search.take(value, tried)
            if tried.verdict is Verdict.HELD:
                self.home = tried
                return True
            self.given_up.add((knob.id, value))
        return False

    # -- proof ------------------------------------------------------------------------------------------------------------

    def _proof_s(self) -> float:
        """Give how long each load has to run at what is left in force, all loads together, seconds."""
        return len(self.goal.loads) * PROVEN_SHARE * HOUR_S / PER_HOUR[self.goal.standard]

    def _unproven_s(self, load: str) -> float:
        """Give how long a load has yet to run at the settings in force."""
        ran = self.ground.ran_s(self.home.in_force, load)
        return max(0.0, PROVEN_SHARE * HOUR_S / PER_HOUR[self.goal.standard] - ran)

    def _prove(self) -> Generator[Move, Tried, bool]:
        """Load what is left in force for its share of what the standard asks; tells whether it held.

        Where it fails the rig is where it came from, and the value that was moved toward its edge last is given up.
        """
        at = self.home.in_force
        left = {load: s for load in self.goal.loads if (s := self._unproven_s(load)) >= LEAST_RUN_IN_S}
        if at == self.start.in_force or not left:
            return True
        why = say(
            "proof: what is left in force is loaded for its share of what {standard} asks", standard=self.goal.standard
        )
        tried = yield from self._ask(Try({}, why, self._only_loads(left), self.home.position))
        runs = [run for lesson in tried.lessons for run in lesson.runs]
        for context, search in self.searches.items():
            if context == self._context(search.knob, at):
                value = at[search.knob.id]
                search.take(value, replace(tried, ran=tuple(replace(run, value=value) for run in runs)))
        if tried.verdict is not Verdict.HELD:
            for knob in self.ground.followers:
                if Scale(knob).notch(at[knob.id]) > Scale(knob).notch(knob.stock):
                    self.given_up.add((knob.id, at[knob.id]))
        self.home = tried
        return tried.verdict is Verdict.HELD

    # -- checks -----------------------------------------------------------------------------------------------------------

    def _scores(self, rounds: int, knob: Knob) -> Check:
        """Score passes of the goal's benchmarks, in turns with where it starts from where that can be set live."""
        names = tuple(name for name, _ in self.goal.benchmarks)
        check = from_one_state((Stage(SCORE_STAGE, StageKind.SCORE, names, rounds, 1),), self.declaration)
        return replace(check, alternates=knob.when is When.LIVE)

    @staticmethod
    def _loaded(check: Check, seconds: Mapping[str, float]) -> Check:
        """Have loads run before the passes of a check: what can't be loaded needs no score."""
        return replace(check, stages=(*_loads(seconds), *check.stages))

    def _only_loads(self, seconds: Mapping[str, float]) -> Check:
        return Check(_loads(seconds), self.declaration.settle_channel, self.declaration.settle_below)


def _loads(seconds: Mapping[str, float]) -> tuple[Stage, ...]:
    return tuple(Stage(f"{FOR_EDGE}{load}", StageKind.LOAD, (load,), 1, 0, each) for load, each in seconds.items())


def climb_goal(goal: Goal, declaration: RigDeclaration, start: Tried, left_out: list[str]) -> Climb:
    """Climb toward a goal."""
    yield from GoalClimb(goal, declaration, start).moves(left_out)


def goal_name(goal: Goal, declaration: RigDeclaration) -> str:
    """Name a goal as a plan is named."""
    what = ", ".join(declaration.workload(name).name for name, _ in goal.benchmarks)
    words = {
        Kind.SCORE: say("highest {what}", what=what),
        Kind.TRADE: say("best trade of {what} and power", what=what),
        Kind.QUIET: say("quietest for {what}", what=what),
        Kind.COOL: say("coolest for {what}", what=what),
        Kind.MATTERS: say("what matters to {what}", what=what),
    }
    return words[goal.kind]
