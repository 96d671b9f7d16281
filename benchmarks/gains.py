"""Are margins honest? Thousands of made-up sessions whose true gains are known: cover, false gains, power.

Run `python -m benchmarks.gains --sessions 2000 --seed 7`; without a seed it takes a fresh one and prints it.
"""

from __future__ import annotations

import argparse
import math
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from benchmarks.shares import share
from yondle.analysis.margins import Gain, GainWord, gain_from, turned_logs
from yondle.analysis.pooled import Reading, pooled_gains
from yondle.analysis.student import t_quantile
from yondle.model.workloads import Direction

SETTINGS = 8
ROUNDS = 5
PASS_S = 60.0
GAINS = (0.0, 0.0, 0.0, 0.0, 0.005, 0.01, 0.02, -0.01)
"""True gains of the eight settings of a sweep: four of them are nothing."""


@dataclass(frozen=True, slots=True)
class Weather:
    """What disturbs a session: variation of a pass, drift from its begin to its end, and the share of outliers."""

    variation: float
    drift: float = 0.0
    outliers: float = 0.0

    @property
    def name(self) -> str:
        parts = [f"CV {100 * self.variation:g} %"]
        parts += [f"drift {100 * self.drift:+g} %"] if self.drift else []
        parts += [f"{100 * self.outliers:g} % outliers"] if self.outliers else []
        return ", ".join(parts)


WEATHERS = tuple(
    Weather(cv, drift, outliers)
    for cv in (0.003, 0.008, 0.02)
    for drift, outliers in ((0.0, 0.0), (2 * cv, 0.0), (-2 * cv, 0.0), (0.0, 0.06), (2 * cv, 0.06))
)


@dataclass(slots=True)
class Count:
    """What came of all sessions of one design in one weather."""

    intervals: int = 0
    covered: int = 0
    sessions: int = 0
    all_covered: int = 0
    nothings: int = 0
    false: int = 0
    ones: int = 0
    found: int = 0
    halves: list[float] = field(default_factory=list)


Design = Callable[[np.random.Generator], list[int]]


def rounds(rng: np.random.Generator) -> list[int]:
    """Every setting once a round in random order, three baselines spread over it, one at the end."""
    order: list[int] = []
    for _ in range(ROUNDS):
        settings = [int(s) for s in rng.permutation(np.arange(1, SETTINGS + 1))]
        third = SETTINGS // 3
        order += [0, *settings[:third], 0, *settings[third : 2 * third], 0, *settings[2 * third :]]
    return [*order, 0]


def ordered(_rng: np.random.Generator) -> list[int]:
    """All passes of a setting together, in order, with the baseline between every two of them: what restarts force."""
    order = [0] * ROUNDS
    for setting in range(1, SETTINGS + 1):
        order += [setting] * ROUNDS
        if setting % 2 == 0:
            order += [0] * 3
    return order


def session(design: Design, weather: Weather, rng: np.random.Generator) -> list[Reading]:
    """Run a made-up session."""
    order = design(rng)
    times = np.arange(len(order)) * PASS_S
    truth = np.array([0.0, *GAINS])
    noise = rng.normal(0.0, weather.variation, len(order))
    struck = rng.random(len(order)) < weather.outliers
    noise[struck] -= rng.uniform(4, 12, int(struck.sum())) * weather.variation
    drift = weather.drift * times / times[-1]
    logs = np.log1p(truth[order]) + noise + drift
    return [Reading(s, float(t), float(100 * math.exp(v))) for s, t, v in zip(order, times, logs, strict=True)]


def tally(counted: Count, gains: dict[int, Gain], critical: float, single: float) -> None:
    """Hold the gains of one session against the truth; `critical` made the margins, `single` is that of one interval."""
    all_in = True
    for setting, told in gains.items():
        truth = math.log1p(GAINS[setting - 1])
        centre = math.log1p(told.fraction)
        half = math.log1p(told.high) - centre
        counted.intervals += 1
        counted.covered += abs(centre - truth) <= half * single / critical
        counted.halves.append(100 * half * single / critical)
        all_in &= abs(centre - truth) <= half
        if truth == 0.0:
            counted.nothings += 1
            counted.false += told.word is not GainWord.WITHIN_NOISE
        if GAINS[setting - 1] == 0.01:
            counted.ones += 1
            counted.found += told.word is GainWord.GAIN
    counted.sessions += 1
    counted.all_covered += all_in


def pooled_row(design: Design, weather: Weather, sessions: int, rng: np.random.Generator) -> Count:
    """Margins by the pooled regression."""
    counted = Count()
    for _ in range(sessions):
        told = pooled_gains(session(design, weather, rng), Direction.HIGHER)
        if told is not None:
            tally(counted, told.gains, told.critical, t_quantile(told.degrees))
    return counted


def naive_row(design: Design, weather: Weather, sessions: int, rng: np.random.Generator) -> Count:
    """Margins by the means of each setting and of the first baselines, as a notebook would."""
    counted = Count()
    for _ in range(sessions):
        readings = session(design, weather, rng)
        scores = {s: [r.score for r in readings if r.setting == s] for s in range(SETTINGS + 1)}
        told = {s: gain(scores[s], scores[0][:ROUNDS], Direction.HIGHER) for s in range(1, SETTINGS + 1)}
        tally(counted, {s: g for s, g in told.items() if g is not None}, 1.0, 1.0)
    return counted


ROWS = (
    ("rounds, pooled", rounds, pooled_row),
    ("in order with bracketing baselines, pooled", ordered, pooled_row),
    ("in order, means against the first baseline", ordered, naive_row),
)


def gain(scores: list[float], baseline: list[float], direction: Direction) -> Gain:
    """Give the gain as a notebook has it: Welch's 95 % interval on logs (Welch 1947, Biometrika 34)."""
    step, base = turned_logs(scores, direction), turned_logs(baseline, direction)
    n, m = len(step), len(base)
    a, b = (float(np.var(side, ddof=1)) / len(side) for side in (step, base))
    degrees = (a + b) ** 2 / (a * a / (n - 1) + b * b / (m - 1))
    error = math.sqrt(a + b)
    half = t_quantile(degrees) * error
    return gain_from(float(step.mean() - base.mean()), half, half + t_quantile(degrees, 0.8) * error, n, m)


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sessions", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=None)
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    print(f"{chosen.sessions} sessions a row, {SETTINGS} settings with {ROUNDS} passes each; seed {seed}\n")
    print("| design | weather | cover | all of a sweep | false gains | 1 % found | half-width |")
    print("| --- | --- | --- | --- | --- | --- | --- |")
    for name, design, row in ROWS:
        for at, weather in enumerate(WEATHERS):
            c = row(design, weather, chosen.sessions, np.random.default_rng([seed, at]))
            shares = ((c.covered, c.intervals), (c.all_covered, c.sessions), (c.false, c.nothings), (c.found, c.ones))
            shown = " | ".join(share(*each) for each in shares)
            print(f"| {name} | {weather.name} | {shown} | {np.median(c.halves):.2f} % |", flush=True)


if __name__ == "__main__":
    main()
