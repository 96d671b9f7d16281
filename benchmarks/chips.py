"""The search for the edge on whole simulated machines nobody has seen: chips drawn at random, the truth read from within.

Run `python -m benchmarks.chips --chips 300 --seed 7`; without a seed it takes a fresh one and prints it. Each machine is
Heron with another edge, width, voltage and heat answer; it corrects no errors before a crash, or begins to well before it,
on a slope of its own. It is tuned as a tuner would: stock, power limit, fan, voltage, then the search for *daily* under the
mixed load. The truth is the mean hazard over the second hour of that load at a setting, with heat and voltage as they then are.
"""

from __future__ import annotations

import argparse
import re
import secrets
import statistics
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import product
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

from benchmarks.shares import share
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import DropProposal, Propose
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.knobs import Setup
from yondle.model.verdicts import Verdict
from yondle.rigs.simulated.faults import Rates
from yondle.rigs.simulated.memory import Short
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text
from yondle.rigs.simulated.world import World, fresh_state

LOAD = "mixed_load"
DAILY_PER_H = 1.0 / 8.0
ROOM = (("power_limit", 120.0), ("fan_level", 80.0), ("core_voltage", 1.25))
HOUR_S = 3600.0
PLAN = """
format = "yondle-plan 1"
name = "the edge"
passes = 2
[[do]]
kind = "edge"
knob = "core_clock"
loads = ["mixed_load"]
style = "{style}"
"""


@dataclass(frozen=True, slots=True)
class Told:
    """What came of one chip: hours of the search, failures, whether it meets the standard, notches short, held back."""

    hours: float
    failures: int
    right: bool
    short: int
    held_back: bool


class Meter:
    """Lives through hazard without ever failing, and adds it up: stands in for a run's fate."""

    def __init__(self) -> None:
        self.hazard = 0.0

    def spend(self, rates: Rates, short: Short, dt_s: float) -> None:
        """Add up."""
        each = (rates.core, rates.core_wrong, rates.memory, rates.graphics, rates.graphics_wrong)
        self.hazard += sum(each) * dt_s

    def corrected(self, expected: float) -> int:
        """Add up what is expected, and correct nothing."""
        self.hazard += expected
        return 0


def chip_text(chance: Random, two_slopes: bool = False) -> str:
    """Describe a chip as a rig file: one that corrects no errors, or one that does, with a slope of their own."""
    text = rig_text("heron")[0].replace("corrected_lead_mhz = 40.0\n", "", 1)
    drawn = {
        "clock_mhz": chance.uniform(4350.0, 4750.0),
        "width_mhz": chance.uniform(6.0, 30.0),
        "mhz_per_v": chance.uniform(1800.0, 3200.0),
        "mhz_per_k": chance.uniform(1.0, 3.0),
        "start_margin_mhz": chance.uniform(120.0, 320.0),
        "floor_per_h": chance.choice((0.0, 0.004, 0.02)),
    }
    if two_slopes:
        drawn["width_mhz"] = chance.uniform(6.0, 15.0)
        slope = f"corrected_lead_mhz = {chance.uniform(40.0, 80.0):.3f}\ncorrected_width_mhz = {chance.uniform(20.0, 50.0):.3f}\n"
        text = text.replace("[edge]\n", f"[edge]\n{slope}", 1)
    head, edge, tail = re.split(r"(?<=\[edge\]\n)|(?=\n\[memory\]\n)", text, maxsplit=2)
    for name, value in drawn.items():
        edge = re.sub(rf"^{name} = .*$", f"{name} = {value:.3f}", edge, flags=re.MULTILINE)
    seed = chance.randrange(10**6)
    whole = re.sub(r"^seed = .*$", f"seed = {seed}", head + edge + tail, count=1, flags=re.MULTILINE)
    return whole.replace("hard_load_s = 180.0", "hard_load_s = 60.0").replace(
        "memory_load_s = 180.0", "memory_load_s = 60.0"
    )


def truth_per_hour(text: str, setup: Setup, at_s: float) -> float:
    """Give the mean failures an hour over the second hour of the load at a setup, begun at a time of the night."""
    rig = parse_rig_file(text, "chip")
    state = fresh_state(rig)
    state.t_s = at_s
    state.values.update(setup)
    world = World(rig, state)
    world.start(LOAD, 2 * HOUR_S)
    if world.running is None or state.down:
        return float("inf")
    meter = Meter()
    world.running.fate = meter  # type: ignore[assignment]
    world.advance(HOUR_S)
    before = meter.hazard
    world.advance(HOUR_S - 1.0)
    return meter.hazard - before


def search_chip(job: tuple[str, str, bool]) -> Told:
    """Tune one chip and hold the recommendation against the truth."""
    seed, style, two_slopes = job
    text = chip_text(Random(seed), two_slopes)
    with TemporaryDirectory() as folder:
        session = create_logbook(Path(folder) / "chip.yondle", RigChoice("simulated", "Chip", text))
        session.do(RunBaseline(2))
        for knob_id, value in ROOM:
            session.do(Propose(knob_id, value))
            session.do(TryProposal(2))
            session.do(DropProposal())
        began, first = session.machine.clock.now(), len(session.snapshot.steps)
        session.do(StartPlan(PLAN.format(style=style), "the edge", lambda *_: None))
        hours = (session.machine.clock.now() - began) / HOUR_S
        tried = [a.outcome.verdict for r in session.snapshot.steps[first:] for a in r.attempts if a.outcome is not None]
        setup, now = session.snapshot.in_force, session.machine.clock.now()
        knob = session.declaration.knob("core_clock")
        session.close()
    notch = knob.notch_of(setup["core_clock"])
    best = max(
        (n for n in range(knob.notches + 1) if abs(n - notch) <= 12 and _meets(text, setup, knob.at(n), now)),
        default=-1,
    )
    failures = sum(v in (Verdict.DOWN, Verdict.WRONG) for v in tried)
    return Told(hours, failures, _meets(text, setup, knob.at(notch), now), best - notch, Verdict.HELD_BACK in tried)


def _meets(text: str, setup: Setup, clock_mhz: float, at_s: float) -> bool:
    return truth_per_hour(text, setup.with_values({"core_clock": clock_mhz}), at_s) <= DAILY_PER_H


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--chips", type=int, default=300)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--styles", nargs="*", default=["even"])
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    print(f"{chosen.chips} unseen chips a row, standard: daily (1 failure in 8 h); seed {seed}\n")
    print(
        "| chips | style | hours, median | failures | meets the standard | notches short | held back before its edge |"
    )
    print("| --- | --- | --- | --- | --- | --- | --- |")
    with ProcessPoolExecutor(chosen.workers) as pool:
        for style, two in product(chosen.styles, (False, True)):
            told = list(pool.map(search_chip, [(f"{seed}/{i}", style, two) for i in range(chosen.chips)]))
            free = [t for t in told if not t.held_back]
            kind = "errors corrected on a slope of their own" if two else "no errors corrected"
            print(
                f"| {kind} | {style} | {statistics.median(t.hours for t in told):.2f} h"
                f" | {statistics.fmean(t.failures for t in told):.1f} | {share(sum(t.right for t in told), len(told))}"
                f" | {statistics.fmean(t.short for t in free):.2f} | {share(len(told) - len(free), len(told))} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
