"""What Tune says on cards and under 'Next step', in each of its states."""

from __future__ import annotations

from yondle.app.session import Session
from yondle.app.views.proposal import ProposalView, check_rows
from yondle.app.views.trail import step_title
from yondle.desktop.widgets.cards import CardAction, Cards
from yondle.desktop.widgets.next_step import NextWords
from yondle.model.errors import KnownError
from yondle.model.verdicts import Verdict


def next_words(session: Session, proposal: ProposalView | None, busy: bool) -> NextWords:
    """Say what comes next."""
    if busy:
        return NextWords("Working …", about="The rig is being brought to its settings.")
    if session.waiting is not None:
        return NextWords("Waiting for you", about="The values on the card above are entered by hand.")
    if session.baseline_step is None:
        about = "Every benchmark several times at stock: from their spread follows what difference can be seen at all."
        return NextWords("Measure stock first", about=about, rows=check_rows(session, session.check()))
    if proposal is None:
        about = "Move one marker on a ruler. One step changes one knob, so that its gain can be told."
        return NextWords("Propose a step", about=about)
    warning = "\n".join(proposal.warnings)
    return NextWords(proposal.title, proposal.change, proposal.about, proposal.chance_text, warning, proposal.rows)


def tell_resumed(cards: Cards, session: Session) -> None:
    """Say what was on trial when Yondle ended, what that means, and where the rig is now."""
    for resumed in session.resumed:
        step = resumed.step.step
        where = f"step {resumed.rests_at_step}" if resumed.rests_at_step is not None else "stock"
        read = "read back as set" if resumed.verified else "not confirmed by reading back"
        title = f"Step {step.number} was on trial: {step_title(session.declaration, step)}"
        text = f"{resumed.outcome.reason}\n\nThe rig is at {where}, {read}. Nothing was tried again by itself."
        _put(cards, f"resumed {step.number}", title, text, resumed.outcome.verdict)


def tell_verdict(cards: Cards, session: Session) -> int | None:
    """Say what came of the test that just ended; gives its step."""
    tested = [record for record in session.steps if record.attempts]
    if not tested:
        return None
    latest = max(tested, key=lambda record: record.attempts[-1].id)
    number, here, seen = latest.step.number, session.position, session.verified
    where = f"step {here.step.number}" if here else "stock"
    read = f", {seen.as_set} of {seen.of} settings read back as set" if seen else ""
    _put(cards, "verdict", f"Step {number}: {latest.verdict}", f"The rig is at {where}{read}.", latest.verdict)
    return number


def tell_trouble(cards: Cards, error: object) -> None:
    """Say what went wrong and what to do about it."""
    if isinstance(error, KnownError):
        _put(cards, "error", error.problem, error.remedy)
    else:
        text = f"{type(error).__name__}: {error}. The details are in the log; the rig was put back."
        _put(cards, "error", "A fault of the program", text)


def _put(cards: Cards, name: str, title: str, text: str, verdict: Verdict | None = None) -> None:
    cards.put(name, title, text, [CardAction("Understood", lambda: cards.take(name))], verdict)
