"""Are readings of curves right? Thousands of made-up sweeps whose shape is known: knees, caps, crossings, interactions.

Run `python -m benchmarks.scaling --sweeps 1000 --seed 7`; without a seed it takes a fresh one and prints it.
"""

from __future__ import annotations

import argparse
import math
import secrets
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from benchmarks.shares import share
from yondle.analysis.crossing import crossing, leads
from yondle.analysis.levels import Levels, Visit
from yondle.analysis.scaling import elasticity
from yondle.analysis.shapes import CurveShape, read_curve
from yondle.model.workloads import Direction

VALUES = tuple(4000.0 + 100.0 * i for i in range(13))
PASSES = 5
UP = Direction.HIGHER
Law = Callable[[float], float]


@dataclass(frozen=True, slots=True)
class Noise:
    """Variation of a pass and of a setting; that of passes rises toward the lowest setting where `at_low` is above 1."""

    passes: float
    settings: float
    at_low: float = 1.0

    def of_passes(self, index: int) -> float:
        """Give the variation of a pass at a setting, counted from the lowest: from the middle on it is the same."""
        middle = (len(VALUES) - 1) / 2
        return self.passes * math.pow(self.at_low, max(0.0, 1.0 - index / middle))

    @property
    def name(self) -> str:
        return f"CV {100 * self.passes:g} %, settings {100 * self.settings:g} %"


NOISES = (Noise(0.003, 0.001), Noise(0.008, 0.002), Noise(0.02, 0.005))


def sweep(
    law: Law, noise: Noise, rng: np.random.Generator, cap: float | None = None
) -> list[tuple[float, list[float]]]:
    """Measure a made-up sweep."""
    points = []
    for index, value in enumerate(VALUES):
        level = math.log(law(value)) + rng.normal(0.0, noise.settings)
        scores = np.exp(level + rng.normal(0.0, noise.of_passes(index), PASSES))
        points.append((value, [float(min(s, cap)) if cap is not None else float(s) for s in scores]))
    return points


def straight(slope: float) -> Law:
    """A score that answers with one slope."""
    return lambda value: 100.0 * (value / VALUES[0]) ** slope


def part(fixed: float) -> Law:
    """A score of which a part doesn't scale."""
    return lambda value: 100.0 / (fixed + (1.0 - fixed) * VALUES[0] / value)


def kneed(at: float, before: float, after: float) -> Law:
    """A score whose slope changes at a knee."""
    return lambda value: 100.0 * (min(value, at) / VALUES[0]) ** before * max(1.0, value / at) ** after


def _knees(law: Law, noise: Noise, sweeps: int, rng: np.random.Generator, cap: float | None = None) -> list[CurveShape]:
    return [read_curve(sweep(law, noise, rng, cap), UP, cap).shape for _ in range(sweeps)]


def lines(noise: Noise, sweeps: int, seed: int) -> list[tuple[str, str]]:
    """Measure everything with one noise."""
    rng = np.random.default_rng(seed)
    found: list[tuple[str, str]] = []
    for name, law in (
        ("straight, slope 0.9", straight(0.9)),
        ("straight, slope 0.3", straight(0.3)),
        ("30 % fixed", part(0.3)),
    ):
        readings = [read_curve(sweep(law, noise, rng), UP) for _ in range(sweeps)]
        found.append((f"false knees: {name}", share(sum(r.knee is not None for r in readings), sweeps)))
    knee_at = 4630.0
    readings = [read_curve(sweep(kneed(knee_at, 0.9, 0.225), noise, rng), UP) for _ in range(sweeps)]
    knees = [r.knee for r in readings if r.knee is not None]
    fades = sum(r.shape is CurveShape.FADES for r in readings)
    near = sum(abs(k.at / knee_at - 1.0) <= 0.01 for k in knees)
    inside = sum(k.low <= knee_at <= k.high for k in knees)
    found.append(("a slope that falls to a quarter is called a knee", share(len(knees), sweeps)))
    found.append(("it is said that gains fade", share(fades, sweeps)))
    found.append(("of the knees, place within 1 %", _share_of(near, len(knees))))
    found.append(("of the knees, place inside its interval", _share_of(inside, len(knees))))
    slopes = [elasticity(sweep(straight(0.7), noise, rng), UP) for _ in range(sweeps)]
    found.append(("cover of the slope", share(sum(s is not None and s.low <= 0.7 <= s.high for s in slopes), sweeps)))
    capped = [read_curve(sweep(kneed(4500.0, 0.9, 0.9), noise, rng, 110.0), UP, 110.0).shape for _ in range(sweeps)]
    found.append(("capped is called capped", share(sum(s is CurveShape.CAPPED for s in capped), sweeps)))
    unknown = [read_curve(sweep(kneed(4500.0, 0.9, 0.9), noise, rng, 110.0), UP).shape for _ in range(sweeps)]
    found.append(("capped at a cap nobody told of", share(sum(s is CurveShape.CAPPED for s in unknown), sweeps)))
    for name, law in (("straight, slope 0.5", straight(0.5)), ("30 % fixed", part(0.3))):
        false = sum(
            read_curve(sweep(law, noise, rng), UP).shape in (CurveShape.CAPPED, CurveShape.PEAK) for _ in range(sweeps)
        )
        found.append((f"falsely capped or peaked: {name}", share(false, sweeps)))
    peaks = sum(
        read_curve(sweep(kneed(4630.0, 0.8, -0.6), noise, rng), UP).shape is CurveShape.PEAK for _ in range(sweeps)
    )
    found.append(("a peak is called a peak", share(peaks, sweeps)))
    found += _crossings(noise, sweeps, rng) + _interactions(noise, sweeps, rng)
    return found


def _crossings(noise: Noise, sweeps: int, rng: np.random.Generator) -> list[tuple[str, str]]:
    """One curve starts 4 % behind and answers better; they meet inside the range. Then the same with a knee in both."""
    where = VALUES[0] * 1.04 ** (1.0 / 0.4)
    found = _crossing_lines("a crossing", where, straight(0.8), lambda v: 1.04 * straight(0.4)(v), noise, sweeps, rng)
    limited = [kneed(4700.0, slope, 0.0) for slope in (0.8, 0.4)]
    found += _crossing_lines(
        "a crossing of curves with a knee", where, limited[0], lambda v: 1.04 * limited[1](v), noise, sweeps, rng
    )
    for name, ahead in (("10 % apart", 1.1), ("that are equal", 1.0)):
        told = [
            crossing(sweep(straight(0.6), noise, rng), sweep(lambda v: ahead * straight(0.6)(v), noise, rng), UP)  # noqa: B023
            for _ in range(sweeps)
        ]
        found.append((f"false crossings of curves {name}", share(sum(t is not None for t in told), sweeps)))
    for name, passes in (("", noise), (", noise ten times larger at one end", replace(noise, at_low=10.0))):
        equal = [leads(sweep(straight(0.6), passes, rng), sweep(straight(0.6), passes, rng), UP) for _ in range(sweeps)]
        told_ahead = sum(any(stretch.ahead for stretch in told) for told in equal)
        found.append((f"one of two equal curves is called ahead{name}", share(told_ahead, sweeps)))
    return found


def _crossing_lines(
    name: str, where: float, one: Law, other: Law, noise: Noise, sweeps: int, rng: np.random.Generator
) -> list[tuple[str, str]]:
    told = [crossing(sweep(one, noise, rng), sweep(other, noise, rng), UP) for _ in range(sweeps)]
    seen = [c for c in told if c is not None]
    inside = sum(c.low <= where <= c.high for c in seen)
    wide = float(np.median([(c.high - c.low) / where for c in seen])) if seen else math.nan
    return [
        (f"{name} is found", share(len(seen), sweeps)),
        ("of these, inside its interval", _share_of(inside, len(seen))),
        ("width of that interval, median", f"{100 * wide:.1f} %"),
    ]


def _share_of(count: int, whole: int) -> str:
    """Write a share of what was found, where anything was."""
    return share(count, whole) if whole else "none"


def _interactions(noise: Noise, sweeps: int, rng: np.random.Generator) -> list[tuple[str, str]]:
    truth = 0.02
    inside = false = 0
    for _ in range(sweeps):
        for together in (truth, 0.0):
            logs = (0.05 + 0.03 + together, 0.05, 0.03, 0.0)
            corners = (np.exp(v + rng.normal(0.0, noise.passes, PASSES)).tolist() for v in logs)
            levels = Levels((Visit(i, i, float(i), corner) for i, corner in enumerate(corners)), UP)
            over = levels.contrast({0: 1.0, 1: -1.0, 2: -1.0, 3: 1.0})
            if over is None:
                continue
            told = over.gain()
            if together:
                inside += told.low <= math.expm1(truth) <= told.high
            else:
                false += not told.low <= 0.0 <= told.high
    return [("cover of an interaction of 2 %", share(inside, sweeps)), ("false interactions", share(false, sweeps))]


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sweeps", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=None)
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    print(f"{chosen.sweeps} sweeps a line, {len(VALUES)} settings with {PASSES} passes each; seed {seed}\n")
    print("| what | " + " | ".join(n.name for n in NOISES) + " |")
    print("| --- |" + " --- |" * len(NOISES))
    columns = [lines(noise, chosen.sweeps, seed) for noise in NOISES]
    for told in zip(*columns, strict=True):
        print(f"| {told[0][0]} | " + " | ".join(words for _, words in told) + " |", flush=True)


if __name__ == "__main__":
    main()
