"""What Tune offers to find an edge: the question, the search as it narrows, and what it recommends in the end."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from yondle.app.plans.plans import PlanEnd, preview
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.edge_cards import EdgeCard, SearchCard
from yondle.desktop.tune.nights import NightConsent
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Risk
from yondle.model.plan_runs import GOES_ON, Ended
from yondle.planning.ladder import usual_passes
from yondle.planning.plan_files import edge_text, parse_plan
from yondle.views.edge.edge import EdgeView, edge_view
from yondle.views.tune.proposal import typical_words

if TYPE_CHECKING:
    from yondle.desktop.tune.plans import PlansPresenter

CARD, QUESTION = "edge", "edge question"
_TOLD_AFTER_MS = 250
"""What a search would take is worked out once the tuner has stopped turning."""


class EdgePresenter(QObject):
    """Puts up the cards of a search, which `plans` runs; `keep` offers to keep a step as the profile for a load."""

    _moved = Signal(object)
    _told = Signal(str, str, bool)

    def __init__(self, desk: Desk, plans: PlansPresenter, keep: Callable[[int, str], None]) -> None:
        super().__init__(desk.window)
        self._desk = desk
        self._cards = desk.cards
        self._plans = plans
        self._keep = keep
        self._latest: EdgeView | None = None
        self._question: EdgeCard | None = None
        self._asked = ""
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._work_out)
        self._told.connect(self._tell)
        self._moved.connect(self._show)

    def ask(self, knob: Knob | None) -> None:
        """Ask what to search on the knob in play; one without a risky end has no edge, which is said."""
        if knob is None:
            return
        if knob.risk is Risk.NONE:
            understood = CardAction(say("Understood"), lambda: self._cards.take(QUESTION))
            text = say("{knob} is never harder to hold at one end than at the other.", knob=knob.name)
            risky = [k.name for k in self._desk.now.declaration.knobs if k.risk is not Risk.NONE]
            text += say(" Choose one of these: {risky}.", risky=", ".join(risky)) if risky else ""
            self._cards.put(QUESTION, say("No edge to find"), text, [understood])
            return
        declaration = self._desk.now.declaration
        low, high = declaration.own_range(knob)
        works = sorted(declaration.workloads, key=lambda w: w.id != declaration.hard_load)
        loads = [(w.id, w.name) for w in works if not w.by_hand]
        limit = high if knob.risk is Risk.UP else low
        others = [(k, declaration.own_range(k)) for k in declaration.knobs if k.risk is not Risk.NONE and k is not knob]
        others.sort(key=lambda pair: pair[0].subsystem is not knob.subsystem)
        card = EdgeCard(self._desk.theme, knob, limit, loads, others, lambda: self._cards.take(QUESTION))
        card.changed.connect(self._ask_to_tell)
        card.wanted.connect(self._start)
        self._comes_back = NightConsent(self._desk, card, card.run_button)
        self._question = card
        self._cards.put_card(QUESTION, card)
        card.load.setFocus()
        self._ask_to_tell()

    def ended(self, end: PlanEnd) -> bool:
        """Show what a search came to; False where the plan that ended was none."""
        view, self._latest = self._latest, None
        self._cards.take(CARD)
        if view is None or end.ended in GOES_ON:
            return False
        actions = [CardAction(say("Understood"), lambda: self._cards.take(CARD), "main")]
        position = self._desk.now.position if end.ended is Ended.DONE and view.along is None else None
        if position is not None and position.step.setup[view.knob.id] == view.recommended:
            number, load = position.step.number, view.load
            actions.append(CardAction(say("Keep it as a profile …"), lambda: self._keep(number, load)))
        title = view.title if end.ended is Ended.DONE else say("The search is {ended}", ended=end.ended)
        self._cards.put_card(CARD, SearchCard(self._desk.theme, title, view, view.proof, actions))
        return True

    def show_unfinished(self, key: str, text: str, actions: list[CardAction]) -> Card | None:
        """Show how far a search had come that was left unfinished; None where the plan searches nothing (yet)."""
        run = self._desk.now.reader.open_plan_run()
        try:
            view = edge_view(self._desk.now, run) if run is not None else None
        except KnownError:
            return None
        if view is None:
            return None
        self._cards.take(CARD)
        return self._cards.put_card(
            key, SearchCard(self._desk.theme, say("A search is not finished"), view, f"{text} {view.coming}", actions)
        )

    def after_move(self, *_: object) -> None:
        """Rebuild the picture of the search; called in a thread of its own after every move of a plan."""
        run = self._desk.now.reader.open_plan_run()
        view = edge_view(self._desk.now, run) if run is not None else None
        if view is not None:
            self._moved.emit(view)

    def _ask_to_tell(self) -> None:
        if self._question is not None:
            self._asked = ""
            self._question.tell(say("Working out what it would take …"), False)
            self._timer.start(_TOLD_AFTER_MS)

    def _work_out(self) -> None:
        """Play the search on a middling machine, in a thread of its own: it takes most of a second."""
        card = self._question
        if card is None or self._cards.get(QUESTION) is not card:
            return
        measured = self._desk.now.baseline_step is not None
        try:
            text = self._text(card)
        except KnownError as error:
            card.tell(f"{error.problem} {error.remedy}", False)
            return

        self._asked = text

        book = self._desk.now

        def play() -> None:
            try:
                seen = preview(book, parse_plan(text, say("the search"), book.declaration))
            except KnownError as error:
                self._told.emit(text, f"{error.problem} {error.remedy}", False)
            else:
                words = typical_words(seen) if measured else say("Run the baseline first: a search starts from it.")
                self._told.emit(text, words, measured)

        self._desk.bridge.prepare(play)

    def _tell(self, text: str, words: str, can_run: bool) -> None:
        """Show what was worked out, unless the question has changed since."""
        card = self._question
        if card is not None and self._cards.get(QUESTION) is card and self._asked == text:
            card.tell(words, can_run)

    def _start(self) -> None:
        if self._question is not None:
            comes_back = self._comes_back.given
            self._cards.take(QUESTION)
            self._question = None
            self._plans.begin(self._asked, say("the search"), self.after_move, comes_back)

    def _text(self, card: EdgeCard) -> str:
        return edge_text(
            self._desk.now.declaration, card.part(), usual_passes(self._desk.now.declaration.knob(card.part().knob))
        )

    def _show(self, view: EdgeView) -> None:
        self._latest = view
        self._cards.take("plan")
        pause = CardAction(say("Pause after this test"), self._plans.pause)
        coming = view.coming or say("Next: the recommended setting gets its whole check.")
        self._cards.put_card(CARD, SearchCard(self._desk.theme, view.searching, view, coming, [pause]))
