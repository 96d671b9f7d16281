"""Are sentences about curves true? Made-up sweeps of twenty laws, and what is said of each held against the law itself.

Run `python -m benchmarks.shapes --sweeps 40 --seed 7`; without a seed it takes a fresh one and prints it. Every law is measured
over a short range (4,000 to 5,200) and a wide one (35 to 140), at 5 to 20 settings, even and uneven, with passes that vary by
0.3 to 2 % and settings by a quarter of that.
"""

from __future__ import annotations

import argparse
import math
import secrets
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from benchmarks.shares import share
from yondle.analysis.regression import Array
from yondle.analysis.shapes import CurveReading, CurveShape, read_curve
from yondle.model.workloads import Direction

RANGES = ((4000.0, 5200.0), (35.0, 140.0))
SETTINGS = (5, 7, 9, 13, 20)
VARIATIONS = (0.003, 0.008, 0.02)
PASSES = 5
PART_OFF = 0.005
"""A curve looks as if a part did not scale where one that has such a part stays within this, or a setting's noise, of it."""
LITTLE_OFF = 0.02
UP = Direction.HIGHER


@dataclass(frozen=True, slots=True)
class Law:
    """A score by place from 0 to 1 along the logarithm of a range and by ratio to its begin; where it bends and is best."""

    name: str
    score: Callable[[float, float, float], float]
    bend: float | None = None
    best: float | None = None


def _bent(at: float, before: float, after: float) -> Callable[[float, float, float], float]:
    return lambda t, _, span: math.exp(span * (before * min(t, at) + after * max(t - at, 0.0)))


LAWS = (
    Law("flat", lambda *_: 1.0),
    Law("power 0.05", lambda _, r, __: r**0.05),
    Law("power 0.3", lambda _, r, __: r**0.3),
    Law("power 0.9", lambda _, r, __: r**0.9),
    Law("falling, power -0.4", lambda _, r, __: r**-0.4),
    Law("30 % of the time fixed", lambda _, r, __: 1.0 / (0.3 + 0.7 / r)),
    Law("70 % of the time fixed", lambda _, r, __: 1.0 / (0.7 + 0.3 / r)),
    Law("saturating", lambda _, r, __: 1.0 - math.exp(-1.5 * r)),
    Law("saturating fast", lambda t, *_: 1.0 - 0.5 * math.exp(-4.0 * t)),
    Law("saturating after a start", lambda _, r, __: r**3 / (2.0 + r**3)),
    Law("root beyond an offset", lambda _, r, __: math.sqrt(r - 0.8)),
    Law("logarithm", lambda _, r, __: 1.0 + 0.6 * math.log(r)),
    Law("parabola up to its top", lambda t, _, span: math.exp(0.9 * span * (t - t * t / 2.0))),
    Law("growing", lambda t, _, span: math.exp(0.4 * span * t * t)),
    Law("smooth step", lambda t, *_: 1.0 + 0.3 / (1.0 + math.exp(-8.0 * (t - 0.5)))),
    Law("knee to a quarter", _bent(0.5, 0.9, 0.225), 0.5),
    Law("knee near the upper end", _bent(0.85, 0.9, 0.2), 0.85),
    Law("knee near the lower end", _bent(0.2, 0.9, 0.2), 0.2),
    Law("knee to nothing", _bent(0.5, 0.9, 0.0), 0.5),
    Law("sharp peak", _bent(0.5, 0.8, -0.6), 0.5, 0.5),
    Law("smooth peak", lambda t, _, span: math.exp(0.8 * span * (t - t * t / 1.2)), None, 0.6),
)


@dataclass(frozen=True, slots=True)
class Sweep:
    """One sweep of a law: the range, settings (n,), logs of true scores there (n,), what means vary by, and passes."""

    law: Law
    span: tuple[float, float]
    settings: Array
    true: Array
    noise: float
    points: list[tuple[float, list[float]]]

    def log(self, value: float) -> float:
        """Give the log of the true score at a value."""
        return true_log(self.law, self.span, value)


def true_log(law: Law, span: tuple[float, float], value: float) -> float:
    """Give the log of what a law scores at a value of a range."""
    whole = math.log(span[1] / span[0])
    return math.log(law.score(math.log(value / span[0]) / whole, value / span[0], whole))


def sweeps(law: Law, each: int, rng: np.random.Generator) -> Iterator[Sweep]:
    """Measure a law over every range, count of settings and variation, evenly and unevenly, `each` time."""
    for span in RANGES:
        for count in SETTINGS:
            for variation in VARIATIONS:
                for i in range(2 * each):
                    places = np.linspace(0.0, 1.0, count)
                    if i % 2:
                        places[1:-1] = np.sort(rng.uniform(0.0, 1.0, count - 2))
                    settings = span[0] * np.exp(places * math.log(span[1] / span[0]))
                    true = np.array([true_log(law, span, v) for v in settings])
                    levels = true + rng.normal(0.0, variation / 4.0, count)
                    passes = np.exp(levels[:, None] + rng.normal(0.0, variation, (count, PASSES)))
                    points = [(float(v), p.tolist()) for v, p in zip(settings, passes, strict=True)]
                    noise = variation * math.sqrt(1.0 / PASSES + 1.0 / 16.0)
                    yield Sweep(law, span, settings, true, noise, points)


def is_true(sweep: Sweep, reading: CurveReading) -> bool | None:
    """Tell whether what is said of a curve is so; None where nothing is said that could be wrong."""
    x, third = np.log(sweep.settings), max(3, math.ceil(len(sweep.settings) / 3))
    lower, upper = _slope(x[:third], sweep.true[:third]), _slope(x[-third:], sweep.true[-third:])
    match reading.shape:
        case CurveShape.FLAT:
            return abs(_slope(x, sweep.true)) < 0.1
        case CurveShape.STRAIGHT:
            return reading.whole is not None and reading.whole.slope * _slope(x, sweep.true) > 0.0
        case CurveShape.FADES:
            return lower > upper
        case CurveShape.GROWS:
            return upper > lower
        case CurveShape.KNEE:
            return sweep.law.bend is not None
        case CurveShape.PEAK:
            return sweep.law.best is not None
        case CurveShape.NEARLY_FLAT if reading.plateau is not None:
            return bool(sweep.true[-1] - sweep.log(reading.plateau.above) <= LITTLE_OFF)
        case CurveShape.PART if reading.fixed is not None:
            return _part_off(sweep, reading.fixed.low, reading.fixed.high) < max(PART_OFF, sweep.noise)
        case CurveShape.CAPPED:
            return False
    return None


def _slope(x: Array, y: Array) -> float:
    centred = x - x.mean()
    return float(centred @ y / (centred @ centred))


def _part_off(sweep: Sweep, low: float, high: float) -> float:
    """How far the best curve with a fixed part in a range of shares stays from the law, at most, over the whole range."""
    values = np.geomspace(*sweep.span, 200)
    true = np.array([sweep.log(v) for v in values])
    off = (true + np.log(s + (1.0 - s) * sweep.span[0] / values) for s in np.linspace(low, high, 60))
    return min(float(np.max(np.abs(each - each.mean()))) for each in off)


def lines(each: int, seed: int) -> Iterator[str]:
    """Give the table: of every law the share of false sentences, and what is said most; then how often intervals hold."""
    rng, held, told = np.random.default_rng(seed), Counter[str](), Counter[str]()
    for law in LAWS:
        shapes, false, spoken = Counter[CurveShape](), 0, 0
        for sweep in sweeps(law, each, rng):
            reading = read_curve(sweep.points, UP)
            shapes[reading.shape] += 1
            so = is_true(sweep, reading)
            spoken += so is not None
            false += so is False
            for name, inside in _intervals(sweep, reading):
                told[name] += 1
                held[name] += inside
        most = ", ".join(f"{name} {share(n, sum(shapes.values()))}" for name, n in shapes.most_common(3))
        yield f"| {law.name} | {share(false, max(spoken, 1))} | {most} |"
    for name, count in told.items():
        yield f"| {name} | holds {share(held[name], count)} of {count} | |"


def _intervals(sweep: Sweep, reading: CurveReading) -> Iterator[tuple[str, bool]]:
    knee, law, begin = reading.knee, sweep.law, sweep.span[0]
    length = math.log(sweep.span[1] / begin)
    if knee is not None and reading.shape is CurveShape.KNEE and law.bend is not None:
        yield "range of a knee", knee.low <= begin * math.exp(law.bend * length) <= knee.high
    if knee is not None and reading.shape is CurveShape.PEAK and law.best is not None:
        yield "range of a peak", knee.low <= begin * math.exp(law.best * length) <= knee.high
    if reading.plateau is not None:
        left = math.expm1(sweep.true[-1] - sweep.log(reading.plateau.above))
        yield "at most so much above", left <= reading.plateau.most


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sweeps", type=int, default=40)
    parser.add_argument("--seed", type=int, default=secrets.randbelow(10**9))
    given = parser.parse_args()
    print(
        f"seed {given.seed}, {given.sweeps} sweeps of each kind\n\n| law | false sentences | said most |\n| --- | --- | --- |"
    )
    for line in lines(given.sweeps, given.seed):
        print(line, flush=True)


if __name__ == "__main__":
    main()
