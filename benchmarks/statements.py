"""Every sentence against the truth: evenings on simulated machines nobody has seen, each statement held against its rig.

Run `python -m benchmarks.statements --rigs 30 --seed 7`; without a seed it takes a fresh one and prints it. A machine is
Heron with its constants drawn anew: power-limited, memory-bound, capped, noisy, coarse, with two slopes, or plain; memory's
rate can be set live, so that an evening can sweep it. The truth is the same machine without noise and without failures: a
pass that begins as warm as passes are meant to, with nothing left that a limiter has saved up. What a statement leaves open
counts as told open, not as true.
"""

from __future__ import annotations

import argparse
import math
import re
import secrets
import tomllib
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

from benchmarks.chips import PLAN, Meter, truth_per_hour
from benchmarks.shares import share
from yondle.analysis.limiting import Bound
from yondle.analysis.margins import Gain, GainWord
from yondle.analysis.shapes import CurveReading, CurveShape
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.workloads import Direction, Workload
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text
from yondle.rigs.simulated.sensors import _wall_w
from yondle.rigs.simulated.world import World, fresh_state
from yondle.views.compare.efficiency import STABLE, efficiency
from yondle.views.map.maps import map_of, pairs_measured
from yondle.views.scaling.curves import knobs_measured, scaling
from yondle.views.scaling.limits import limits
from yondle.views.scaling.sensitivities import sensitivities
from yondle.views.scaling.target import target
from yondle.views.shared.gains import gain_of, mean_gain
from yondle.views.shared.measured import groups_of, settings_of
from yondle.views.shared.snapshot import Snapshot

KINDS = ("plain", "power-limited", "memory-bound", "capped", "noisy", "coarse", "two slopes", "fast and hot")
NOTHING = 0.0005
"""A true effect below this, as a fraction, is none: a sentence that names its sign is false."""
START_C = 36.0
"""Where passes are meant to start."""
WINDOWS = 5.0
"""After so many windows of load a limiter has nothing saved up: what is left is what lasts."""
BOUND_SLOPE = 0.33
STRETCH = 1.04
"""How much a part's clock is raised to see what really answers."""
RISES = {Bound.PROCESSOR: "core_clock", Bound.MEMORY: "memory_rate", Bound.GRAPHICS: "graphics_clock"}
EVENING = """
format = "yondle-plan 1"
name = "an evening"
passes = 3
[[do]]
kind = "sweep"
knob = "core_clock"
from = {core_low}
to = {core_high}
by = 100
rounds = 4
[[do]]
kind = "sweep"
knob = "memory_rate"
from = 4800
to = 6400
by = 400
rounds = 3
[[do]]
kind = "sweep"
knob = "power_limit"
from = {power_low}
to = {power_high}
by = 10
rounds = 3
[[do]]
kind = "steps"
steps = [{{ graphics_clock = 2160 }}, {{ fan_level = 80 }}, {{ power_limit = {power_high} }}, {{ core_clock = {core_more} }}]
"""


@dataclass(slots=True)
class Told:
    """What was told on one machine, by kind of statement: how often it was true, false, and left open; with what was false."""

    counts: Counter[tuple[str, str]] = field(default_factory=Counter)
    false: list[str] = field(default_factory=list)

    def hold(self, kind: str, right: bool | None, words: str) -> None:
        """Count one statement."""
        self.counts[kind, "open" if right is None else "true" if right else "false"] += 1
        if right is False:
            self.false.append(f"{kind}: {words}")


def drawn(seed: str) -> tuple[str, str]:
    """Give a kind of machine and its rig file."""
    chance = Random(seed)
    kind = KINDS[int(seed.rsplit("/", 1)[1]) % len(KINDS)]
    text = rig_text("heron")[0]
    setting = _Setter(text)
    setting("rig", "seed", chance.randrange(10**6))
    setting.without("knobs.memory_rate", "when")
    limit = chance.choice((45, 50, 55, 60, 65)) if kind == "power-limited" else 5 * chance.randrange(16, 22)
    setting("knobs.power_limit", "stock", limit)
    setting("room", "evening_c", chance.uniform(8.0, 24.0))
    setting("room", "dawn_c", chance.uniform(14.0, 27.0))
    setting("chip", "switching_w_per_v2_ghz", chance.uniform(1.1, 1.6) * (1.4 if kind == "fast and hot" else 1.0))
    setting("chip", "power_window_s", chance.uniform(4.0, 28.0))
    setting("heat", "cooler_j_per_k", chance.uniform(250.0, 700.0))
    setting("edge", "clock_mhz", chance.uniform(4650.0, 5000.0))
    setting("edge", "mhz_per_v", chance.uniform(1800.0, 3200.0))
    setting("edge", "mhz_per_k", chance.uniform(1.0, 3.0))
    setting("edge", "width_mhz", chance.uniform(6.0, 25.0))
    if kind == "two slopes":
        setting("edge", "corrected_lead_mhz", chance.uniform(40.0, 90.0))
        setting("edge", "corrected_width_mhz", chance.uniform(20.0, 50.0))
    for name, work in tomllib.loads(text)["workloads"].items():
        if work["figure"] == "none":
            continue
        at = f"workloads.{name}"
        bound = chance.uniform(2.0, 5.0) if kind == "memory-bound" else chance.uniform(0.4, 1.8)
        size = chance.uniform(6.0, 12.0) if kind == "coarse" and work["figure"] != "seconds" else 1.0
        setting(at, "compute_gcycles", work["compute_gcycles"] * size * chance.uniform(0.6, 1.4))
        setting(at, "traffic_gb", work["traffic_gb"] * size * bound)
        setting(at, "khops", work["khops"] * size * bound)
        setting(at, "fixed_s", work["fixed_s"] * size * chance.uniform(0.3, 4.0))
        setting(
            at, "noise", work["noise"] * (chance.uniform(2.0, 4.0) if kind == "noisy" else chance.uniform(0.5, 1.3))
        )
        if kind == "coarse":
            setting(at, "digits", 0 if work["figure"] != "seconds" else 1)
        if kind == "capped" and work["figure"] == "per second":
            setting(at, "compute_gcycles", work["compute_gcycles"] * chance.uniform(3.0, 9.0))
    return kind, setting.text


class _Setter:
    """Sets values of a rig file's tables, as text."""

    def __init__(self, text: str) -> None:
        self.text = text

    def __call__(self, table: str, key: str, value: float) -> None:
        """Set a key of a table, which is added where it isn't there."""
        head, rest = self.text.split(f"[{table}]\n", 1)
        body, *tail = re.split(r"(?=^\[)", rest, maxsplit=1, flags=re.MULTILINE)
        line = f"{key} = {value:.6g}" if isinstance(value, float) and not value.is_integer() else f"{key} = {value}"
        pattern = re.compile(rf"^{key} = .*$", re.MULTILINE)
        body = pattern.sub(line, body) if pattern.search(body) else f"{line}\n{body}"
        self.text = f"{head}[{table}]\n{body}{''.join(tail)}"

    def without(self, table: str, key: str) -> None:
        """Take a key out of a table."""
        head, rest = self.text.split(f"[{table}]\n", 1)
        self.text = f"{head}[{table}]\n" + re.sub(rf"^{key} = .*\n", "", rest, count=1, flags=re.MULTILINE)


class _Even(Meter):
    """Corrects as many errors as are expected, evenly, since they cost time; fails never."""

    owed = 0.0

    def corrected(self, expected: float) -> int:
        """Give the errors that are due by now."""
        self.owed += expected
        due = int(self.owed)
        self.owed -= due
        return due


class Truth:
    """What a machine does at a setup, without noise: work a second and watts in one pass from where passes start.

    Errors that are corrected cost time; a trend that is followed to where there are many knows nothing of them: without.
    """

    def __init__(self, text: str, at_s: float, corrects: bool = True) -> None:
        self._fate = _Even if corrects else Meter
        tireless = _Setter(text)
        for table, margin in (("edge", "mhz"), ("memory_edge", "mt_s"), ("graphics", "mhz")):
            tireless(table, f"start_margin_{margin}", 20000)
        self.rig, self._at_s = parse_rig_file(tireless.text, "truth"), at_s
        self._known: dict[tuple[Setup, str], tuple[float, float]] = {}

    def log(self, setup: Setup, workload: str) -> float:
        """Give the logarithm of the speed: up is better, whatever the figure is."""
        return math.log(self._pass(setup, workload)[0])

    def watts(self, setup: Setup, workload: str) -> float:
        """Give the mean power drawn from the wall."""
        return self._pass(setup, workload)[1]

    def figure(self, setup: Setup, benchmark: Workload) -> float:
        """Give the figure itself."""
        speed = self._pass(setup, benchmark.id)[0]
        kind = self.rig.workloads[benchmark.id].figure
        return 1.0 / speed if kind == "seconds" else speed * (60.0 if kind == "per minute" else 1.0)

    def _pass(self, setup: Setup, workload: str) -> tuple[float, float]:
        if (setup, workload) not in self._known:
            self._known[setup, workload] = self._run(setup, workload)
        return self._known[setup, workload]

    def _run(self, setup: Setup, workload: str) -> tuple[float, float]:
        work = self.rig.workloads[workload]
        state = fresh_state(self.rig)
        state.t_s, state.die_c, state.cooler_c = self._at_s, START_C, START_C
        state.values.update(setup)
        world = World(self.rig, state)
        step = 0.25
        before_s = WINDOWS * max(
            self.rig.chip.power_window_s, self.rig.graphics.power_window_s if self.rig.graphics else 0.0
        )
        run = world.start(workload, before_s + work.pass_s + 60.0)
        run.fate = self._fate()  # type: ignore[assignment]
        world.advance(before_s)
        before, joules = run.units, 0.0
        for _ in range(round(work.pass_s / step)):
            world.advance(step)
            joules += _wall_w(world) * step
        speed = (run.units - before) / work.pass_s
        return min(speed, work.cap_per_s or math.inf), joules / work.pass_s


def evening(seed: str) -> tuple[str, Told]:
    """Tune one machine for an evening and hold what is told against the truth."""
    kind, text = drawn(seed)
    told = Told()
    with TemporaryDirectory() as folder:
        session = create_logbook(Path(folder) / "rig.yondle", RigChoice("simulated", "Rig", text))
        session.do(RunBaseline(5))
        stock = session.snapshot.in_force
        values = {
            "core_low": 3800, "core_high": 4400, "core_more": 4350,
            "power_low": stock["power_limit"] - 10, "power_high": stock["power_limit"] + 20,
        }  # fmt: skip
        at_s = session.machine.clock.now()
        session.do(StartPlan(EVENING.format(**values), "the evening", lambda *_: None))
        book, truth = session.snapshot, Truth(text, (at_s + session.machine.clock.now()) / 2.0)
        for hold in (_trail, _scaling, _limits, _efficiency, _map):
            hold(book, truth, told)
        _target(book, truth, Truth(text, at_s, corrects=False), told)
        session.do(StartPlan(PLAN.format(style="even"), "the edge", lambda *_: None))
        run = session.logbook.keeping.plan_runs()[0]
        found = run.found[-1] if run.found else None
        if found is not None:
            setup = session.snapshot.in_force.with_values({found.knob: found.left_at})
            per_hour = truth_per_hour(text, setup, session.machine.clock.now())
            right = per_hour <= 1.0 / 8.0
            told.hold("edge: meets its standard", right, f"{found.left_at:g} fails {per_hour:.2f} times an hour")
        session.close()
    return kind, told


def _sign(gain: Gain | None, true: float) -> bool | None:
    """Tell whether a gain's word has the sign of the truth; None where it names none."""
    if gain is None or gain.word not in (GainWord.GAIN, GainWord.LOSS):
        return None
    return true > NOTHING if gain.word is GainWord.GAIN else true < -NOTHING


def _covers(gain: Gain | None, true: float) -> bool | None:
    if gain is None or not math.isfinite(gain.margin):
        return None
    return gain.low - 1e-9 <= math.expm1(true) <= gain.high + 1e-9


def _trail(book: Snapshot, truth: Truth, told: Told) -> None:
    base = book.baseline_step
    assert base is not None
    for record in book.steps:
        if record.step.setup == base.step.setup:
            continue
        trues = []
        changed = {k: v for k, v in record.step.setup.items() if v != base.step.setup[k]}
        for benchmark in book.declaration.benchmarks:
            gain = gain_of(book, record, benchmark)
            if gain is None:
                continue
            true = truth.log(record.step.setup, benchmark.id) - truth.log(base.step.setup, benchmark.id)
            trues.append(true)
            words = f"{benchmark.id} at {changed}: {gain.fraction:+.4f}, true {math.expm1(true):+.4f}"
            told.hold("trail: a gain or loss" if gain.sure else "trail: one by itself", _sign(gain, true), words)
            told.hold("range of a gain (95 %)", _covers(gain, true), words)
        mean = mean_gain(book, record)
        if mean is not None and len(trues) == mean.benchmarks:
            true = sum(trues) / len(trues)
            told.hold(
                "trail: the mean", _sign(mean.these, true), f"{mean.these.fraction:+.4f}, true {math.expm1(true):+.4f}"
            )


def _scaling(book: Snapshot, truth: Truth, told: Told) -> None:
    settings = settings_of(book)
    for knob in knobs_measured(book, settings):
        view = scaling(book, settings, knob)
        group = groups_of(settings, knob, book.in_force)[view.group]
        for curve in view.curves:
            name, at = curve.benchmark.id, [s for s in group.settings if curve.benchmark.id in s.figures]
            xs = [math.log(s.setup[knob.id]) for s in at]
            ys = [truth.log(s.setup, name) for s in at]
            what = f"{name} along {knob.id}: {curve.sentence}"
            sure = curve.ends is None or curve.ends.sure
            told.hold(
                f"scaling: from end to end{'' if sure else ', by itself'}", _sign(curve.ends, ys[-1] - ys[0]), what
            )
            if curve.reading is None:
                continue
            whole = curve.reading.whole
            if whole is not None and len(xs) > 2:
                slope = _slope(xs, ys)
                told.hold("range of a slope (95 %)", whole.low <= slope <= whole.high, f"{what} (true {slope:.3f})")
            right = _shape_right(curve.reading, xs, ys)
            told.hold(f"scaling: {curve.reading.shape}", right, f"{what} (true {[round(y - ys[0], 4) for y in ys]})")


def _slope(xs: list[float], ys: list[float]) -> float:
    x, y = sum(xs) / len(xs), sum(ys) / len(ys)
    return sum((a - x) * (b - y) for a, b in zip(xs, ys, strict=True)) / sum((a - x) ** 2 for a in xs)


def _shape_right(told: CurveReading, xs: list[float], ys: list[float]) -> bool | None:
    """Tell whether the true curve has the shape that is named; None for a shape that says nothing."""
    third = max(2, len(xs) // 3 + 1)
    lower, upper = _slope(xs[:third], ys[:third]), _slope(xs[-third:], ys[-third:])
    highest = max(range(len(ys)), key=lambda i: ys[i])
    match told.shape:
        case CurveShape.FLAT:
            return abs(_slope(xs, ys)) < 0.1
        case CurveShape.FADES | CurveShape.PART:
            return upper < lower
        case CurveShape.GROWS:
            return upper > lower
        case CurveShape.KNEE if told.knee is not None:
            return (told.knee.after < told.knee.before) == (upper < lower)
        case CurveShape.NEARLY_FLAT if told.plateau is not None:
            above = min(
                (y for x, y in zip(xs, ys, strict=True) if math.exp(x) >= told.plateau.above - 1e-9), default=ys[-1]
            )
            return ys[-1] - above <= math.log1p(told.plateau.most) + NOTHING
        case CurveShape.CAPPED:
            return abs(ys[-1] - ys[-2]) < 20.0 * NOTHING
        case CurveShape.PEAK:
            return 0 < highest < len(ys) - 1 and ys[highest] - ys[-1] > NOTHING
        case _:
            return None


def _limits(book: Snapshot, truth: Truth, told: Told) -> None:
    settings = settings_of(book)
    here = book.in_force
    for told_of in limits(book, settings, sensitivities(book, settings)):
        name, bound = told_of.benchmark.id, told_of.finding.bound
        now = truth.log(here, name)
        slopes = {
            part: (truth.log(here.with_values({knob: here[knob] * STRETCH}), name) - now) / math.log(STRETCH)
            for part, knob in RISES.items()
        }
        freed = {"power_limit": 400.0, "heat_limit": 110.0, "graphics_power_limit": 90.0, "fan_level": 100.0}
        lifted = truth.log(here.with_values(freed), name) - now
        right: bool | None
        match bound:
            case Bound.PROCESSOR | Bound.MEMORY | Bound.GRAPHICS:
                right = slopes[bound] >= min(BOUND_SLOPE, max(slopes.values()) - 0.05)
            case Bound.LIMIT:
                right = lifted > NOTHING
            case Bound.CAP:
                right = max(*slopes.values(), lifted) < 0.02
            case Bound.ELSEWHERE:
                right = max(slopes.values()) < 0.6
            case Bound.UNTOLD:
                right = None
        rounded = {str(part): round(slope, 2) for part, slope in slopes.items()}
        told.hold(
            "limits: what holds it back",
            right,
            f"{name}: {told_of.finding.words} ({bound}); {rounded}, lifted {lifted:+.4f}",
        )


def _target(book: Snapshot, truth: Truth, trend: Truth, told: Told) -> None:
    """Where the trend reaches, and where it doesn't: errors that are corrected on the way end a trend, and are no part of it."""
    settings = settings_of(book)
    for benchmark in book.declaration.benchmarks:
        up = benchmark.metric.direction is Direction.HIGHER
        scores = [f.score for s in settings for f in s.figures.get(benchmark.id, ())]
        wanted = max(scores) * 1.03 if up else min(scores) / 1.03
        try:
            answer = target(book, settings, benchmark, wanted)
        except KnownError:
            continue
        if not answer.ways:
            told.hold("target: the value that reaches it", None, answer.sentence)
        for way in answer.ways:
            ends = sorted((way.low, way.high), key=lambda v: abs(v - book.in_force[way.knob.id]))
            near, far = (min(max(end, way.knob.low), way.knob.high) for end in ends)
            if way.short and way.value not in (way.knob.low, way.knob.high):
                told.hold("target: the value that reaches it", None, way.sentence)
                continue
            ends_of = ((truth, near), (trend, far))
            figures = [of.figure(book.in_force.with_values({way.knob.id: v}), benchmark) for of, v in ends_of]
            reach = [f >= wanted if up else f <= wanted for f in figures]
            words = f"{benchmark.id}: {way.sentence} (true {figures}, wanted {wanted:.4g})"
            inside = not way.short and math.isfinite(way.high)
            right = (reach[1] and not reach[0]) if inside else (not reach[0])
            told.hold("target: the value that reaches it", right, words)


def _efficiency(book: Snapshot, truth: Truth, told: Told) -> None:
    settings = settings_of(book)
    for benchmark in book.declaration.benchmarks:
        try:
            view = efficiency([(book, settings)], benchmark)
        except KnownError:
            continue
        if view.best is None:
            told.hold("efficiency: most score per watt", None, view.sentence)
            continue
        setups = {r.step.number: r.step.setup for r in book.steps}
        held = {i: setups[c.step] for i, c in enumerate(view.costs) if c.verdict in STABLE}
        per_watt = {i: truth.log(s, benchmark.id) - math.log(truth.watts(s, benchmark.id)) for i, s in held.items()}
        right = max(per_watt.values()) - max(per_watt[i] for i in (view.best, *view.alike)) < 10 * NOTHING
        told.hold("efficiency: most score per watt", right, f"{benchmark.id}: {view.sentence}")


def _map(book: Snapshot, truth: Truth, told: Told) -> None:
    settings = settings_of(book)
    for across, up in pairs_measured(book, settings):
        for benchmark in book.declaration.benchmarks:
            view = map_of(book, settings, across, up, benchmark)
            if view.table is None:
                continue
            table, here = view.table, book.in_force
            corners = [
                truth.log(here.with_values({across.id: x, up.id: y}), benchmark.id)
                for x, y in (table.low, (table.high[0], table.low[1]), (table.low[0], table.high[1]), table.high)
            ]
            true = corners[3] - corners[1] - corners[2] + corners[0]
            left = table.left_over
            alone = "" if left.sure else ", by itself"
            right = true > NOTHING if left.low > 0 else true < -NOTHING if left.high < 0 else None
            told.hold(
                f"map: help or hinder{alone}",
                right,
                f"{benchmark.id} {across.id} x {up.id}: {left.fraction:+.4f}, true {true:+.4f}",
            )


def table(told: list[Told]) -> Iterator[str]:
    """Write the table, the worst rows first; what is told as one by itself, and ranges, are no sentences and stand apart."""
    counts: Counter[tuple[str, str]] = sum((t.counts for t in told), Counter())
    kinds = sorted({kind for kind, _ in counts}, key=lambda k: -_wrong(counts, k))
    yield "| statement | true | false | told open | false of those told |"
    yield "| --- | --- | --- | --- | --- |"
    apart = [kind for kind in kinds if kind.startswith("range") or "by itself" in kind]
    sentences = [kind for kind in kinds if kind not in apart]
    for kind in (*sentences, *apart):
        right, wrong, left = (counts[kind, how] for how in ("true", "false", "open"))
        yield f"| {kind} | {right} | {wrong} | {left} | {share(wrong, right + wrong) if right + wrong else ''} |"
    right, wrong = (sum(counts[kind, how] for kind in sentences) for how in ("true", "false"))
    yield f"| **all sentences** | {right} | {wrong} | | {share(wrong, right + wrong) if right + wrong else ''} |"


def _wrong(counts: Counter[tuple[str, str]], kind: str) -> float:
    right, wrong = counts[kind, "true"], counts[kind, "false"]
    return wrong / (right + wrong) if right + wrong else 0.0


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rigs", type=int, default=30)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--false", action="store_true", help="print every false statement")
    chosen = parser.parse_args()
    seed = chosen.seed if chosen.seed is not None else secrets.randbelow(10**6)
    with ProcessPoolExecutor(chosen.workers) as pool:
        made = list(pool.map(evening, [f"{seed}/{i}" for i in range(chosen.rigs)]))
    kinds = Counter(kind for kind, _ in made)
    print(f"{chosen.rigs} machines ({', '.join(f'{n} {kind}' for kind, n in kinds.items())}); seed {seed}\n")
    print("\n".join(table([told for _, told in made])))
    if chosen.false:
        for number, (kind, told) in enumerate(made):
            for words in told.false:
                print(f"{number} {kind}: {words}")


if __name__ == "__main__":
    main()
