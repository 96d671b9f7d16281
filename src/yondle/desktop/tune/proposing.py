"""Proposing from the rulers: a value that can't be, or would be a second change, is asked about where it was dragged."""

from __future__ import annotations

from collections.abc import Callable

from yondle.app.session.proposing import DropProposal, Propose
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.cards import CardAction
from yondle.desktop.tune.rulers import Rulers
from yondle.language.saying import say
from yondle.model.errors import KnownError


class Proposer:
    """Puts what is dragged or typed on a ruler into the proposal; `test` runs what is proposed already."""

    def __init__(
        self, book: OpenBook, rulers: Rulers, test: Callable[[], None], proposed: Callable[[str], None]
    ) -> None:
        self._book = book
        self._rulers = rulers
        self._test = test
        self._proposed = proposed
        self._second: tuple[str, float] | None = None

    @property
    def asks_about_joint(self) -> bool:
        """Tell whether a second change waits for an answer."""
        return self._second is not None

    def propose(self, knob_id: str, value: float) -> None:
        """Propose a value; what stands against it is asked under its ruler."""
        self.forget()
        try:
            self._book.do(Propose(knob_id, value))
        except KnownError as error:
            self._ask_about(knob_id, value, error)
        else:
            self._proposed(knob_id)

    def make_joint(self) -> None:
        """Take the second change into the proposal too: the step becomes a joint one."""
        if self._second is not None:
            knob_id, value = self._second
            self.forget()
            self._book.do(Propose(knob_id, value, joint=True))
            self._proposed(knob_id)

    def replace(self) -> None:
        """Drop what was proposed first and propose the second change in its place."""
        if self._second is not None:
            knob_id, value = self._second
            self._book.do(DropProposal())
            self.propose(knob_id, value)

    def forget(self) -> None:
        """Take an open question away."""
        self._rulers.drop_question()
        self._second = None

    def _ask_about(self, knob_id: str, value: float, error: KnownError) -> None:
        proposal = self._book.now.proposal
        if proposal is None or proposal.value(knob_id) is not None:
            self._rulers.ask(knob_id, error.problem, error.remedy, [])
            return
        self._second = (knob_id, value)
        self._rulers.ask(
            knob_id,
            error.problem,
            error.remedy,
            [
                CardAction(say("Test the first one now  ⏎"), self._test, "main"),
                CardAction(say("Drop it and propose this one"), self.replace),
                CardAction(say("Make it a joint step  J"), self.make_joint),
            ],
        )
