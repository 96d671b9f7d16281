"""Turns what happened in an attempt into its verdict, with a reason in words."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from yondle.analysis.limiting import FLAGGED_SHARE
from yondle.analysis.student import t_quantile
from yondle.language.saying import capital, clause, in_sentence, listed, named, say, together
from yondle.model.errors import MachineDownError
from yondle.model.knobs import Change, Setup
from yondle.model.quantities import count, duration, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity
from yondle.model.steps import COMPARED_STAGE, SCORE_STAGE, Check, PassRecord, StepRecord
from yondle.model.verdicts import SAYS_NOTHING, VERDICT_OF_FAILURE, Failure, Outcome, Verdict
from yondle.model.workloads import Direction

NEAR_LIMIT = 0.97
"""A mean from this share of a limit on may be held down by it later: chips draw more as they warm, and sensors err."""
CLOCK_HELD_SHARE = 0.995
"""A clock counts as held when its mean under load is at least this share of what was asked: sensors err by less."""

LIMIT_ACTS_SHARE, LIMIT_MET_SHARE = 0.5, 0.93
"""A limit that acts for half a pass while less than this share of it is drawn is not the limit that was asked."""

AT_ONCE_S = 0.5
"""Whatever ends a load sooner than this ended it in its first moment."""

SMALLEST_SAG, SAG_SURE, FEWEST_FREE, AT_CAP_SHARE = 0.01, 0.998, 6, 0.995
"""A fall worth telling, how sure it has to be, the degrees of freedom it takes, and scores that only show their cap."""


@dataclass(frozen=True, slots=True)
class ClockShortfall:
    """A clock below what was asked: asked value, lowest mean of a pass, and the share of that pass each limit was reached."""

    channel: str
    knob: str
    asked: float
    mean: float
    workload: str
    limits: tuple[tuple[str, float], ...]


@dataclass(frozen=True, slots=True)
class Limited:
    """What limited a machine over the passes of an attempt: clocks that fell short, and whether it said that it throttled."""

    short: tuple[ClockShortfall, ...] = ()
    throttled: bool = False


UNLIMITED = Limited()
RAN_THROUGH = (Verdict.HELD, Verdict.HELD_BACK)


@dataclass(frozen=True, slots=True)
class Trial:
    """What an attempt tried and ran: the setup, what the step changed, and its passes.

    `baseline` tells that it measured stock as it is, `home` what limited the machine at the settings it started from, `levels`
    whether figures have to be level over its rounds: those of a baseline measured in between tell what drifts.
    """

    setup: Setup
    changes: tuple[Change, ...]
    passes: tuple[PassRecord, ...]
    baseline: bool = False
    home: Limited = UNLIMITED
    levels: bool = True

    def governed(self, declaration: RigDeclaration) -> bool:
        """Tell whether stock was measured as it is, or the step changed a limit, a mode or the cooling."""
        return self.baseline or any(declaration.knob(c.knob).governs for c in self.changes)

    def asked_for(self, declaration: RigDeclaration, short: ClockShortfall) -> bool:
        """Tell whether a clock fell short because the step, or the rig by itself, asked for no more.

        Stock limits itself as it does; a step that changes a limit, a mode or the cooling asks for what comes of it; and a
        clock that already fell short at home, and of which no more was asked since, falls short by what was asked there.
        """
        before = any(h.channel == short.channel and short.asked <= h.asked for h in self.home.short)
        return before or self.governed(declaration)

    def throttles_as_before(self, declaration: RigDeclaration) -> bool:
        """Tell whether a machine that says it throttles did so at home, too, and no more clock or voltage is asked of it."""
        knobs = [(declaration.knob(c.knob), c) for c in self.changes]
        more = any((knob.proportional or knob.unit == "V") and c.new > c.old for knob, c in knobs)
        return self.home.throttled and not more


@dataclass(frozen=True, slots=True)
class Sag:
    """Scores that fall from pass to pass: the fall over all rounds as a fraction, and over how many passes."""

    fall: float
    passes: int


def failed(
    failure: Failure,
    reason: str,
    stage: str = "",
    after_s: float | None = None,
    code: str = "",
    seen: Mapping[str, str | float] | None = None,
) -> Outcome:
    """Make the outcome of a failure; its verdict follows from the failure."""
    return Outcome(VERDICT_OF_FAILURE[failure], reason, failure, stage, after_s, code, seen=dict(seen or {}))


def down_outcome(down: MachineDownError, when: str, stage: str, after_s: float | None) -> Outcome:
    """Make the outcome of a machine that went down, or of one that was heard no more and stayed up: then `code` says how."""
    failure, code = down.failure, down.code
    if failure is Failure.INTERRUPTED:
        return failed(failure, say("Interrupted {when}: {code}.", when=when, code=code), stage, after_s)
    shown = say(", code {code}", code=code) if code else ""
    words = say("{failure} {when}{shown}.", failure=capital(named(failure)), when=when, shown=shown)
    return failed(failure, words + kept_of_it(down.signs), stage, after_s, code)


def kept_of_it(signs: tuple[str, ...]) -> str:
    """Say what a machine kept of its crash, as a further sentence; nothing where it kept nothing."""
    return say(" It kept a record of the crash: {signs}.", signs=listed(signs, "; ")) if signs else ""


def pass_failed(declaration: RigDeclaration, record: PassRecord) -> Outcome:
    """Judge an attempt by the pass that failed in it."""
    result = record.result
    if result is None:
        raise ValueError(say("the pass has no result yet"))
    name = declaration.workload(record.workload).name
    failure = Failure(result.failure)
    when = (
        say("after {duration_s}", duration_s=duration(result.duration_s))
        if result.duration_s >= AT_ONCE_S
        else say("in the first moment")
    )
    what = capital(named(failure))
    reason = (
        say("{failure} {when} of {name}: {detail}.", failure=what, when=when, name=name, detail=clause(result.detail))
        if result.detail
        else say("{failure} {when} of {name}.", failure=what, when=when, name=name)
    )
    return failed(failure, reason, record.stage, result.duration_s)


def shortfalls(declaration: RigDeclaration, setup: Setup, passes: list[PassRecord]) -> list[ClockShortfall]:
    """List the clocks that weren't held over the passes of an attempt."""
    found = []
    meant = {**declaration.derived(setup), **setup}
    flags = [c for c in declaration.channels if c.quantity is Quantity.FLAG]
    for channel in declaration.channels:
        if channel.quantity is not Quantity.CLOCK or channel.follows not in meant:
            continue
        runs = [
            ClockShortfall(channel.id, channel.follows, asked, mean, record.workload, _limits(flags, channel, record))
            for record in passes
            if (mean := _mean(record, channel)) is not None
            and (asked := meant[channel.follows] - meant.get(declaration.workload(record.workload).clock_less, 0.0))
        ]
        worst = min(runs, default=None, key=lambda s: s.mean / s.asked)
        if worst is not None and worst.mean < worst.asked * CLOCK_HELD_SHARE:
            found.append(worst)
    return found


def limited(declaration: RigDeclaration, setup: Setup, passes: list[PassRecord]) -> Limited:
    """Give what limited a machine over some passes."""
    throttled = _throttled(declaration, passes) is not None
    return Limited(tuple(shortfalls(declaration, setup, passes)), throttled)


def limit_acted(declaration: RigDeclaration, setup: Setup, record: PassRecord) -> bool:
    """Tell whether a limit acted in a pass: a flag says so, a clock wasn't held, or the machine counted that it throttled."""
    flags = (_mean(record, c) or 0.0 for c in declaration.channels if c.quantity is Quantity.FLAG)
    if any(share >= FLAGGED_SHARE for share in flags):
        return True
    found = limited(declaration, setup, [record])
    return bool(found.short) or found.throttled


def limit_near(declaration: RigDeclaration, setup: Setup, record: PassRecord) -> bool:
    """Tell whether a pass in which no limit acted drew so much that one may yet act, once its window is full."""
    if record.result is None or limit_acted(declaration, setup, record):
        return False
    means, flags = record.result.measured.mean, (c for c in declaration.channels if c.quantity is Quantity.FLAG)
    return any(means.get(c.of, 0.0) >= NEAR_LIMIT * setup[c.follows] for c in flags if c.follows in setup)


def limited_benchmarks(declaration: RigDeclaration, records: Iterable[StepRecord]) -> tuple[str, ...]:
    """Name the benchmarks in which a limit acted in a scored pass of some steps, in the rig's order."""
    found = {
        record.workload
        for step in records
        for attempt in step.attempts
        for record in attempt.passes
        if record.counts and limit_acted(declaration, step.step.setup, record)
    }
    return tuple(work.id for work in declaration.benchmarks if work.id in found)


def of_the_start(outcome: Outcome) -> Outcome:
    """Turn a failure of the settings a step starts from into what it says of the step: nothing, and what to do first."""
    if outcome.stage != COMPARED_STAGE or outcome.failure is None or outcome.failure in SAYS_NOTHING:
        return outcome
    reason = say(
        "The settings it starts from failed when they were measured again ({how}). Test those again first.",
        how=clause(outcome.reason),
    )
    return failed(Failure.START_FAILED, reason, outcome.stage, outcome.time_to_failure_s)


def started_at(check: Check, passes: Iterable[PassRecord]) -> tuple[float, ...]:
    """List what the channel that a check settles on read when each scored round began.

    The load after a settling may be one that only warms, or uses up what a limiter saved, before a benchmark counts.
    """
    settled: dict[tuple[str, int], float] = {}
    found: dict[tuple[str, int], float] = {}
    for each in passes:
        reading = each.result.measured.start.get(check.settle_channel) if each.result is not None else None
        place = each.stage, each.round
        if reading is not None:
            settled[place] = reading
        if each.counts and place in settled:
            found.setdefault(place, settled[place])
    return tuple(found.values())


def limited_at(declaration: RigDeclaration, record: StepRecord) -> Limited:
    """Give what limited the machine in the latest attempt of a step that ran through."""
    ran = next((a for a in reversed(record.attempts) if a.outcome and a.outcome.verdict in RAN_THROUGH), None)
    return limited(declaration, record.step.setup, list(ran.passes)) if ran is not None else UNLIMITED


def _limits(flags: list[Channel], clock: Channel, record: PassRecord) -> tuple[tuple[str, float], ...]:
    """Give the share of a pass that each limit on the clock's own subsystem was reached."""
    shares = ((f.as_limit, _mean(record, f)) for f in flags if f.subsystem is clock.subsystem)
    return tuple((name, share) for name, share in shares if share)


def judge(declaration: RigDeclaration, trial: Trial) -> Outcome:
    """Judge an attempt whose whole check ladder was run without a failure."""
    passes = list(trial.passes)
    ignored = _ignored(declaration, trial)
    if ignored is not None:
        return ignored
    short = shortfalls(declaration, trial.setup, passes)
    unasked = [each for each in short if not trial.asked_for(declaration, each)]
    if unasked:
        return _not_held(declaration, unasked)
    throttled = _throttled(declaration, passes) if not short else None
    if throttled is not None and not trial.governed(declaration) and not trial.throttles_as_before(declaration):
        return throttled
    errors = errors_by_channel(declaration, trial.passes)
    if errors:
        counted = counted_words(errors)
        return failed(
            Failure.ERRORS_CORRECTED,
            say("Ran through, but errors had to be corrected: {counted}.", counted=counted),
            seen={channel.id: n for channel, n in errors.items()},
        )
    trend = _trend(declaration, trial) if trial.levels else None
    if trend is not None:
        return trend
    ran = what_was_run(declaration, passes)
    if trial.baseline and not any(p.counts for p in passes):
        reason = say("Ran through, but no pass gave a figure that counts, so nothing can be compared: {ran}.", ran=ran)
        return Outcome(Verdict.UNPROVEN, reason)
    if short:
        reason = say(
            "Held, limited by {limits}: {what_was_run}; {clock}.",
            limits=limit_words(declaration, short),
            what_was_run=ran,
            clock=_short_words(declaration, min(short, key=lambda s: s.mean / s.asked)),
        )
        return Outcome(Verdict.HELD, reason)
    if throttled is not None:
        how = clause(throttled.reason)
        return Outcome(Verdict.HELD, say("Held, limited ({how}): {what_was_run}.", how=how, what_was_run=ran))
    return Outcome(Verdict.HELD, say("Held: {what_was_run}.", what_was_run=ran))


def _trend(declaration: RigDeclaration, trial: Trial) -> Outcome | None:
    """Say how scores moved over the rounds: falls of every test, rises of a baseline, with which everything is compared."""
    fallen = sag(declaration, trial.passes)
    if fallen is not None:
        reason = say(
            "Ran through, but scores fell by {fall} % over {passes} passes, often the last warning before a crash.",
            fall=number(100 * fallen.fall, 1),
            passes=fallen.passes,
        )
        return failed(Failure.SCORE_SAGGED, reason, SCORE_STAGE)
    risen = sag(declaration, trial.passes, rising=True) if trial.baseline else None
    if risen is None:
        return None
    reason = say(
        "Ran through, but scores rose by {rise} % over {passes} passes: steps after it would look better than they are.",
        rise=number(-100 * risen.fall, 1),
        passes=risen.passes,
    )
    return failed(Failure.SCORE_ROSE, reason, SCORE_STAGE)


def limit_words(declaration: RigDeclaration, short: list[ClockShortfall]) -> str:
    """Name the limits that were reached where clocks fell short; where no sensor tells, say that."""
    reached = {name for each in short for name, share in each.limits if share >= FLAGGED_SHARE}
    set_by = {c.as_limit: k.name for c in declaration.channels for k in declaration.knobs if k.id == c.follows}
    names = sorted(in_sentence(set_by.get(name, name)) for name in reached)
    return together(names) if names else say("what no sensor tells")


def _short_words(declaration: RigDeclaration, short: ClockShortfall) -> str:
    channel, load = declaration.channel(short.channel), declaration.workload(short.workload).name
    return say(
        "{channel} {held} of {asked} in {load}",
        channel=in_sentence(channel.name),
        held=number(short.mean, channel.digits),
        asked=quantity(short.asked, channel.unit, channel.digits),
        load=load,
    )


def _not_held(declaration: RigDeclaration, short: list[ClockShortfall]) -> Outcome:
    worst = min(short, key=lambda s: s.mean / s.asked)
    channel = declaration.channel(worst.channel)
    limits = [
        say("{limit} reached in {share} % of the time", limit=name, share=number(100 * share))
        for name, share in worst.limits
    ]
    load = declaration.workload(worst.workload).name
    held, asked = number(worst.mean, channel.digits), quantity(worst.asked, channel.unit, channel.digits)
    told = {"channel": channel.name, "held": held, "asked": asked, "load": load}
    reason = (
        say("{channel} not held: {held} of {asked} in {load}; {limits}.", **told, limits=listed(limits))
        if limits
        else say("{channel} not held: {held} of {asked} in {load}.", **told)
    )
    seen: dict[str, str | float] = {"channel": worst.channel, "held": worst.mean, "asked": worst.asked}
    return failed(Failure.CLOCK_NOT_HELD, reason, seen=seen)


def _throttled(declaration: RigDeclaration, passes: list[PassRecord]) -> Outcome | None:
    """A machine that says it throttled didn't hold its clock, whatever the clock's own sensor says."""
    for channel in declaration.channels:
        if channel.quantity is Quantity.COUNT:
            times = [
                (n, p) for p in passes if p.result is not None and (n := p.result.measured.counted.get(channel.id))
            ]
            if times:
                most, record = max(times, key=lambda pair: pair[0])
                load = declaration.workload(record.workload).name
                reason = say(
                    "{channel} {times} in {load}.", channel=channel.name, times=count(round(most), "time"), load=load
                )
                seen: dict[str, str | float] = {"channel": channel.id, "times": most}
                return failed(Failure.CLOCK_NOT_HELD, reason, record.stage, seen=seen)
    return None


def _ignored(declaration: RigDeclaration, trial: Trial) -> Outcome | None:
    """A value that reads back as set and is not in force: measured otherwise, or a limit that acts below it."""
    for record in trial.passes:
        for knob_id, asked in trial.setup.items():
            measured = record.result.measured.settings.get(knob_id) if record.result is not None else None
            if measured is not None and measured != asked:
                knob, load = declaration.knob(knob_id), declaration.workload(record.workload).name
                reason = say(
                    "{knob} {asked} was asked, {measured} was measured in {load}.",
                    knob=knob.name,
                    asked=knob.text(asked),
                    measured=knob.text(measured),
                    load=load,
                )
                return failed(Failure.NOT_IN_FORCE, reason, record.stage)
    for flag in declaration.channels:
        if flag.quantity is not Quantity.FLAG or flag.follows not in {c.knob for c in trial.changes}:
            continue
        knob, asked = declaration.knob(flag.follows), trial.setup[flag.follows]
        acting = [p for p in trial.passes if (_mean(p, flag) or 0.0) >= LIMIT_ACTS_SHARE]
        power = next((c for c in declaration.channels if c.id == flag.of), None)
        drawn = [m for p in acting if power is not None and (m := _mean(p, power)) is not None]
        if drawn and max(drawn) < asked * LIMIT_MET_SHARE:
            reason = say(
                "{knob} {asked} reads back, but the limit acts at {drawn}.",
                knob=knob.name,
                asked=knob.text(asked),
                drawn=knob.text(round(max(drawn))),
            )
            return failed(Failure.NOT_IN_FORCE, reason, acting[0].stage)
    return None


def counted_words(errors: Mapping[Channel, float]) -> str:
    """Write how many errors were corrected in which part."""
    told = [say("{n} in the {subsystem}", n=number(n), subsystem=channel.subsystem) for channel, n in errors.items()]
    return together(told)


def errors_by_channel(declaration: RigDeclaration, passes: tuple[PassRecord, ...]) -> dict[Channel, float]:
    """Add up the corrected errors of all passes, by the channel that counted them; channels without any are left out."""
    sums = {
        channel: sum(p.result.measured.errors.get(channel.id, 0.0) for p in passes if p.result is not None)
        for channel in declaration.channels
        if channel.quantity is Quantity.ERRORS
    }
    return {channel: total for channel, total in sums.items() if total > 0}


def sag(declaration: RigDeclaration, passes: tuple[PassRecord, ...], rising: bool = False) -> Sag | None:
    """Tell whether scores fell from pass to pass: one common slope of log score over the round, one-sided t.

    Each benchmark has its own level (analysis of covariance); falls under 1 % in all are not worth a word. With `rising` it
    tells whether they rose, and the fall is below 0.
    """
    rounds: dict[str, list[tuple[int, float]]] = {}
    for record in passes:
        if record.counts and record.result is not None and record.result.score:
            metric = declaration.workload(record.workload).metric
            sign = 1.0 if metric.direction is Direction.HIGHER else -1.0
            if metric.cap is None or record.result.score < metric.cap * AT_CAP_SHARE:
                rounds.setdefault(record.workload, []).append((record.round, sign * math.log(record.result.score)))
    x: list[float] = []
    y: list[float] = []
    for own in rounds.values():
        mean_x, mean_y = (sum(pair[i] for pair in own) / len(own) for i in (0, 1))
        x += [pair[0] - mean_x for pair in own]
        y += [pair[1] - mean_y for pair in own]
    free, spread_x = len(x) - len(rounds) - 1, sum(v * v for v in x)
    if free < FEWEST_FREE or not spread_x:
        return None
    slope = sum(a * b for a, b in zip(x, y, strict=True)) / spread_x
    left = sum((b - slope * a) ** 2 for a, b in zip(x, y, strict=True)) / free
    fall = 1.0 - math.exp(slope * (max(x) - min(x)))
    turn = -1.0 if rising else 1.0
    if turn * fall < SMALLEST_SAG or turn * slope > -t_quantile(free, SAG_SURE) * math.sqrt(left / spread_x):
        return None
    return Sag(fall, len(x))


def what_was_run(declaration: RigDeclaration, passes: list[PassRecord]) -> str:
    """Say what an attempt ran: 'Stable' is always stable for which load and how long."""
    scored = [p for p in passes if p.counts]
    benchmarks = {p.workload for p in scored}
    parts = []
    if scored:
        parts.append(
            say(
                "{score_passes} of {benchmarks}",
                score_passes=count(len(scored), "score pass", "score passes"),
                benchmarks=count(len(benchmarks), "benchmark"),
            )
        )
    loaded: dict[str, float] = {}
    for record in passes:
        if record.stage != SCORE_STAGE and record.result is not None and record.result.ok:
            loaded[record.workload] = loaded.get(record.workload, 0.0) + record.result.duration_s
    parts += [
        say("{seconds} of {workload}", seconds=duration(seconds), workload=declaration.workload(load).name)
        for load, seconds in loaded.items()
    ]
    disturbed = sum(1 for p in passes if p.disturbed)
    if disturbed:
        parts.append(
            say(
                "{disturbed_passes} left out",
                disturbed_passes=count(disturbed, "disturbed pass", "disturbed passes"),
            )
        )
    return listed(parts) if parts else say("nothing was run")


def _mean(record: PassRecord, channel: Channel) -> float | None:
    return record.result.measured.mean.get(channel.id) if record.result is not None else None
