"""The search for the edge against what people do by hand: thousands of made-up chips whose edge is known.

Run `python -m benchmarks.edge --chips 300 --seed 7`; without a seed it takes a fresh one and prints it.
"""

from __future__ import annotations

import argparse
import math
import secrets
import statistics
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from random import Random

import numpy as np

from benchmarks.shares import share
from yondle.analysis.hold import Posterior
from yondle.analysis.soak import cooled, warmed
from yondle.planning.edge_search import CRASH_PRICE_S, LEAST_GAIN_PER_H, RISK, Aim, Chooser, Prices, Style

NOTCHES = 60
NOTCH_MHZ = 25.0
CRASH_S, CHANGE_S = 180.0, 50.0
DAILY_PER_H = 1.0 / 8.0
HOUR_S = 3600.0
WIDTHS = np.geomspace(0.12, 2.4, 10)


@dataclass(frozen=True, slots=True)
class World:
    """Which chips there are: widths in MHz, the shape of time to failure (1 is exponential), and the floor."""

    name: str
    widths_mhz: tuple[float, float] = (6.0, 30.0)
    shape: float = 1.0
    floor_per_h: float = 0.0


WORLDS = (
    World("as assumed"),
    World("wider: w 30 to 45 MHz", widths_mhz=(30.0, 45.0)),
    World("early failures: Weibull 0.6", shape=0.6),
    World("late failures: Weibull 1.5", shape=1.5),
    World("floor of one in 24 h", floor_per_h=1.0 / 24.0),
)


class Chip:
    """One chip with a hidden edge, and the clock and counts of the search on it."""

    def __init__(self, world: World, chance: Random) -> None:
        self._world, self.chance = world, chance
        self.edge = chance.uniform(5.0, NOTCHES - 5.0)
        self.width = chance.uniform(*world.widths_mhz) / NOTCH_MHZ
        self.dead_beyond = self.edge + chance.uniform(3.0, 12.0)
        self.spent_s = self.warmth = self.began = 0.0
        self.crashes = self.tests = 0

    def per_hour(self, notch: int) -> float:
        """The reciprocal of the characteristic life, which for an exponential is the failure rate."""
        return self._world.floor_per_h + math.exp(min((notch - self.edge) / self.width, 50.0))

    @property
    def right(self) -> int:
        """The highest notch that meets the standard."""
        return max(n for n in range(-1, NOTCHES + 1) if n < 0 or self.per_hour(n) <= DAILY_PER_H)

    def run(self, notch: int, seconds: float) -> tuple[float, bool]:
        """Load a notch for so long; gives the seconds it lasted and whether it failed."""
        lasts = 0.0
        if notch <= self.dead_beyond:
            lasts = HOUR_S / self.per_hour(notch) * self.chance.expovariate(1.0) ** (1.0 / self._world.shape)
        failed = lasts < seconds
        self.tests += 1
        self.crashes += failed
        self.spent_s += CHANGE_S + min(lasts, seconds) + failed * CRASH_S
        self.began = cooled(self.warmth, CHANGE_S)
        self.warmth = cooled(warmed(self.began, min(lasts, seconds)), failed * CRASH_S)
        return min(lasts, seconds), failed


Way = Callable[[Chip], int]


def one_at_a_time(test_s: float, proof_s: float) -> Way:
    """Climb notch by notch, go back one at the first failure, prove it; back another for each failed proof."""

    def climb(chip: Chip) -> int:
        notch = 0
        while notch < NOTCHES and not chip.run(notch + 1, test_s)[1]:
            notch += 1
        while notch > 0 and chip.run(notch, proof_s)[1]:
            notch -= 1
        return notch

    return climb


def halving(test_s: float, guard: int, proof_s: float = 0.0) -> Way:
    """Halve the range until the edge lies between two notches; take the lower one, less a guard."""

    def halve(chip: Chip) -> int:
        low, high = 0, NOTCHES + 1
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (low, middle) if chip.run(middle, test_s)[1] else (middle, high)
        notch = max(0, low - guard)
        while proof_s and notch > 0 and chip.run(notch, proof_s)[1]:
            notch -= 1
        return notch

    return halve


def search(style: Style, least_gain: float = LEAST_GAIN_PER_H, risk: float = RISK, price: float | None = None) -> Way:
    """The search of Yondle, told nothing but the range."""

    def find(chip: Chip) -> int:
        posterior = Posterior(NOTCHES, WIDTHS)
        crash = CRASH_PRICE_S[style] if price is None else price
        prices = Prices(CHANGE_S, CHANGE_S, CRASH_S + crash)
        while True:
            chooser = Chooser(Aim(DAILY_PER_H, risk), prices, 0, NOTCHES, cooled(chip.warmth, CHANGE_S))
            test = chooser.next_test([posterior], least_gain)
            if test is None or chip.tests > 200:
                return chooser.recommended([posterior])
            lasted, failed = chip.run(test.notch, test.seconds)
            posterior.take(test.notch, lasted, int(failed), chip.began)

    return find


@dataclass(frozen=True, slots=True)
class Told:
    """What came of one search: hours, crashes, whether the answer meets the standard, and notches short of the best."""

    hours: float
    crashes: int
    tests: int
    right: bool
    short: int


def tell(way: Way, world: World, seed: str) -> Told:
    """Search one chip."""
    chip = Chip(world, Random(seed))
    notch = way(chip)
    return Told(chip.spent_s / HOUR_S, chip.crashes, chip.tests, notch <= chip.right, chip.right - notch)


WAYS: tuple[tuple[str, Way], ...] = (
    ("one notch at a time, 10 min each, an hour of proof", one_at_a_time(600.0, 3600.0)),
    ("one notch at a time, 1 min each, an hour of proof", one_at_a_time(60.0, 3600.0)),
    ("halving, 10 min each, an hour of proof", halving(600.0, 0, 3600.0)),
    ("halving, 10 min each, three notches of guard", halving(600.0, 3)),
    ("the search, bold", search(Style.BOLD)),
    ("the search, even", search(Style.EVEN)),
    ("the search, careful", search(Style.CAREFUL)),
)


def _one(job: tuple[int, int, str]) -> Told:
    way, world, seed = job
    return tell(WAYS[way][1], WORLDS[world], seed)


def row(name: str, told: list[Told]) -> str:
    """Write one line of the table."""
    hours = sorted(t.hours for t in told)
    reach = 0.98 * math.sqrt(len(hours))
    low, high = (hours[min(max(round(len(hours) / 2 + side * reach), 0), len(hours) - 1)] for side in (-1, 1))
    crashes, tests, short = (statistics.fmean(values) for values in _columns(told))
    return (
        f"| {name} | {statistics.median(hours):.2f} h ({low:.2f} to {high:.2f}) | {hours[int(0.9 * len(hours))]:.1f} h"
        f" | {crashes:.1f} | {tests:.0f} | {share(sum(t.right for t in told), len(told))} | {short:.2f} |"
    )


def _columns(told: list[Told]) -> Iterator[list[float]]:
    yield [float(t.crashes) for t in told]
    yield [float(t.tests) for t in told]
    yield [float(t.short) for t in told]


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--chips", type=int, default=300)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--workers", type=int, default=2)
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    print(f"{chosen.chips} chips a row, standard: daily (1 failure in 8 h); seed {seed}\n")
    with ProcessPoolExecutor(chosen.workers) as pool:
        for at, world in enumerate(WORLDS):
            print(f"**{world.name}**\n")
            print("| way | hours, median | 9 of 10 within | crashes | tests | meets the standard | notches short |")
            print("| --- | --- | --- | --- | --- | --- | --- |")
            for number, (name, _) in enumerate(WAYS):
                jobs = [(number, at, f"{seed}/{at}/{chip}") for chip in range(chosen.chips)]
                print(row(name, list(pool.map(_one, jobs, chunksize=4))), flush=True)
            print()


if __name__ == "__main__":
    main()
