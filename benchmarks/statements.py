"""Every sentence against the truth: evenings on simulated machines nobody has seen, each statement held against its rig.

Run `python -m benchmarks.statements --rigs 30 --seed 7`; without a seed it takes a fresh one and prints it. The machines are
those of `benchmarks/strangers.py`, each beside a neighbour that it is compared with. The truth is the same machine without
noise and without failures: a pass that begins as warm as passes are meant to, with nothing left that a limiter has saved up.
What a statement leaves open counts as told open, not as true.
"""

from __future__ import annotations

import argparse
import math
import secrets
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.chips import PLAN, truth_per_hour
from benchmarks.shares import share
from benchmarks.strangers import BUS_CLOCKED, RESTARTS, Truth, drawn, neighbour
from yondle.analysis.limiting import Bound
from yondle.analysis.margins import Gain, GainWord
from yondle.analysis.shapes import CurveReading, CurveShape
from yondle.app.books.columns import Shelf
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.model.errors import KnownError
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction
from yondle.views.compare.compare import compare
from yondle.views.compare.efficiency import STABLE, efficiency
from yondle.views.compare.machines import machines
from yondle.views.map.maps import map_of, pairs_measured
from yondle.views.scaling.curves import knobs_measured, scaling
from yondle.views.scaling.limits import limits
from yondle.views.scaling.sensitivities import sensitivities
from yondle.views.scaling.target import target
from yondle.views.shared.gains import gain_of, mean_gain
from yondle.views.shared.measured import groups_of, settings_of
from yondle.views.shared.snapshot import Snapshot

NOTHING = 0.0005
"""A true effect below this, as a fraction, is none: a sentence that names its sign is false."""
BOUND_SLOPE = 0.33
STRETCH = 1.04
"""How much a part's clock is raised to see what really answers."""
RISES = {
    Bound.PROCESSOR: ("core_clock", "core_ratio"),
    Bound.MEMORY: ("memory_rate", "memory_ratio"),
    Bound.GRAPHICS: ("graphics_clock",),
}
"""What raises a part's clock, whichever of them a machine has."""
FREED = {"power_limit": 400.0, "heat_limit": 110.0, "graphics_power_limit": 90.0, "fan_level": 100.0}
HEAD = """
format = "yondle-plan 1"
name = "an evening"
passes = 3
"""
SWEEP = """
[[do]]
kind = "sweep"
knob = "{}"
from = {}
to = {}
by = {}
rounds = {}
"""
STEPS = """
[[do]]
kind = "steps"
steps = [{}]
"""
CLOCK = SWEEP.format("core_clock", 3800, 4400, 100, 4)
BUS = SWEEP.format("bus_clock", 97, 104, 1, 4)


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


def evening(seed: str) -> tuple[str, Told]:
    """Tune one machine for an evening and hold what is told against the truth."""
    told = Told()
    with TemporaryDirectory() as folder:
        kind, text = next(one for again in range(20) if _holds(Path(folder), (one := drawn(seed, again))[1], seed))
        beside = neighbour(text, seed)
        other, other_s = _beside(Path(folder) / "neighbour.yondle", beside, BUS if kind == BUS_CLOCKED else CLOCK)
        session = create_logbook(Path(folder) / "rig.yondle", RigChoice("simulated", "Rig", text))
        session.do(RunBaseline(5))
        at_s = session.machine.clock.now()
        plan = HEAD + _evening_of(kind, session.snapshot.in_force["power_limit"])
        session.do(StartPlan(plan, "the evening", unattended=True))
        book, truth = session.snapshot, Truth(text, (at_s + session.machine.clock.now()) / 2.0)
        for hold in (_trail, _scaling, _limits, _efficiency, _map):
            hold(book, truth, told)
        _target(book, truth, Truth(text, at_s, corrects=False), told)
        _compare(book, other, truth, Truth(beside, other_s), told)
        if kind == BUS_CLOCKED:
            session.close()
            return kind, told
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


def _evening_of(kind: str, power: float) -> str:
    """Write what is tried: every value of some knobs in rounds, then a few steps; hands and restarts are a simulated owner's."""
    if kind == BUS_CLOCKED:
        ratios = SWEEP.format("core_ratio", 32, 36, 1, 4) + SWEEP.format("memory_ratio", 6, 9, 1, 3)
        return BUS + ratios + STEPS.format("{ fan_level = 100 }, { cas = 8 }, { power_limit = 120 }")
    if kind == RESTARTS:
        cores = SWEEP.format("cores_in_use", 3, 8, 1, 4) + SWEEP.format("threads_per_core", 1, 2, 1, 3)
        return CLOCK + cores + STEPS.format("{ link_width = 1 }, { fan_level = 80 }, { cores_in_use = 7 }")
    memory = SWEEP.format("memory_rate", 4800, 6400, 400, 3)
    limits = SWEEP.format("power_limit", power - 10, power + 20, 10, 3)
    steps = (
        f"{{ graphics_clock = 2160 }}, {{ fan_level = 80 }}, {{ power_limit = {power + 20} }}, {{ core_clock = 4350 }}"
    )
    return CLOCK + memory + limits + STEPS.format(steps)


def _holds(folder: Path, text: str, seed: str) -> bool:
    """Tell whether a machine and its neighbour hold at stock: nobody tunes one that doesn't."""
    for name, each in (("a.yondle", text), ("b.yondle", neighbour(text, seed))):
        session = create_logbook(folder / name, RigChoice("simulated", "Rig", each))
        held = session.do(RunBaseline(5)).verdict is Verdict.HELD
        session.close()
        (folder / name).unlink()
        if not held:
            return False
    return True


def _beside(path: Path, text: str, sweep: str) -> tuple[Path, float]:
    """Measure a machine that another is compared with: its stock, and one knob; gives its logbook, and when that was."""
    session = create_logbook(path, RigChoice("simulated", "Neighbour", text))
    session.do(RunBaseline(5))
    session.do(StartPlan(HEAD + sweep, "beside", unattended=True))
    at_s = session.machine.clock.now() / 2.0
    session.close()
    return path, at_s


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
        rises = {part: next((k for k in knobs if k in here), None) for part, knobs in RISES.items()}
        slopes = {
            part: (truth.log(here.with_values({knob: here[knob] * STRETCH}), name) - now) / math.log(STRETCH)
            for part, knob in rises.items()
            if knob is not None
        }
        lifted = truth.log(here.with_values({k: v for k, v in FREED.items() if k in here}), name) - now
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
            figures = [of.figure(way.held.with_values({way.knob.id: v}), benchmark) for of, v in ends_of]
            reach = [f >= wanted if up else f <= wanted for f in figures]
            words = f"{benchmark.id}: {way.sentence} (true {figures}, wanted {wanted:.4g})"
            inside = not way.short and way.knob.low <= way.high <= way.knob.high
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


def _compare(book: Snapshot, other: Path, truth: Truth, of_other: Truth, told: Told) -> None:
    """Columns of this machine and of the one beside it, and both along the knob that both were swept over."""
    shelf = Shelf(lambda: book)
    beside = shelf.book(other)
    latest = [str(r.step.number) for r in book.steps[-3:]]
    columns = [shelf.column(address) for address in ("stock", *latest, f"{other}#stock")]
    view = compare(columns)
    for i, column in enumerate(view.columns):
        if i == view.against:
            continue
        its = of_other if column.book is beside else truth
        trues = []
        for row in view.rows:
            cell, base = row.cells[i], columns[view.against].setting.setup
            if cell is None or cell.gain is None or cell.capped:
                continue
            trues.append(its.log(column.setting.setup, row.benchmark.id) - truth.log(base, row.benchmark.id))
            words = f"{row.benchmark.id} of {column.name}: {cell.gain.fraction:+.4f}, true {math.expm1(trues[-1]):+.4f}"
            told.hold("compare: better or worse for sure", _sign(cell.gain, trues[-1]), words)
        mean = view.means[i]
        if mean is not None and mean.benchmarks == len(trues):
            true = sum(trues) / len(trues)
            words = f"{column.name}: {mean.these.fraction:+.4f}, true {math.expm1(true):+.4f}"
            told.hold("compare: the mean", _sign(mean.these, true), words)
    knob = book.declaration.knob("core_clock" if "core_clock" in book.in_force else "bus_clock")
    books = [(book, settings_of(book)), (beside, settings_of(beside))]
    for benchmark in book.declaration.benchmarks:
        lines = machines(books, knob, benchmark)

        def over(value: float, name: str = benchmark.id) -> float:
            """How far the first machine is ahead of the second at a value."""
            ours = truth.log(book.declaration.stock.with_values({knob.id: value}), name)
            return ours - of_other.log(beside.declaration.stock.with_values({knob.id: value}), name)

        for meeting in lines.meetings:
            if meeting.other.machine == lines.lines[0].machine:
                continue
            words = f"{benchmark.id}: {meeting.sentence}"
            if meeting.crossing is not None:
                low, high = over(meeting.crossing.low), over(meeting.crossing.high)
                right = (
                    low > -NOTHING and high < NOTHING
                    if meeting.crossing.first_below
                    else low < NOTHING and high > -NOTHING
                )
                told.hold("compare: where two machines cross", right, f"{words} (true {low:+.4f}, {high:+.4f})")
            for lead in meeting.leads if meeting.crossing is None else ():
                gaps = [over(v) for v in knob.values() if lead.low - 1e-9 <= v <= lead.high + 1e-9]
                gap = sum(gaps) / max(len(gaps), 1)
                ahead = gap * lead.ahead > NOTHING if lead.ahead and gaps else None
                told.hold("compare: which machine is ahead", ahead, f"{words} (true {gap:+.4f})")


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
