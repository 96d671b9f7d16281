"""What a stretch of unattended work came to, in a sentence or two: how many tests, how they ended, the best of them, how long."""

from __future__ import annotations

from collections import Counter

from yondle.analysis.margins import GainWord
from yondle.language.saying import named, say
from yondle.model.quantities import count, duration
from yondle.model.verdicts import Failure, Verdict
from yondle.views.shared.gains import benchmark_of, gain_of, gain_words
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import step_title


def latest_attempt(book: Snapshot) -> int:
    """Give the number of the latest test, 0 before the first; what comes after it is a stretch of work."""
    return max((a.id for r in book.steps for a in r.attempts), default=0)


def summary_words(book: Snapshot, since: int) -> str:
    """Sum up the tests after a certain one; empty without any."""
    made = [(r, a) for r in book.steps for a in r.attempts if a.id > since and a.outcome is not None]
    if not made:
        return ""
    tested = [(r, a) for r, a in made if a.tested]
    never = len(made) - len(tested)
    ends = Counter(a.outcome.word for _, a in tested if a.outcome is not None)
    told = ", ".join(f"{ends[word]} {named(word)}" for word in (*Verdict, Failure.ERRORS_CORRECTED) if ends[word])
    first = min(a.started_s for _, a in made)
    last = max(
        (p.started_s + (p.result.duration_s if p.result else 0.0) for _, a in made for p in a.all_passes), default=first
    )
    lasted, tests = duration(last - first), count(len(tested), "test")
    words = say("{tests} in {last}: {told}.", tests=tests, last=lasted, told=told) if tested else ""
    if never:
        words = say(
            "{words} {never} ended before anything was run.", words=words, never=count(never, "attempt")
        ).strip()
    benchmark = benchmark_of(book)
    gains = [
        (value, r) for r, a in made if a.outcome is not None and a.outcome.verdict is Verdict.HELD
        if (value := gain_of(book, r, benchmark)) is not None and value.word is GainWord.GAIN and value.sure
    ]  # fmt: skip
    if gains:
        best, record = max(gains, key=lambda pair: pair[0].fraction)
        title = step_title(book.declaration, record.step)
        words += say(
            " Most {benchmark} that held: step {number}, {title}, {gain}.",
            benchmark=benchmark.name,
            number=record.step.number,
            title=title,
            gain=gain_words(best),
        )
    return words
