"""What goes beyond the search for one edge, each against the search without it: kept only where the table shows a gain.

Run `python -m benchmarks.beyond --chips 200 --seed 7`; without a seed it takes a fresh one and prints it. Chips, prices and
standard are those of benchmarks/edge.py, the style is *even*.
"""

from __future__ import annotations

import argparse
import math
import secrets
import statistics
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from random import Random

from benchmarks.edge import CHANGE_S, CRASH_S, DAILY_PER_H, HOUR_S, NOTCH_MHZ, NOTCHES, WIDTHS, WORLDS, Chip, World
from benchmarks.shares import share
from yondle.analysis.edges import expected, told_by_others
from yondle.analysis.exposure import MOST_CORRECTED
from yondle.analysis.hazards import Hazards
from yondle.analysis.hold import FLOORS_PER_H, Posterior
from yondle.analysis.runs import Run
from yondle.analysis.soak import cooled
from yondle.planning.edge_search import (
    CRASH_PRICE_S,
    LEAST_GAIN_PER_H,
    RISK,
    RISK_OF_TWO,
    WATCHED_LONGER,
    Aim,
    Chooser,
    Load,
    Prices,
    Style,
)

_ASSUMED, _FLOOR = WORLDS[0], WORLDS[4]
_TWO_FLOORS = ((0.002, 0.8), (1.0 / 24.0, 0.2))
_MOST_TESTS = 200
_PLACES = (-1.0, 1.0, 0.0, -0.5, 0.5)
"""Values of the second knob of a line, in the order they are searched."""
REPLAY_S = 0.05
"""What a corrected error costs of the work, as on the shipped rigs."""


@dataclass(frozen=True, slots=True)
class Told:
    """One task: hours, crashes, answers that were right of how many, notches short, corrected errors an hour there."""

    hours: float
    crashes: int
    right: int
    answers: int
    short: float
    corrected_per_h: float = 0.0


class Shared:
    """One load of a chip that is searched under several at once: its edge lies so many notches lower."""

    def __init__(self, chip: Chip, lower: float) -> None:
        self.chip, self.lower = chip, lower

    def per_hour(self, notch: int) -> float:
        """Failures an hour of this load."""
        return self.chip.per_hour(notch + self.lower)  # type: ignore[arg-type]

    def run(self, notch: int, seconds: float) -> tuple[float, bool]:
        """Run this load."""
        return self.chip.run(notch + self.lower, seconds)  # type: ignore[arg-type]


def _chooser(crash_share: float = 1.0) -> Chooser:
    price = crash_share * (CRASH_S + CRASH_PRICE_S[Style.EVEN])
    return Chooser(Aim(DAILY_PER_H), Prices(CHANGE_S, CHANGE_S, price), 0, NOTCHES)


def _search(chip: Chip, posterior: Posterior) -> int:
    chooser = _chooser()
    while (test := chooser.next_test([posterior], LEAST_GAIN_PER_H)) is not None:
        lasted, failed = chip.run(test.notch, test.seconds)
        posterior.take(test.notch, lasted, int(failed))
    return chooser.recommended([posterior])


def line(seed: str, told: bool) -> Told:
    """Search the edges at five values of a second knob, each told what those before have found, or not."""
    chance = Random(seed)
    whole = Chip(_ASSUMED, chance)
    middle, slope, bend = chance.uniform(25.0, 40.0), chance.uniform(5.0, 14.0), chance.uniform(0.0, 5.0)
    chips, notches = [], []
    found: list[tuple[float, object]] = []
    for place in _PLACES:
        chip = Chip(_ASSUMED, Random(f"{seed}/{place}"))
        off = chance.gauss(0.0, 0.3)
        chip.dead_beyond += middle + slope * place - bend * place**2 + off - chip.edge
        chip.edge, chip.width = middle + slope * place - bend * place**2 + off, whole.width
        posterior = Posterior(NOTCHES, WIDTHS)
        if told and found:
            posterior.expect(expected(found, place, NOTCHES, posterior.middle()))  # type: ignore[arg-type]
        notches.append(_search(chip, posterior))
        chips.append(chip)
        found.append((place, posterior.middle()))
    pairs = list(zip(chips, notches, strict=True))
    return Told(
        sum(c.spent_s for c in chips) / HOUR_S,
        sum(c.crashes for c in chips),
        sum(n <= c.right for c, n in pairs),
        len(pairs),
        statistics.fmean(c.right - n for c, n in pairs),
    )


def loads(seed: str, together: bool) -> Told:
    """Search the edge under three loads, the others' edges up to four notches lower; together, or one after the other."""
    chance = Random(seed)
    chip = Chip(_ASSUMED, chance)
    works = [Shared(chip, lower) for lower in (0.0, chance.uniform(0.0, 4.0), chance.uniform(0.0, 4.0))]
    beliefs = [Hazards(NOTCHES, WIDTHS, counts=False) for _ in works]
    chooser = _chooser()
    answers = []
    for group in ([0, 1, 2],) if together else ([0], [1], [2]):
        held = [beliefs[i] for i in group]
        while (test := chooser.next_test(_views(held), LEAST_GAIN_PER_H)) is not None:
            lasted, failed = works[group[test.load]].run(test.notch, test.seconds)
            held[test.load].take(test.notch, Run("", test.notch, lasted, int(failed), failed))
        answers.append(chooser.recommended(_views(held)))
    notch = min(answers)
    right = max(n for n in range(-1, NOTCHES + 1) if n < 0 or all(w.per_hour(n) <= DAILY_PER_H for w in works))
    return Told(chip.spent_s / HOUR_S, chip.crashes, int(notch <= right), 1, right - notch)


def _views(held: list[Hazards]) -> list[Load]:
    return [told.view() for told in told_by_others(held)]


def floor(seed: str, world: int, hypothesis: bool) -> Told:
    """Search one chip with the floor as a hypothesis of its own, or without."""
    chip = Chip(WORLDS[world], Random(seed))
    notch = _search(chip, Posterior(NOTCHES, WIDTHS, _TWO_FLOORS if hypothesis else FLOORS_PER_H))
    return Told(chip.spent_s / HOUR_S, chip.crashes, int(notch <= chip.right), 1, chip.right - notch)


@dataclass(frozen=True, slots=True)
class Slopes:
    """Chips that correct errors: how far before their edge these begin (one an hour), and the widths of both, in MHz."""

    name: str
    lead_mhz: tuple[float, float]
    corrected_width_mhz: tuple[float, float]
    width_mhz: tuple[float, float] = (6.0, 30.0)


SLOPES = (
    Slopes("errors 60 MHz ahead, width 40 MHz, crashes 6 MHz", (60.0, 60.0), (40.0, 40.0), (6.0, 6.0)),
    Slopes("errors 40 to 120 MHz ahead, width 20 to 60 MHz", (40.0, 120.0), (20.0, 60.0)),
    Slopes("errors 0 to 60 MHz ahead, width 6 to 45 MHz", (0.0, 60.0), (6.0, 45.0)),
    Slopes("errors are counted, none ever comes", (-1e7, -1e7), (6.0, 6.0)),
)


class Correcting(Chip):
    """A chip that corrects errors, too: it meets the standard where both together do."""

    def __init__(self, slopes: Slopes, chance: Random) -> None:
        super().__init__(World(slopes.name, widths_mhz=slopes.width_mhz), chance)
        self._begins = self.edge - chance.uniform(*slopes.lead_mhz) / NOTCH_MHZ
        self._width = chance.uniform(*slopes.corrected_width_mhz) / NOTCH_MHZ

    def corrected_per_hour(self, notch: int) -> float:
        """Errors corrected an hour."""
        return math.exp(max(min((notch - self._begins) / self._width, 50.0), -500.0))

    @property
    def right(self) -> int:
        """The highest notch that meets the standard."""
        both = (n for n in range(NOTCHES + 1) if self.per_hour(n) + self.corrected_per_hour(n) <= DAILY_PER_H)
        return max((n for n in both if n <= self.dead_beyond), default=-1)


def signs(seed: str, slopes: Slopes, laws: int) -> Told:
    """Search a chip that corrects errors as the program does, by one law for both kinds of failure, or by one for each."""
    chip = Correcting(slopes, Random(seed))
    hazards = Hazards(NOTCHES, WIDTHS, counts=laws == 2)
    crashes, ended = 0, 0
    aim = Aim(DAILY_PER_H, RISK_OF_TWO if laws == 2 else RISK)
    while True:
        price = (crashes + 1.0) / (ended + 1.0) * (CRASH_S + CRASH_PRICE_S[Style.EVEN])
        prices = Prices(CHANGE_S, CHANGE_S, price)
        chooser = Chooser(aim, prices, 0, NOTCHES, cooled(chip.warmth, CHANGE_S))
        view = hazards.view()
        test = chooser.next_test([view], LEAST_GAIN_PER_H * (WATCHED_LONGER if laws == 2 else 1.0))
        if test is None or chip.tests > _MOST_TESTS:
            break
        lasted, failed = chip.run(test.notch, test.seconds)
        corrected = 0 if failed else _poisson(chip.chance, chip.corrected_per_hour(test.notch) * lasted / HOUR_S)
        own = corrected if laws == 2 else 0
        hazards.take(test.notch, Run("", test.notch, lasted, int(failed) or corrected, failed, chip.began, own))
        crashes += failed
        ended += failed or (corrected > 0 and laws == 1)
    notch = chooser.recommended([view])
    errors = chip.corrected_per_hour(notch)
    return Told(chip.spent_s / HOUR_S, chip.crashes, int(notch <= chip.right), 1, chip.right - notch, errors)


def _poisson(chance: Random, mean: float) -> int:
    n, left = 0, math.exp(-min(mean, 4.0 * MOST_CORRECTED))
    while n < MOST_CORRECTED and (left := left / max(chance.random(), 1e-12)) < 1.0:
        n += 1
    return n


def _searched(slopes: Slopes, laws: int) -> Way:
    return lambda seed: signs(seed, slopes, laws)


_LAWS = {1: "one law", 2: "a law each"}
Way = Callable[[str], Told]
ROWS: tuple[tuple[str, Way], ...] = (
    ("line of five edges: each searched by itself", lambda seed: line(seed, False)),
    ("line of five edges: each told what the others found", lambda seed: line(seed, True)),
    ("three loads: one after the other, the lowest edge taken", lambda seed: loads(seed, False)),
    ("three loads: together, the worst decides", lambda seed: loads(seed, True)),
    ("floor of one in 24 h: not thought of", lambda seed: floor(seed, 4, False)),
    ("floor of one in 24 h: a hypothesis of its own", lambda seed: floor(seed, 4, True)),
    ("no floor: not thought of", lambda seed: floor(seed, 0, False)),
    ("no floor: a hypothesis of its own", lambda seed: floor(seed, 0, True)),
    *((f"{slopes.name}: {_LAWS[laws]}", _searched(slopes, laws)) for slopes in SLOPES for laws in _LAWS),
)


def _one(job: tuple[int, str]) -> Told:
    return ROWS[job[0]][1](job[1])


def row(name: str, told: list[Told]) -> str:
    """Write one line of the table."""
    right, answers = sum(t.right for t in told), sum(t.answers for t in told)
    errors = statistics.median(t.corrected_per_h for t in told)
    return (
        f"| {name} | {statistics.median(t.hours for t in told):.2f} h | {statistics.fmean(t.crashes for t in told):.1f}"
        f" | {share(right, answers)} | {statistics.fmean(t.short for t in told):.2f} | {f'{errors:.2f}' if errors else ''} |"
    )


def sag_rows() -> list[str]:
    """Write how often a chip crashes by the time its corrected errors cost 1 % of the score, by lead and width."""
    per_hour = 0.01 / REPLAY_S * HOUR_S
    return [
        f"| {lead} MHz | {width} MHz | {per_hour * math.exp(-lead / width):.1f} |"
        for lead in (20, 40, 60)
        for width in (6, 15, 30)
    ]


def main() -> None:
    """Print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--chips", type=int, default=200)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--rows", default="", help="only rows with these words")
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    print(f"{chosen.chips} chips a row, standard: daily (1 failure in 8 h), even; seed {seed}\n")
    print("| what | hours, median | crashes | meets the standard | notches short | errors corrected an hour |")
    print("| --- | --- | --- | --- | --- | --- |")
    with ProcessPoolExecutor(chosen.workers) as pool:
        for number, (name, _) in enumerate(ROWS):
            if chosen.rows not in name:
                continue
            jobs = [(number, f"{seed}/{name.split(':')[0]}/{chip}") for chip in range(chosen.chips)]
            print(row(name, list(pool.map(_one, jobs, chunksize=4))), flush=True)
    print("\n| corrected errors begin | width | crashes an hour when the score has sagged by 1 % |")
    print("| --- | --- | --- |")
    print("\n".join(sag_rows()))


if __name__ == "__main__":
    main()
