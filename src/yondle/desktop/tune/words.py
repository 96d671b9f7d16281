"""What Tune says on cards and under 'Next step', in each of its states."""

from __future__ import annotations

from collections.abc import Callable

from yondle.desktop.look.cards import CardAction, Cards
from yondle.desktop.tune.next_step import NextWords
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.standing import Verified
from yondle.model.verdicts import Verdict
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import step_title
from yondle.views.tune.proposal import ProposalView, check_rows


def next_words(book: Snapshot, proposal: ProposalView | None, busy: bool, elsewhere: bool = False) -> NextWords:
    """Say what comes next; on a machine elsewhere steps are recorded, not tested."""
    if elsewhere and not busy:
        return _next_elsewhere(book, proposal)
    if busy:
        return NextWords(say("Working …"), about=say("The rig is being brought to its settings."))
    if book.waiting is not None:
        return NextWords(say("Waiting for you"), about=say("The values on the card above are set by hand."))
    if book.baseline_step is None:
        about = say(
            "Every benchmark several times at stock: from their spread follows what difference can be seen at all."
        )
        return NextWords(say("Measure stock first"), about=about, rows=check_rows(book, book.check()))
    if proposal is None:
        about = say("Move one marker on a ruler. One step changes one knob, so that its gain can be told.")
        return NextWords(say("Propose a step"), about=about)
    warning = "\n".join(proposal.warnings)
    return NextWords(proposal.title, proposal.change, proposal.about, proposal.chance_text, warning, proposal.rows)


def _next_elsewhere(book: Snapshot, proposal: ProposalView | None) -> NextWords:
    if proposal is not None:
        return NextWords(
            proposal.title, proposal.change, say("Yondle tests nothing there: you tell how it went, and the figures.")
        )
    if book.baseline_step is None:
        about = say(
            "A whole table at once: Ctrl+I, Ctrl+Shift+V from the clipboard, or drop it here. Or record stock by hand."
        )
        return NextWords(say("Bring in a table"), about=about)
    return NextWords(
        say("Propose a step"),
        about=say("Move a marker on a ruler and record it, or type figures of the selected step (F)."),
    )


def tell_resumed(cards: Cards, book: Snapshot) -> None:
    """Say what was on trial when Yondle ended, what that means, and where the rig is now."""
    for resumed in book.resumed:
        step = resumed.step.step
        where = (
            say("step {rests_at_step}", rests_at_step=resumed.rests_at_step)
            if resumed.rests_at_step is not None
            else say("stock")
        )
        read = say("read back as set") if resumed.verified else say("not confirmed by reading back")
        title = say(
            "Step {number} was on trial: {step_title}",
            number=step.number,
            step_title=step_title(book.declaration, step),
        )
        text = say(
            "{reason}\n\nThe rig is at {where}, {read}. Nothing was tried again by itself.",
            reason=resumed.outcome.reason,
            where=where,
            read=read,
        )
        _put(cards, f"resumed {step.number}", title, text, resumed.outcome.verdict)
    for i, notice in enumerate(book.notices):
        _put(cards, f"notice {i}", say("This machine isn't as it was"), notice)


def tell_away(cards: Cards, words: str, reopen: Callable[[], None]) -> None:
    """Say that the machine across the room can't be reached, and offer to try again."""
    actions = [
        CardAction(say("Connect again"), reopen, "main"),
        CardAction(say("Understood"), lambda: cards.take("away")),
    ]
    text = say("{words}\n\nWhat was measured can be read meanwhile.", words=words)
    cards.put("away", say("The machine is away"), text, actions)


def tell_verdict(cards: Cards, book: Snapshot) -> int | None:
    """Say what came of the test that just ended; gives its step."""
    tested = [record for record in book.steps if record.attempts]
    if not tested:
        return None
    latest = max(tested, key=lambda record: record.attempts[-1].id)
    number, here, seen = latest.step.number, book.position, book.verified
    where = say("step {number}", number=here.step.number) if here else say("stock")
    read = f", {settings_read(seen)}" if seen else ""
    _put(
        cards,
        "verdict",
        say("Step {number}: {verdict}", number=number, verdict=latest.word),
        say("The rig is at {where}{read}.", where=where, read=read),
        latest.verdict,
    )
    return number


def tell_trouble(cards: Cards, error: object) -> None:
    """Say what went wrong and what to do about it."""
    if isinstance(error, KnownError):
        _put(cards, "error", error.problem, error.remedy)
    else:
        text = say(
            "{name}: {error}. The details are in the log; the rig was put back.", name=type(error).__name__, error=error
        )
        _put(cards, "error", say("A fault of the program"), text)


def settings_read(seen: Verified) -> str:
    """Say how many settings read back as set, and how many no machine tells."""
    if seen.told:
        return say(
            "{as_set} of {of} settings read back as set, {told} as entered",
            as_set=seen.as_set,
            of=seen.of,
            told=seen.told,
        )
    return say("{as_set} of {of} settings read back as set", as_set=seen.as_set, of=seen.of)


def _put(cards: Cards, name: str, title: str, text: str, verdict: Verdict | None = None) -> None:
    cards.put(name, title, text, [CardAction(say("Understood"), lambda: cards.take(name))], verdict)
