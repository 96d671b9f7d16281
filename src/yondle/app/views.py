"""Read models: what window, command line and reports show, worked out from a session; one source for every figure."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.margins import FEWEST_PASSES, Gain, GainWord, Spread, gain, spread
from yondle.analysis.scaling import Elasticity, at_cap, elasticity
from yondle.analysis.stability import Exposure, HoldModel
from yondle.app.session import Session
from yondle.model.knobs import Knob, Risk, Setup, Subsystem
from yondle.model.quantities import MINUS, THIN, count, digits_for, duration, number, quantity, signed_percent
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.steps import Attempt, Check, StageKind, Step, StepKind, StepRecord
from yondle.model.verdicts import VERDICT_OF_FAILURE, Failure, Verdict
from yondle.model.workloads import Direction, Workload
from yondle.planning.ladder import check_seconds

_FINE_MARGIN_PERCENT = 0.2
"""Gains get a second decimal when their margin is below this."""

_AT_ONCE_S = 0.5

_LOOKED_BACK = 30
"""So many steps are looked at for how long a check takes; the night warms up, so older ones mislead."""

_NEARLY_SURE = 0.99
"""A chance is never told as certainty."""

_SHOWN_LIMITS = (Quantity.TEMPERATURE, Quantity.POWER, Quantity.VOLTAGE)


@dataclass(frozen=True, slots=True)
class TrailRow:
    """One step as the trail shows it; `on_path` tells whether it lies between the baseline and where the rig is."""

    number: int
    title: str
    detail: str
    verdict: Verdict
    gain: Gain | None
    gain_text: str
    on_path: bool
    is_position: bool
    running: bool
    notes: int


@dataclass(frozen=True, slots=True)
class RulerMark:
    """A value tried, with its mark; `strong` when every other knob stood as it stands now."""

    value: float
    verdict: Verdict
    strong: bool
    step: int


@dataclass(frozen=True, slots=True)
class RulerView:
    """One knob with its history: where it is, what is proposed, the tuner's ceiling, and every value tried."""

    knob: Knob
    in_force: float
    proposed: float | None
    ceiling: float | None
    marks: tuple[RulerMark, ...]


@dataclass(frozen=True, slots=True)
class ChartPoint:
    """All passes at one value of the knob under the same other settings."""

    value: float
    scores: tuple[float, ...]
    spread: Spread
    verdict: Verdict
    strong: bool
    steps: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class ChartFailure:
    """A value at which the machine failed without a figure."""

    value: float
    verdict: Verdict
    strong: bool
    step: int
    words: str


@dataclass(frozen=True, slots=True)
class ChartView:
    """Score against one knob, with the sentence that reads it aloud."""

    knob: Knob
    workload: Workload
    points: tuple[ChartPoint, ...]
    failures: tuple[ChartFailure, ...]
    baseline: Spread | None
    anchor: tuple[float, float] | None
    elasticity: Elasticity | None
    sentence: str


@dataclass(frozen=True, slots=True)
class ProposalView:
    """The proposal in words, with what its check does."""

    title: str
    change: str
    about: str
    chance: float | None
    chance_text: str
    rows: tuple[tuple[str, str], ...]


def benchmark_of(session: Session, workload_id: str = "") -> Workload:
    """Give a benchmark by id, or the rig's first."""
    if workload_id:
        return session.declaration.workload(workload_id)
    return session.declaration.benchmarks[0]


def gain_of(session: Session, record: StepRecord, benchmark: Workload) -> Gain | None:
    """Give the gain of a step over the latest baseline in one benchmark; None without figures on both sides."""
    base = session.baseline_step
    if base is None or record.step.number == base.step.number:
        return None
    return gain(record.scores(benchmark.id), base.scores(benchmark.id), benchmark.metric.direction)


def gain_words(value: Gain | None) -> str:
    """Write a gain as far as it deserves: '+9.6 % ± 0.7', 'within noise', or nothing."""
    if value is None:
        return ""
    if value.word is GainWord.TOO_FEW:
        return str(value.word)
    if value.word is GainWord.WITHIN_NOISE:
        return "within noise"
    digits = 2 if 0 < 100 * value.margin < _FINE_MARGIN_PERCENT else 1
    return f"{signed_percent(value.fraction, digits)} ± {number(100 * value.margin, digits)}"


class Trail:
    """The trail of a session; rows of steps that haven't changed are kept, so long trails stay quick."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._kept: dict[int, tuple[StepRecord, StepRecord | None, str, tuple[str, str, Gain | None, str]]] = {}

    def rows(self, benchmark: Workload | None, running: int | None = None) -> list[TrailRow]:
        """List the rows, newest first; without a benchmark they carry no gains."""
        session = self._session
        path = on_path(session)
        position = session.position.step.number if session.position else None
        base = session.baseline_step
        rows = []
        for record in reversed(session.steps):
            title, detail, value, words = self._words(record, base, benchmark)
            n = record.step.number
            notes = len(record.notes)
            rows.append(
                TrailRow(n, title, detail, record.verdict, value, words, n in path, n == position, n == running, notes)
            )
        return rows

    def _words(
        self, record: StepRecord, base: StepRecord | None, benchmark: Workload | None
    ) -> tuple[str, str, Gain | None, str]:
        named = benchmark.id if benchmark is not None else ""
        kept = self._kept.get(record.step.number)
        if kept is not None and kept[0] is record and kept[1] is base and kept[2] == named:
            return kept[3]
        declaration = self._session.declaration
        value = gain_of(self._session, record, benchmark) if benchmark is not None else None
        shown = (
            step_title(declaration, record.step),
            step_detail(declaration, record, benchmark),
            value,
            gain_words(value),
        )
        self._kept[record.step.number] = (record, base, named, shown)
        return shown


def on_path(session: Session) -> set[int]:
    """Give the numbers of the steps from the baseline to where the rig is."""
    numbers: set[int] = set()
    here = session.position
    while here is not None and here.step.number not in numbers:
        numbers.add(here.step.number)
        parent = here.step.parent
        here = session.step(parent) if parent is not None else None
    return numbers


def step_title(declaration: RigDeclaration, step: Step) -> str:
    """Write what a step changed."""
    if step.kind is StepKind.BASELINE:
        return "Baseline · stock"
    named = [(declaration.knob(c.knob), c) for c in step.changes]
    words = " + ".join(f"{knob.name} {knob.bare(c.new)}" for knob, c in named)
    return f"Joint: {words}" if step.joint else words


def step_detail(declaration: RigDeclaration, record: StepRecord, benchmark: Workload | None) -> str:
    """Write the second line of a step: how it failed, or what it came from."""
    outcome = record.outcome
    if outcome is not None and outcome.failure is not None:
        return failure_words(outcome.failure, outcome.time_to_failure_s, outcome.reason)
    if record.step.kind is StepKind.BASELINE:
        spread_now = spread(record.scores(benchmark.id)) if benchmark is not None else None
        if spread_now is None or math.isnan(spread_now.variation):
            return "stock settings"
        return f"{count(spread_now.n, 'pass', 'passes')}, spread {number(100 * spread_now.variation, 1)}{THIN}%"
    was = ", ".join(declaration.knob(c.knob).text(c.old) for c in record.step.changes)
    return f"was {was}"


def failure_words(failure: Failure, after_s: float | None, reason: str) -> str:
    """Write a failure in a few words, with its time where that tells something."""
    if VERDICT_OF_FAILURE[failure] in (Verdict.DOWN, Verdict.WRONG):
        if after_s is None:
            return str(failure)
        return f"{failure} after {duration(after_s)}" if after_s >= _AT_ONCE_S else f"{failure} at once"
    if failure is Failure.CLOCK_NOT_HELD:
        return reason.split(" in ")[0].split(" not held: ")[-1].join(("clock not held: ", ""))
    if failure is Failure.CEILING:
        return reason.split(";")[0]
    return str(failure)


Marks = dict[str, tuple[RulerMark, ...]]


def ruler_marks(session: Session) -> Marks:
    """Give the values tried of every knob with their marks: the latest verdict under the present other settings, or elsewhere."""
    now = session.in_force
    marks: dict[str, dict[float, RulerMark]] = {knob.id: {} for knob in session.declaration.knobs}
    for record in session.steps:
        if record.outcome is None:
            continue
        setup = record.step.setup
        differing = [k for k in now if setup.get(k) != now[k]]
        for knob_id, kept in marks.items():
            strong = not differing or differing == [knob_id]
            value = setup.get(knob_id)
            before = kept.get(value) if value is not None else None
            if value is None or (before is not None and before.strong and not strong):
                continue
            kept[value] = RulerMark(value, record.verdict, strong, record.step.number)
    return {knob: tuple(sorted(kept.values(), key=lambda m: m.value)) for knob, kept in marks.items()}


def rulers(session: Session, marks: Marks) -> list[RulerView]:
    """Give one ruler per knob."""
    proposal, ceilings = session.proposal, session.declaration.ceilings
    return [
        RulerView(
            knob,
            session.in_force[knob.id],
            proposal.value(knob.id) if proposal else None,
            ceilings.get(knob.id),
            marks[knob.id],
        )
        for knob in session.declaration.knobs
        if knob.id in session.in_force
    ]


Chances = dict[float, float]


def chances_to_hold(session: Session, knob: Knob, seconds: float) -> Chances | None:
    """Give the chance to hold `seconds` of load at every value of a knob, with all else as it is now.

    None until something has failed there: before that nobody knows how far away the edge is, and a guess would flatter.
    """
    if knob.risk is Risk.NONE or knob.id not in session.in_force:
        return None
    seen = [
        exposure
        for record in session.steps
        if record.step.setup.same_but(session.in_force, knob.id)
        for attempt in record.attempts
        if (exposure := _exposure(attempt, record.step.setup[knob.id])) is not None
    ]
    if not any(s.failed for s in seen):
        return None
    values = knob.values()
    return dict(zip(values, HoldModel(knob, seen).chance(values, seconds), strict=True))


def load_seconds(check: Check) -> float:
    """Give how long a check's hard load runs, or a minute where it has none."""
    return sum(s.pass_s or 0.0 for s in check.stages if s.kind is StageKind.LOAD) or 60.0


def proposal_view(session: Session, check: Check, chances: Chances | None) -> ProposalView | None:
    """Put the proposal into words, with the chances of its knob; None when nothing is proposed."""
    proposal = session.proposal
    if proposal is None:
        return None
    declaration = session.declaration
    named = [(declaration.knob(c.knob), c) for c in proposal.changes]
    title = " and ".join(knob.name for knob, _ in named)
    change = "\n".join(f"{knob.bare(c.old)} → {knob.text(c.new)}" for knob, c in named)
    here = session.position
    about = f"All else as in step {here.step.number}." if here else "All else at stock."
    if proposal.joint:
        about += " A joint step: no gain is credited to either knob alone."
    chance, chance_text = _proposal_chance(session, chances)
    return ProposalView(title, change, about, chance, chance_text, check_rows(session, check))


def check_rows(session: Session, check: Check) -> tuple[tuple[str, str], ...]:
    """Say in rows what a check will do."""
    declaration = session.declaration
    rows = [("Check", f"about {duration(round(expected_seconds(session, check), -1))}")]
    for stage in check.stages:
        if stage.kind is StageKind.SCORE:
            rows.append(("Passes", f"{stage.rounds} + {stage.warm_up_rounds} warm-up"))
            rows.append(("Benchmarks", str(len(stage.workloads))))
        else:
            name = declaration.workload(stage.workloads[0]).name
            rows.append(("Then", f"{duration(stage.pass_s or 0.0)} of {name}"))
    if check.settle_channel:
        channel = declaration.channel(check.settle_channel)
        rows.append(("Start below", quantity(check.settle_below, channel.unit)))
    limits = []
    for limit in declaration.limits:
        channel = declaration.channel(limit.channel)
        if channel.quantity in _SHOWN_LIMITS:
            limits.append(quantity(limit.most, channel.unit, 2 if channel.quantity is Quantity.VOLTAGE else 0))
    if limits:
        rows.append(("Stop at", " · ".join(limits)))
    return tuple(rows)


def expected_seconds(session: Session, check: Check) -> float:
    """Estimate how long a check takes: as long as the latest one that ran through with as many passes, else its load."""
    alone = check_seconds(check, session.declaration)
    for record in reversed(session.steps[-_LOOKED_BACK:]):
        for attempt in reversed(record.attempts):
            done = [p for p in attempt.passes if p.result is not None]
            loaded = sum(p.result.duration_s for p in done if p.result is not None)
            if done and abs(loaded - alone) < 0.02 * alone and done[-1].result is not None:
                return done[-1].started_s + done[-1].result.duration_s - attempt.started_s
    return alone


def chart(session: Session, knob: Knob, benchmark: Workload) -> ChartView:
    """Gather every pass of a benchmark against one knob."""
    now = session.in_force
    gathered: dict[Setup, list[StepRecord]] = {}
    failures = []
    for record in session.steps:
        setup = record.step.setup
        if knob.id not in setup:
            continue
        if record.scores(benchmark.id):
            gathered.setdefault(setup, []).append(record)
        elif record.outcome is not None and record.outcome.failure is not None:
            outcome = record.outcome
            words = failure_words(record.outcome.failure, outcome.time_to_failure_s, outcome.reason)
            failures.append(
                ChartFailure(setup[knob.id], record.verdict, setup.same_but(now, knob.id), record.step.number, words)
            )
    points = [
        p for setup, records in gathered.items() if (p := _point(setup, records, knob, benchmark, now)) is not None
    ]
    points.sort(key=lambda p: p.value)
    base = session.baseline_step
    base_spread = spread(base.scores(benchmark.id)) if base else None
    strong = [p for p in points if p.strong and p.spread.n >= FEWEST_PASSES]
    fitted = elasticity([(p.value, list(p.scores)) for p in strong], benchmark.metric.direction)
    anchor = _anchor(strong, base, knob)
    sentence = _sentence(knob, benchmark, strong, len(points), base_spread, fitted)
    return ChartView(knob, benchmark, tuple(points), tuple(failures), base_spread, anchor, fitted, sentence)


def _exposure(attempt: Attempt, value: float) -> Exposure | None:
    outcome = attempt.outcome
    if outcome is None:
        return None
    if outcome.verdict in (Verdict.DOWN, Verdict.WRONG):
        return Exposure(value, outcome.time_to_failure_s or 0.0, True)
    done = [p for p in attempt.passes if p.result is not None and p.result.ok]
    hard = [p for p in done if not p.counts and not p.warm_up] or done[-1:]
    seconds = sum(p.result.duration_s for p in hard if p.result is not None)
    return Exposure(value, seconds, False) if seconds > 0 else None


def _proposal_chance(session: Session, chances: Chances | None) -> tuple[float | None, str]:
    proposal = session.proposal
    if proposal is None or len(proposal.changes) != 1:
        return None, "Chance to hold: not told for a joint step."
    change = proposal.changes[0]
    if session.declaration.knob(change.knob).risk is Risk.NONE:
        return None, ""
    chance = chances.get(change.new) if chances is not None else None
    if chance is None:
        return None, "Chance to hold: not known, since nothing has failed yet with these other settings."
    shown = f"{number(100 * chance)}{THIN}%"
    if chance > _NEARLY_SURE:
        shown = f"over {number(100 * _NEARLY_SURE)}{THIN}%"
    elif chance < 1 - _NEARLY_SURE:
        shown = f"under {number(100 - 100 * _NEARLY_SURE)}{THIN}%"
    return chance, f"Chance to hold, estimated from what has been seen: {shown}"


def _point(setup: Setup, records: list[StepRecord], knob: Knob, benchmark: Workload, now: Setup) -> ChartPoint | None:
    scores = [score for record in records for score in record.scores(benchmark.id)]
    summed = spread(scores)
    if summed is None:
        return None
    numbers = tuple(record.step.number for record in records)
    strong = setup.same_but(now, knob.id)
    return ChartPoint(setup[knob.id], tuple(scores), summed, records[-1].verdict, strong, numbers)


def _anchor(strong: list[ChartPoint], base: StepRecord | None, knob: Knob) -> tuple[float, float] | None:
    if not strong or not knob.proportional:
        return None
    from_base = [p for p in strong if base is not None and base.step.number in p.steps]
    first = from_base[0] if from_base else strong[0]
    return first.value, first.spread.mean


def _sentence(
    knob: Knob,
    benchmark: Workload,
    strong: list[ChartPoint],
    all_points: int,
    base: Spread | None,
    fit: Elasticity | None,
) -> str:
    name, score = knob.name.lower(), benchmark.name
    if base is None:
        return "Nothing measured yet: the baseline comes first."
    if at_cap([(p.value, list(p.scores)) for p in strong], benchmark.metric.cap):
        cap = quantity(benchmark.metric.cap or 0.0, benchmark.metric.unit)
        return f"{score} sits at its cap of {cap}: it tells nothing about {name}."
    if len(strong) < 2 or fit is None:
        if all_points > len(strong):
            return f"Only one value of {name} with the other settings as they are now; faint marks are under others."
        return f"One value of {name} so far: test another to see what it is worth."
    turned = " (fewer seconds count as more score)" if benchmark.metric.direction is Direction.LOWER else ""
    if fit.settings == 2 or not knob.proportional:
        return _two_ends(knob, benchmark, strong, turned)
    low, high = number(fit.low, 2), number(fit.high, 2)
    if fit.low <= 0.0 <= fit.high:
        return f"No sign yet that {score} answers to {name}: {_signed(fit.slope)} % for each +1 % ({low} to {high})."
    return f"Each +1 % of {name} has brought {_signed(fit.slope)} % of score ({low} to {high}){turned}."


def _two_ends(knob: Knob, benchmark: Workload, strong: list[ChartPoint], turned: str) -> str:
    first, last = strong[0], strong[-1]
    value = gain(list(last.scores), list(first.scores), benchmark.metric.direction)
    span = f"From {knob.bare(first.value)} to {knob.text(last.value)}"
    if value is None or value.word is GainWord.TOO_FEW:
        return f"{span}: too few passes to tell."
    low, high = number(100 * value.low, 1), number(100 * value.high, 1)
    if value.word is GainWord.WITHIN_NOISE:
        return f"{span} {benchmark.name} shows no difference: within noise ({low} to {high} %)."
    return f"{span} {benchmark.name} changed by {signed_percent(value.fraction)} ({low} to {high} %){turned}."


def _signed(value: float) -> str:
    text = number(value, 2)
    return text if text.startswith(MINUS) else f"+{text}"


@dataclass(frozen=True, slots=True)
class StepView:
    """One step in full: its verdict and reason, gains and readings in rows, notes, and whether one can go back to it."""

    number: int
    title: str
    verdict: Verdict
    reason: str
    rows: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]
    can_go_back: bool


def step_view(session: Session, step_number: int) -> StepView:
    """Put a step into words."""
    record = session.step(step_number)
    outcome = record.outcome
    reason = outcome.reason if outcome else "No verdict: it is on trial, or was never tested through."
    can = session.can_go_back(step_number)
    rows = (*_gain_rows(session, record), *_reading_rows(session.declaration, record))
    if len(record.attempts) > 1:
        rows = (*rows, ("Attempts", str(len(record.attempts))))
    notes = tuple(f"{note.at[:16].replace('T', ' ')}  {note.text}" for note in record.notes)
    return StepView(step_number, step_title(session.declaration, record.step), record.verdict, reason, rows, notes, can)


def _gain_rows(session: Session, record: StepRecord) -> tuple[tuple[str, str], ...]:
    rows = []
    for benchmark in session.declaration.benchmarks:
        value = gain_of(session, record, benchmark)
        if value is not None:
            capped = at_cap([(0.0, record.scores(benchmark.id))], benchmark.metric.cap)
            rows.append((benchmark.name, "at its cap" if capped else gain_words(value)))
            continue
        measured = spread(record.scores(benchmark.id))
        if measured is not None and math.isfinite(measured.low):
            half = (measured.high - measured.low) / 2
            digits = digits_for(half)
            text = f"{number(measured.mean, digits)} ± {number(half, digits)}{THIN}{benchmark.metric.unit}"
            rows.append((benchmark.name, text))
    return tuple(rows)


def _reading_rows(declaration: RigDeclaration, record: StepRecord) -> tuple[tuple[str, str], ...]:
    """Readings under load: highest temperatures and power, mean clock and voltage, over the latest attempt."""
    attempt = record.attempts[-1] if record.attempts else None
    if attempt is None:
        return ()
    facts = [p.result.facts for p in attempt.passes if p.result is not None]
    rows = []
    for channel in declaration.channels:
        if channel.quantity in (Quantity.TEMPERATURE, Quantity.POWER):
            values = [float(f[f"most {channel.id}"]) for f in facts if f"most {channel.id}" in f]
            if values and channel.subsystem is not Subsystem.WHOLE:
                rows.append((f"{channel.name}, highest", quantity(max(values), channel.unit, channel.digits)))
        elif channel.follows or channel.quantity is Quantity.VOLTAGE:
            values = [float(f[f"mean {channel.id}"]) for f in facts if f"mean {channel.id}" in f]
            if values:
                rows.append((f"{channel.name} in load", quantity(min(values), channel.unit, channel.digits)))
    return tuple(rows)
