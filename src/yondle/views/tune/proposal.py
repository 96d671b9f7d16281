"""The proposal in words, with what its check will do and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from yondle.analysis.judging import RAN_THROUGH
from yondle.language.saying import say, together
from yondle.model.knobs import Risk, When
from yondle.model.quantities import THIN, count, duration, figure, number, quantity
from yondle.model.steps import Check, StageKind, StepKind
from yondle.planning.ladder import check_seconds
from yondle.views.shared.snapshot import Snapshot
from yondle.views.tune.rulers import Holding

if TYPE_CHECKING:
    from yondle.planning.plans import DryRun

LOOKED_BACK = 30
"""So many steps are looked at for how long a check takes; the night warms up, so older ones mislead."""

NEARLY_SURE = 0.99
"""A chance is never told as certainty."""

STALE_TESTS = 8
"""After so many tests without it the baseline is worth its time again, though that takes a restart."""
NEAR_NOTCHES, NEAR_SHARE = 2, 0.94
"""So near to a limit is worth a word: notches of a knob, and the share of a sensor's limit that was reached."""


@dataclass(frozen=True, slots=True)
class ProposalView:
    """The proposal in words, with what its check does."""

    title: str
    change: str
    about: str
    chance_text: str
    rows: tuple[tuple[str, str], ...]
    warnings: tuple[str, ...] = ()


def proposal_view(book: Snapshot, check: Check, held: Holding | None) -> ProposalView | None:
    """Put the proposal into words, with how its knob would hold; None when nothing is proposed."""
    proposal = book.proposal
    if proposal is None:
        return None
    declaration = book.declaration
    named = [(declaration.knob(c.knob), c) for c in proposal.changes]
    title = together(knob.name for knob, _ in named)
    change = "\n".join(f"{knob.bare(c.old)} → {knob.text(c.new)}" for knob, c in named)
    here = book.position
    about = say("All else as in step {number}.", number=here.step.number) if here else say("All else at stock.")
    if proposal.joint:
        about += say(" A joint step: no gain is credited to either knob alone.")
    how = _how_it_is_set(book)
    chance_text = _chance_words(book, held)
    return ProposalView(title, change, f"{about}{how}", chance_text, check_rows(book, check), _warnings(book))


def check_rows(book: Snapshot, check: Check) -> tuple[tuple[str, str], ...]:
    """Say in rows what a check will do."""
    declaration = book.declaration
    rows = [
        (
            say("Check"),
            say("about {expected_seconds}", expected_seconds=duration(round(expected_seconds(book, check), -1))),
        )
    ]
    due = book.bracket_due(check)
    if due is not None:
        baseline = due.record.step.kind is StepKind.BASELINE
        step = say("step {number}, due again", number=due.record.step.number)
        rows.append((say("Before"), say("baseline, due again") if baseline else step))
    for stage in check.stages:
        if stage.kind is StageKind.SCORE:
            rows.append(
                (
                    say("Passes"),
                    say(
                        "{rounds} + {warm_up_rounds} warm-up", rounds=stage.rounds, warm_up_rounds=stage.warm_up_rounds
                    ),
                )
            )
            rows.append((say("Benchmarks"), str(len(stage.workloads))))
            if check.alternates and book.position is not None:
                rows.append((say("In turns"), say("A B B A with step {number}", number=book.position.step.number)))
        else:
            name = declaration.workload(stage.workloads[0]).name
            rows.append((say("Then"), dry_load(name, stage.pass_s or 0.0)))
    if check.settle_channel and check.settle_below is not None:
        channel = declaration.channel(check.settle_channel)
        below = quantity(check.settle_below, channel.unit)
        if check.settle_above is None:
            rows.append((say("Start below"), below))
        else:
            rows.append(
                (
                    say("Start at"),
                    say("{above} to {below}", above=figure(check.settle_above, channel.unit), below=below),
                )
            )
    limits = []
    for limit in declaration.limits:
        channel = declaration.channel(limit.channel)
        if channel.nature.limited:
            limits.append(quantity(limit.most, channel.unit, min(channel.nature.digits, 2)))
    if limits:
        rows.append((say("Stop at"), " · ".join(limits)))
    return tuple(rows)


def dry_load(name: str, seconds: float) -> str:
    """Say how long a load is run."""
    return say("{pass_s} of {name}", pass_s=duration(seconds), name=name)


def dry_words(seen: DryRun) -> str:
    """Write a dry run in one sentence."""
    words = say(
        "{tests}, about {seconds} if every step holds", tests=count(seen.tests, "test"), seconds=duration(seen.seconds)
    )
    if seen.restarts:
        words += f", {count(seen.restarts, 'restart')}"
    if seen.entries:
        words += say(", {times} with values entered by hand", times=count(seen.entries, "time", "times"))
    return words + (say("; it waits for you there.") if seen.waits_for_hands else ".")


def typical_words(seen: DryRun) -> str:
    """Write the dry run of a search in one sentence: how it goes depends on what fails."""
    words = say(
        "On an average machine {tests} in about {seconds}",
        tests=count(seen.tests, "test"),
        seconds=duration(round(seen.seconds, -2)),
    )
    restarts = say(", {restarts} to set values", restarts=count(seen.restarts, "restart")) if seen.restarts else ""
    return say(
        "{words}{restarts}; some of them crash it, each time it goes back to where it is now.",
        words=words,
        restarts=restarts,
    )


def expected_seconds(book: Snapshot, check: Check) -> float:
    """Estimate how long a check takes: as long as the latest one like it that ran through, else its load."""
    due = book.bracket_due(check)
    if due is None:
        return _expected_alone(book, check)
    away = bool(book.declaration.differing(book.in_force, due.record.step.setup, When.RESTART))
    return _expected_alone(book, check) + _expected_alone(book, due.check) + 2 * away * book.declaration.restart_s


def _expected_alone(book: Snapshot, check: Check) -> float:
    alone = check_seconds(check, book.declaration)
    for record in reversed(book.steps[-LOOKED_BACK:]):
        for attempt in reversed(record.attempts):
            asked, last = attempt.check, attempt.all_passes[-1] if attempt.passes else None
            if asked is None or (asked.stages, asked.preload, asked.probe, asked.alternates) != (
                check.stages,
                check.preload,
                check.probe,
                check.alternates,
            ):
                continue
            ran_through = attempt.outcome is not None and attempt.outcome.verdict in RAN_THROUGH
            if ran_through and last is not None and last.result is not None:
                return last.started_s + last.result.duration_s - attempt.started_s
    return alone


def _how_it_is_set(book: Snapshot) -> str:
    knobs = [book.declaration.knob(c.knob) for c in book.proposal.changes] if book.proposal else []
    if any(knob.when is When.BY_HAND for knob in knobs):
        return say(" Entered by hand in firmware setup, with a restart.")
    if any(knob.when is When.AT_HAND for knob in knobs):
        return say(" Set by hand, in force at once.")
    if any(knob.when is When.RESTART for knob in knobs):
        return say(" In force after a restart.")
    return ""


def _warnings(book: Snapshot) -> tuple[str, ...]:
    """Say how near the proposal comes to the tuner's own limits, and how near the latest test came to the sensors'."""
    declaration, found = book.declaration, []
    for change in book.proposal.changes if book.proposal else ():
        knob = declaration.knob(change.knob)
        low, high = declaration.own_range(knob)
        for limit, own in ((high, knob.id in declaration.ceilings), (low, knob.id in declaration.floors)):
            notches = round(abs(limit - change.new) / knob.step)
            if own and notches <= NEAR_NOTCHES and abs(change.old - limit) > abs(change.new - limit):
                away = count(notches, "notch", "notches") + say(" from") if notches else say("At")
                found.append(say("{away} your own limit of {limit}.", away=away, limit=knob.text(limit)))
    if book.proposal and book.since_baseline >= STALE_TESTS:
        found.append(
            say(
                "The baseline was last measured {tests} ago: what has drifted since widens every margin.",
                tests=count(book.since_baseline, "test"),
            )
        )
    tested = max((a for r in book.steps for a in r.attempts), key=lambda a: a.id, default=None)
    measured = [p.result.measured for p in tested.passes if p.result is not None] if tested else []
    for guarded in declaration.limits:
        channel = declaration.channel(guarded.channel)
        seen = [m.most[channel.id] for m in measured if channel.id in m.most]
        if seen and max(seen) >= NEAR_SHARE * guarded.most:
            reached, most = quantity(max(seen), channel.unit), quantity(guarded.most, channel.unit)
            found.append(
                say(
                    "{channel} reached {reached} in the latest test; its limit is {most}.",
                    channel=channel.name,
                    reached=reached,
                    most=most,
                )
            )
    return tuple(found)


def _chance_words(book: Snapshot, held: Holding | None) -> str:
    proposal = book.proposal
    if proposal is None or len(proposal.changes) != 1:
        return say("Chance to hold: not told for a joint step.")
    change = proposal.changes[0]
    if book.declaration.knob(change.knob).risk is Risk.NONE:
        return ""
    chance = held.chances.get(change.new) if held is not None else None
    if chance is None:
        return say("Chance to hold: not known, since nothing has failed yet with these other settings.")
    shown = f"{number(100 * chance)}{THIN}%"
    if chance > NEARLY_SURE:
        shown = say("over {nearly_sure}\u202f%", nearly_sure=number(100 * NEARLY_SURE))
    elif chance < 1 - NEARLY_SURE:
        shown = say("under {nearly_sure}\u202f%", nearly_sure=number(100 - 100 * NEARLY_SURE))
    return say("Chance to hold, estimated from what has been seen: {shown}", shown=shown)
