"""What Tune offers toward a goal: the ways that are worth trying, the climb as it goes, and what it came to."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from yondle.app.plans.goals import WantGoal
from yondle.app.plans.plans import PlanEnd
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.goal_cards import ClimbCard, NextCard
from yondle.desktop.tune.nights import NightConsent
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.plan_runs import GOES_ON, Ended
from yondle.planning.goals.goal import Goal
from yondle.planning.plan_files import goal_text
from yondle.views.next.climb import ClimbReader, ClimbView, climb_view
from yondle.views.next.next import NextView, goal_of, next_view

if TYPE_CHECKING:
    from yondle.desktop.tune.plans import PlansPresenter

CARD, CLIMB = "next", "climb"
_TOLD_AFTER_MS = 200


class GoalPresenter(QObject):
    """Puts up the cards of a goal; climbs are run by `plans`, and `keep` offers to keep a step as a profile."""

    _worked_out = Signal(object, object, str)
    _moved = Signal(object)

    def __init__(
        self, desk: Desk, plans: PlansPresenter, keep: Callable[[int], None], propose: Callable[[str, float], None]
    ) -> None:
        super().__init__(desk.window)
        self._desk, self._plans, self._keep, self._propose = desk, plans, keep, propose
        self._latest: ClimbView | None = None
        self._asked: Goal | None = None
        self._reader = ClimbReader()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._work_out)
        self._worked_out.connect(self._show_ways)
        self._moved.connect(self._show_climb)
        desk.bridge.busy_changed.connect(self._set_free)

    def ask(self) -> None:
        """Show what is worth trying next."""
        desk = self._desk
        try:
            goal = goal_of(desk.now)
        except KnownError as error:
            desk.tell(error)
            return
        card = NextCard(desk.theme, desk.now.declaration, goal, lambda: desk.cards.take(CARD))
        card.changed.connect(self._ask_to_work_out)
        card.proposed.connect(self._propose)
        card.climbs.connect(self._climb)
        self._comes_back = NightConsent(desk, card, card.climb)
        desk.cards.put_card(CARD, card)
        card.form.kind.setFocus()
        self._work_out()

    def renew(self) -> None:
        """Work the ways out anew, where they are shown: a test has ended."""
        if isinstance(self._desk.cards.get(CARD), NextCard):
            self._work_out()

    def _ask_to_work_out(self) -> None:
        card = self._desk.cards.get(CARD)
        if isinstance(card, NextCard):
            card.wait()
            self._timer.start(_TOLD_AFTER_MS)

    def _work_out(self) -> None:
        card = self._desk.cards.get(CARD)
        if not isinstance(card, NextCard):
            return
        book, goal = self._desk.now, card.goal()
        self._asked = goal
        if card.form.nothing_to_touch:
            card.tell(say("No knob is ticked: tick what it may touch."))
            return

        def look() -> None:
            try:
                self._worked_out.emit(goal, next_view(book, goal), "")
            except KnownError as error:
                self._worked_out.emit(goal, None, f"{error.problem} {error.remedy}")

        self._desk.bridge.prepare(look)

    def _show_ways(self, goal: Goal, view: NextView | None, trouble: str) -> None:
        card = self._desk.cards.get(CARD)
        if not isinstance(card, NextCard) or self._asked != goal:
            return
        if view is None:
            card.tell(trouble)
        else:
            card.show_ways(view, self._free)

    @property
    def _free(self) -> bool:
        return not self._desk.bridge.busy and self._desk.now.waiting is None

    def _set_free(self, _: bool) -> None:
        card = self._desk.cards.get(CARD)
        if isinstance(card, NextCard):
            card.set_free(self._free)

    def _climb(self) -> None:
        card = self._desk.cards.get(CARD)
        if not isinstance(card, NextCard):
            return
        goal, comes_back = card.goal(), self._comes_back.given

        def begin(_: object) -> None:
            self._desk.cards.take(CARD)
            text = goal_text(self._desk.now.declaration, goal)
            self._plans.begin(text, say("the climb"), self._plans.after_move, comes_back)

        self._desk.ask(WantGoal(goal), begin)

    # -- a climb under way --------------------------------------------------------------------------------------------

    def after_move(self) -> None:
        """Rebuild the picture of the climb; called in a thread of its own after every move of a plan."""
        run = self._desk.now.reader.open_plan_run()
        view = self._reader.read(self._desk.now, run) if run is not None else None
        if view is not None:
            self._moved.emit(view)

    def _show_climb(self, view: ClimbView) -> None:
        self._latest = view
        self._desk.cards.take("plan")
        pause = CardAction(say("Pause after this test"), self._plans.pause)
        title = say("Climbing: {goal}", goal=view.name)
        note = say("Esc stops it and puts the rig back.")
        self._desk.cards.put_card(CLIMB, ClimbCard(self._desk.theme, title, view, note, [pause]))

    def show_unfinished(self, key: str, text: str, actions: list[CardAction]) -> Card | None:
        """Show how far a climb had come that was left unfinished; None where the plan is none."""
        run = self._desk.now.reader.open_plan_run()
        view = climb_view(self._desk.now, run) if run is not None else None
        if view is None:
            return None
        self._desk.cards.take(CLIMB)
        title = say("A climb is not finished: {goal}", goal=view.name)
        return self._desk.cards.put_card(key, ClimbCard(self._desk.theme, title, view, text, actions))

    def ended(self, end: PlanEnd) -> bool:
        """Show what a climb came to; False where the plan that ended was none."""
        view, self._latest = self._latest, None
        self._desk.cards.take(CLIMB)
        if view is None or end.ended in GOES_ON:
            return False
        actions = [CardAction(say("Understood"), lambda: self._desk.cards.take(CLIMB), "main")]
        position = self._desk.now.position if end.ended is Ended.DONE else None
        if position is not None and view.setup:
            number = position.step.number
            actions.append(CardAction(say("Keep it as a profile …"), lambda: self._keep(number)))
        title = say("The climb is {ended}: {goal}", ended=end.ended, goal=view.name)
        self._desk.cards.put_card(
            CLIMB, ClimbCard(self._desk.theme, title, view, say("Done: {reason}.", reason=end.reason), actions)
        )
        return True
