"""What a stretch of unattended work came to, in a sentence or two: how many tests, how they ended, the best of them, how long."""

from __future__ import annotations

from collections import Counter

from yondle.analysis.margins import GainWord
from yondle.app.session import Session
from yondle.app.views.gains import benchmark_of, gain_of, gain_words
from yondle.app.views.trail import step_title
from yondle.language.saying import named, say
from yondle.model.quantities import count, duration
from yondle.model.verdicts import Verdict


def latest_attempt(session: Session) -> int:
    """Give the number of the latest test, 0 before the first; what comes after it is a stretch of work."""
    return max((a.id for r in session.steps for a in r.attempts), default=0)


def summary_words(session: Session, since: int) -> str:
    """Sum up the tests after a certain one; empty without any."""
    made = [(r, a) for r in session.steps for a in r.attempts if a.id > since and a.outcome is not None]
    if not made:
        return ""
    ends = Counter(a.outcome.verdict for _, a in made if a.outcome is not None)
    told = ", ".join(f"{ends[verdict]} {named(verdict)}" for verdict in Verdict if ends[verdict])
    first = min(a.started_s for _, a in made)
    last = max(
        (p.started_s + (p.result.duration_s if p.result else 0.0) for _, a in made for p in a.passes), default=first
    )
    words = say("{tests} in {last}: {told}.", tests=count(len(made), "test"), last=duration(last - first), told=told)
    benchmark = benchmark_of(session)
    gains = [
        (value, r) for r, a in made if a.outcome is not None and a.outcome.verdict is Verdict.HELD
        if (value := gain_of(session, r, benchmark)) is not None and value.word is GainWord.GAIN
    ]  # fmt: skip
    if gains:
        best, record = max(gains, key=lambda pair: pair[0].fraction)
        title = step_title(session.declaration, record.step)
        words += say(
            " Most {benchmark} that held: step {number}, {title}, {gain}.",
            benchmark=benchmark.name,
            number=record.step.number,
            title=title,
            gain=gain_words(best),
        )
    return words
