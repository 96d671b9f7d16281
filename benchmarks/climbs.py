"""Climbs toward a goal against the truth: evenings on machines nobody has seen, several policies with the same hours.

Run `python -m benchmarks.climbs --rigs 60 --seed 7 --hours 8 --goals score trade quiet`; without a seed it takes a fresh one and
prints it. The machines are those of `benchmarks/strangers.py` whose knobs are set live. What a setup is truly worth is read
from the same machine without noise; whether it truly meets its standard, is held, and stays below its ceilings from two hours
of the load at it. The optimum is looked for on the machine's own model: every voltage, power limit, fan level, and the
riskiest clock and memory rate that truly hold there.

Policies: *goal*, the plan of that kind; *clock alone*, the search for its edge from stock; *greedy*, one knob after the other
kept where it gained; *all enablers*, each to the tuner's own limit and then the edges; *at random*, single changes drawn by
chance and kept where they gained.
"""

from __future__ import annotations

import argparse
import math
import secrets
import statistics
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

from benchmarks.chips import Meter
from benchmarks.shares import share
from benchmarks.strangers import BUS_CLOCKED, KINDS, Truth, drawn
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import DropProposal, Propose
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Knob, Setup
from yondle.model.verdicts import Verdict
from yondle.planning.goals.goal import Goal, Kind, reach
from yondle.planning.plan_files import goal_text
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.rigs.simulated.world import World, fresh_state
from yondle.views.shared.gains import gain_of

LOAD, BENCHMARK = "mixed_load", "stacking"
KNOBS = ("core_clock", "core_voltage", "power_limit", "fan_level", "memory_rate")
ENABLERS, FOLLOWERS = ("power_limit", "fan_level", "core_voltage"), ("core_clock", "memory_rate")
DAILY_PER_H, HELD = 1.0 / 8.0, 0.995
LOSS = 0.02
HOUR_S = 3600.0
VOLTAGES = 14
EDGE_PLAN = """
format = "yondle-plan 1"
name = "the edge"
passes = 2
[stop]
hours = {hours}
[[do]]
kind = "edge"
knob = "{knob}"
loads = ["mixed_load"]
"""


@dataclass(frozen=True, slots=True)
class Held:
    """What two hours of the load come to: failures an hour, the least share of the clock, and if it stayed below ceilings."""

    per_hour: float
    share: float
    ceilings: bool

    def daily(self, raised: bool = True) -> bool:
        """Tell whether it meets the standard, and where the clock was raised keeps it: stock limits itself as it does."""
        return self.per_hour <= DAILY_PER_H and (self.share >= HELD or not raised)


@dataclass
class Machine:
    """A machine's truth: what setups are worth, and whether they hold, at one time of the night."""

    text: str
    at_s: float
    kind: Kind
    stock: Setup
    known: dict[Setup, bool] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.truth = Truth(self.text, self.at_s)
        self.rig = parse_rig_file(self.text, "machine")

    def holds(self, setup: Setup) -> bool:
        """Tell whether a setup meets the standard below the ceilings; the load ends as soon as that is out of the question."""
        if setup not in self.known:
            held = self.held(setup, whole=False)
            self.known[setup] = held.daily() and held.ceilings
        return self.known[setup]

    def gain(self, setup: Setup) -> float:
        """Give what a setup is worth over stock, on logs: score, score per watt, or speed of the fan taken off."""
        score = self.score(setup)
        if self.kind is Kind.SCORE:
            return score
        if self.kind is Kind.TRADE:
            return score - math.log(self.watts(setup) / self.watts(self.stock))
        lost = max(0.0, math.log1p(-LOSS) - score)
        return -math.log(setup["fan_level"] / self.stock["fan_level"]) - 20.0 * lost

    def score(self, setup: Setup) -> float:
        """Give the score over stock, on logs."""
        return self.truth.log(setup, BENCHMARK) - self.truth.log(self.stock, BENCHMARK)

    def watts(self, setup: Setup) -> float:
        """Give the power from the wall under the benchmark."""
        return self.truth.watts(setup, BENCHMARK)

    def held(self, setup: Setup, whole: bool = True) -> Held:
        """Load a setup for two hours."""
        state = fresh_state(self.rig)
        state.t_s = self.at_s
        state.values.update(setup)
        world = World(self.rig, state)
        world.start(LOAD, 2 * HOUR_S)
        if world.running is None or state.down:
            return Held(math.inf, 0.0, False)
        meter = Meter()
        world.running.fate = meter  # type: ignore[assignment]
        for _ in range(60):
            world.advance(HOUR_S / 60.0)
            if not whole and meter.hazard > SURELY_TOO_OFTEN:
                return Held(math.inf, 0.0, False)
        before, held = meter.hazard, Held(0.0, 1.0, True)
        for _ in range(60):
            world.advance(HOUR_S / 60.0 - 1.0 / 60.0)
            share = min(held.share, world.draw.clock_ghz * 1000.0 / setup["core_clock"])
            below = held.ceilings and state.die_c < CEILING_C and world.draw.power_w < CEILING_W
            held = Held(meter.hazard - before, share, below)
            if not (whole or (held.daily() and below)):
                break
        return held


SURELY_TOO_OFTEN = 8.0 * DAILY_PER_H
"""Failures in the first hour; in the second the machine is warmer, and fails no more rarely."""
CEILING_C, CEILING_W = 88.0, 130.0
"""The tuner's own ceilings on Heron, whose relatives all these machines are."""


def optimum(machine: Machine, knobs: dict[str, list[float]]) -> tuple[Setup, float]:
    """Look for the setup that is worth most and truly holds."""
    stock = machine.stock
    free = stock.with_values({k: max(knobs[k]) for k in ("power_limit", "fan_level") if k in knobs})
    best, most = stock, 0.0
    rates = [free]
    if "memory_rate" in knobs:
        rates = [free.with_values({"memory_rate": r}) for r in knobs["memory_rate"] if r >= stock["memory_rate"]]
    memory = max((r for r in rates if machine.held(r).daily()), key=lambda r: r.get("memory_rate", 0.0), default=free)
    volts = knobs.get("core_voltage", [stock["core_voltage"]])
    stride = max(1, len(volts) // VOLTAGES)
    levels, clocks = sorted(knobs.get("fan_level", [stock["fan_level"]])), knobs["core_clock"]
    near = len(clocks) // 2
    for fan in levels if machine.kind is Kind.QUIET else levels[-1:]:
        for voltage in volts[::-1][::stride]:
            base = memory.with_values({"core_voltage": voltage, "fan_level": fan})
            worse = clocks.index(best["core_clock"]) if machine.kind is Kind.SCORE and most > 0.0 else 0
            highest = _highest(machine, [base.with_values({"core_clock": c}) for c in clocks], near, worse)
            if highest is None:
                continue
            near = highest
            for clock in _to_look_at(machine.kind, clocks, clocks[highest]):
                setup = base.with_values({"core_clock": clock})
                worth = machine.gain(setup)
                if worth > most and machine.holds(setup):
                    best, most = setup, worth
        if best["fan_level"] == fan and machine.score(best) >= math.log1p(-LOSS):
            break
    return best, most


def _highest(machine: Machine, setups: list[Setup], near: int, least: int) -> int | None:
    """Give the place of the highest that holds from `least` on, if one does: from `near` by doubled strides, then by halving."""
    low, high, stride, at = least - 1, len(setups), 1, max(near, least)
    while high - low > 1:
        if machine.holds(setups[at]):
            low = at
        else:
            high = at
        if low < least:
            at = max(least, high - stride)
        elif high == len(setups):
            at = min(high - 1, low + stride)
        else:
            at = (low + high) // 2
        stride *= 2
    return low if low >= least else None


def _to_look_at(kind: Kind, clocks: list[float], highest: float) -> list[float]:
    if kind is Kind.SCORE:
        return [highest]
    return [c for c in clocks if c <= highest][::-1][:12:2]


# -- policies -------------------------------------------------------------------------------------------------------------

Policy = Callable[[Session, Kind, float, Random], None]


def by_goal(session: Session, kind: Kind, hours: float, chance: Random) -> None:
    """Climb."""
    movable = {k.id for k in session.declaration.knobs}
    knobs = tuple(k for k in KNOBS if k in movable)
    goal = Goal(kind, ((BENCHMARK, 1.0),), (LOAD,), hours=hours, loss=LOSS, knobs=knobs)
    session.do(StartPlan(goal_text(session.declaration, goal), "the climb", unattended=True))


def clock_alone(session: Session, kind: Kind, hours: float, chance: Random) -> None:
    """Search the edge of the clock from stock."""
    session.do(StartPlan(EDGE_PLAN.format(hours=hours, knob="core_clock"), "the edge", unattended=True))


def all_enablers(session: Session, kind: Kind, hours: float, chance: Random) -> None:
    """Set every enabler to the tuner's own limit, then search the edges."""
    began = session.machine.clock.now()
    for knob in _live(session, ENABLERS):
        _step(session, knob.id, reach(session.declaration, knob)[-1])
    _edges(session, began, hours)


def greedy(session: Session, kind: Kind, hours: float, chance: Random) -> None:
    """Try each knob a part of its way up and down, keep what gained for sure, then search the edges."""
    began = session.machine.clock.now()
    for knob in _live(session, ENABLERS):
        values, here = reach(session.declaration, knob), session.snapshot.in_force[knob.id]
        for value in (values[-1], values[(values.index(here) + len(values) - 1) // 2 if here in values else -1]):
            if _left_s(session, began, hours) > 0.0:
                _kept_if_better(session, knob, value)
    _edges(session, began, hours)


def at_random(session: Session, kind: Kind, hours: float, chance: Random) -> None:
    """Change single knobs by chance and keep what gained for sure."""
    began = session.machine.clock.now()
    knobs = _live(session, KNOBS)
    while _left_s(session, began, hours) > 0.0:
        knob = chance.choice(knobs)
        values = reach(session.declaration, knob)
        at = min(range(len(values)), key=lambda i: abs(values[i] - session.snapshot.in_force[knob.id]))
        way = max(1, len(values) // 8)
        _kept_if_better(session, knob, values[min(max(at + chance.choice((-way, way)), 0), len(values) - 1)])


POLICIES: dict[str, Policy] = {
    "goal": by_goal, "clock alone": clock_alone, "greedy": greedy, "all enablers": all_enablers, "at random": at_random,
}  # fmt: skip


def _live(session: Session, names: tuple[str, ...]) -> list[Knob]:
    return [k for name in names for k in session.declaration.knobs if k.id == name]


def _left_s(session: Session, began: float, hours: float) -> float:
    return hours * HOUR_S - (session.machine.clock.now() - began)


def _edges(session: Session, began: float, hours: float) -> None:
    for knob in _live(session, FOLLOWERS):
        left = _left_s(session, began, hours) / HOUR_S
        home = session.snapshot.position
        if left > 0.2:
            session.do(StartPlan(EDGE_PLAN.format(hours=left, knob=knob.id), "the edge", unattended=True))
            if home is not None and session.snapshot.in_force[knob.id] < home.step.setup[knob.id]:
                session.do(ReturnTo(home.step.number))


def _step(session: Session, knob: str, value: float) -> bool:
    """Test one change; tells whether it held."""
    if session.snapshot.in_force[knob] == value:
        return False
    session.do(Propose(knob, value))
    record = session.do(TryProposal(2))
    session.do(DropProposal())
    return record.verdict is Verdict.HELD


def _kept_if_better(session: Session, knob: Knob, value: float) -> None:
    home = session.snapshot.position
    if not _step(session, knob.id, value):
        return
    book = session.snapshot
    here = book.position
    if here is None or home is None:
        return
    benchmark = book.declaration.workload(BENCHMARK)
    after, before = gain_of(book, here, benchmark), gain_of(book, home, benchmark)
    now = before.fraction if before is not None else 0.0
    if after is None or after.fraction - now < after.margin:
        session.do(ReturnTo(home.step.number))


# -- one evening ----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Came:
    """What came of one evening: shares of what can be had, watts over stock, hours, failures, and whether it truly holds."""

    policy: str
    goal: Kind
    best: float
    worth: float
    watts: float
    best_watts: float
    hours: float
    down: int
    wrong: int
    daily: bool
    cool: bool
    claimed: float
    setup: str
    moves: tuple[str, ...] = ()


def evening(job: tuple[str, tuple[str, ...], tuple[Kind, ...], float, bool]) -> list[Came]:
    """Let every policy have the same machine for the same hours, for every goal."""
    seed, policies, goals, hours, tell = job
    with TemporaryDirectory() as folder:
        text = next(one for again in range(20) if _holds(Path(folder), one := drawn(seed, again)[1]))
        came: list[Came] = []
        for kind in goals:
            found: tuple[Setup, float] | None = None
            for name in policies:
                path = Path(folder) / f"{kind}-{name}.yondle"
                session = create_logbook(path, RigChoice("simulated", "Rig", text))
                session.do(RunBaseline(5))
                began, stock = session.machine.clock.now(), session.snapshot.in_force
                try:
                    POLICIES[name](session, kind, hours, Random(seed))
                except KnownError as error:
                    print(f"{seed} {name} {kind}: {error.problem}", flush=True)
                book, now = session.snapshot, session.machine.clock.now()
                late = began + hours * HOUR_S
                machine = Machine(text, late, kind, stock)
                knobs = {k.id: reach(book.declaration, k) for k in _live(session, KNOBS)}
                if found is None:
                    found = optimum(Machine(text, late, kind, stock), knobs)
                came.append(_came(session, name, machine, found, (now - began) / HOUR_S, tell))
                session.close()
    return came


def _came(session: Session, name: str, machine: Machine, found: tuple[Setup, float], hours: float, tell: bool) -> Came:
    book, setup = session.snapshot, session.snapshot.in_force
    outcomes = [a.outcome for r in book.steps for a in r.attempts if a.outcome is not None]
    position = book.position
    gain = gain_of(book, position, book.declaration.workload(BENCHMARK)) if position is not None else None
    claim = math.log1p(gain.low) if gain is not None and gain.sure else -math.inf
    moves = tuple(
        f"{a.conditions.get('asked because', '')} | {_changes(r.step.changes)} | {a.outcome.verdict if a.outcome else ''}"
        for r in book.steps for a in r.attempts
    ) if tell else ()  # fmt: skip
    held = machine.held(setup)
    daily = held.daily(raised=setup["core_clock"] > machine.stock["core_clock"])
    down, wrong = (sum(o.verdict is verdict for o in outcomes) for verdict in (Verdict.DOWN, Verdict.WRONG))
    watts, most = (machine.watts(each) - machine.watts(machine.stock) for each in (setup, found[0]))
    words = f"{_set(machine.stock, setup)} of {_set(machine.stock, found[0])} {held}"
    too_high = claim - machine.score(setup)
    worth = machine.gain(setup)
    return Came(
        name, machine.kind, found[1], worth, watts, most, hours, down, wrong, daily, held.ceilings, too_high, words, moves
    )  # fmt: skip


def _changes(changes: Iterable[Change]) -> str:
    return ", ".join(f"{change.knob} {change.new:g}" for change in changes)


def _set(stock: Setup, setup: Setup) -> str:
    return " ".join(f"{c.knob}={c.new:g}" for c in stock.changes_to(setup)) or "stock"


def _holds(folder: Path, text: str) -> bool:
    session = create_logbook(folder / "stock.yondle", RigChoice("simulated", "Rig", text))
    held = session.do(RunBaseline(5)).verdict is Verdict.HELD
    session.close()
    (folder / "stock.yondle").unlink()
    return held


def table(came: list[Came]) -> Iterator[str]:
    """Write the table."""
    yield (
        "| goal | policy | share of what can be had, median (quarters) | watts over stock, of the best's | truly daily"
        " | below its ceilings at dawn | went down | wrong | hours | gains told too high |"
    )
    yield "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |"
    for goal in dict.fromkeys(c.goal for c in came):
        for policy in dict.fromkeys(c.policy for c in came):
            these = [c for c in came if c.policy == policy and c.goal is goal and c.best > LEAST_TO_BE_HAD]
            if not these:
                continue
            shares = sorted((c.worth if c.daily else min(c.worth, 0.0)) / c.best for c in these)
            low, middle, high = statistics.quantiles(shares, n=4) if len(shares) > 1 else shares * 3
            watts = statistics.fmean(c.watts for c in these), statistics.fmean(c.best_watts for c in these)
            too_high = share(sum(c.claimed > TOO_HIGH for c in these), len(these))
            yield (
                f"| {goal} | {policy} | {100 * middle:.0f} % ({100 * low:.0f} to {100 * high:.0f})"
                f" | {watts[0]:+.0f} of {watts[1]:+.0f} W | {share(sum(c.daily for c in these), len(these))}"
                f" | {share(sum(c.cool for c in these), len(these))}"
                f" | {statistics.fmean(c.down for c in these):.1f} | {statistics.fmean(c.wrong for c in these):.1f}"
                f" | {statistics.median(c.hours for c in these):.1f} | {too_high} |"
            )


TOO_HIGH = 0.0005
"""A gain that is told as sure and whose whole range lies so much above the truth, on logs, is a false claim."""
LEAST_TO_BE_HAD = 0.01
"""Where less than this can be had, on logs, a share of it says nothing."""


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rigs", type=int, default=60)
    parser.add_argument("--skip", type=int, default=0, help="leave out so many of them, to go on where a run ended")
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--hours", type=float, default=8.0)
    parser.add_argument("--goals", nargs="*", default=["score", "trade", "quiet"])
    parser.add_argument("--policies", nargs="*", default=list(POLICIES))
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--each", action="store_true", help="print every evening")
    parser.add_argument("--moves", action="store_true", help="print every move of the climbs")
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    live = [i for i in range(2 * chosen.rigs) if KINDS[i % len(KINDS)] != BUS_CLOCKED][chosen.skip : chosen.rigs]
    goals = tuple(Kind(goal) for goal in chosen.goals)
    jobs = [(f"{seed}/{i}", tuple(chosen.policies), goals, chosen.hours, chosen.moves) for i in live]
    came: list[Came] = []
    with ProcessPoolExecutor(chosen.workers) as pool:
        for (name, *_), those in zip(jobs, pool.map(evening, jobs), strict=True):
            came += those
            for each in those if chosen.each else ():
                machine = KINDS[int(name.rsplit("/", 1)[1]) % len(KINDS)]
                print(
                    f"{name} {machine} {each.goal} {each.policy}: {100 * each.worth:+.1f} of"
                    f" {100 * each.best:+.1f} %, daily {each.daily}, down {each.down}, {each.hours:.1f} h, {each.watts:+.0f} W of"
                    f" {each.best_watts:+.0f}; {each.setup}",
                    flush=True,
                )
                for move in each.moves:
                    print(f"    {move}")
    print(f"{len(live)} machines, {chosen.hours:g} h, standard: daily; seed {seed}\n")
    print("\n".join(table(came)))


if __name__ == "__main__":
    main()
