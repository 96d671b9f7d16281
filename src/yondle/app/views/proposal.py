"""The proposal in words, with what its check will do and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.session import Session
from yondle.app.views.rulers import Chances
from yondle.model.knobs import Risk
from yondle.model.quantities import THIN, duration, number, quantity
from yondle.model.sensors import Quantity
from yondle.model.steps import Check, StageKind
from yondle.planning.ladder import check_seconds

LOOKED_BACK = 30
"""So many steps are looked at for how long a check takes; the night warms up, so older ones mislead."""

NEARLY_SURE = 0.99
"""A chance is never told as certainty."""

SHOWN_LIMITS = (Quantity.TEMPERATURE, Quantity.POWER, Quantity.VOLTAGE)


@dataclass(frozen=True, slots=True)
class ProposalView:
    """The proposal in words, with what its check does."""

    title: str
    change: str
    about: str
    chance_text: str
    rows: tuple[tuple[str, str], ...]


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
    chance_text = _chance_words(session, chances)
    return ProposalView(title, change, about, chance_text, check_rows(session, check))


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
        if channel.quantity in SHOWN_LIMITS:
            limits.append(quantity(limit.most, channel.unit, 2 if channel.quantity is Quantity.VOLTAGE else 0))
    if limits:
        rows.append(("Stop at", " · ".join(limits)))
    return tuple(rows)


def load_seconds(check: Check) -> float:
    """Give how long a check's hard load runs, or a minute where it has none."""
    return sum(s.pass_s or 0.0 for s in check.stages if s.kind is StageKind.LOAD) or 60.0


def expected_seconds(session: Session, check: Check) -> float:
    """Estimate how long a check takes: as long as the latest one that ran through with as many passes, else its load."""
    alone = check_seconds(check, session.declaration)
    for record in reversed(session.steps[-LOOKED_BACK:]):
        for attempt in reversed(record.attempts):
            done = [p for p in attempt.passes if p.result is not None]
            loaded = sum(p.result.duration_s for p in done if p.result is not None)
            if done and abs(loaded - alone) < 0.02 * alone and done[-1].result is not None:
                return done[-1].started_s + done[-1].result.duration_s - attempt.started_s
    return alone


def _chance_words(session: Session, chances: Chances | None) -> str:
    proposal = session.proposal
    if proposal is None or len(proposal.changes) != 1:
        return "Chance to hold: not told for a joint step."
    change = proposal.changes[0]
    if session.declaration.knob(change.knob).risk is Risk.NONE:
        return ""
    chance = chances.get(change.new) if chances is not None else None
    if chance is None:
        return "Chance to hold: not known, since nothing has failed yet with these other settings."
    shown = f"{number(100 * chance)}{THIN}%"
    if chance > NEARLY_SURE:
        shown = f"over {number(100 * NEARLY_SURE)}{THIN}%"
    elif chance < 1 - NEARLY_SURE:
        shown = f"under {number(100 - 100 * NEARLY_SURE)}{THIN}%"
    return f"Chance to hold, estimated from what has been seen: {shown}"
