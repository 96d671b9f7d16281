"""The cards of plans: a sweep of the knob in play, a plan file, the plan under way and the one left unfinished."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog

from yondle.app.plans.nights import Bounds
from yondle.app.plans.plans import AfterMove, EndPlan, GoOnWithPlan, PlanEnd, StartPlan, preview, told_by_steps
from yondle.desktop.look.basics import Choice, Number, Whole, button, label
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.edge import EdgePresenter
from yondle.desktop.tune.fields import value_box
from yondle.desktop.tune.goals import GoalPresenter
from yondle.desktop.tune.nights import NightConsent
from yondle.language.saying import capital, in_sentence, later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.plan_runs import GOES_ON
from yondle.model.quantities import between, count
from yondle.planning.ladder import usual_passes
from yondle.planning.plan_files import ladder_text, parse_plan, read_plan, sweep_text
from yondle.planning.plans import DryRun, SweepOrder
from yondle.views.tune.proposal import dry_words
from yondle.views.tune.summary import latest_attempt, summary_words

UNTIL_IT_FAILS, IN_ROUNDS = later("until it fails"), later("in rounds")
_ORDERS: tuple[str, ...] = (*SweepOrder, IN_ROUNDS, UNTIL_IT_FAILS)
PLAN_FILES = later("Plans (*.toml);;All files (*)")


class SweepCard(Card):
    """A sweep of the knob in play, or a climb until it fails; what it would take is told as it is changed."""

    wanted = Signal(str)
    changed = Signal()

    def __init__(
        self, theme: Theme, knob: Knob, low: float, high: float, passes: int, close: Callable[[], None]
    ) -> None:
        super().__init__(
            theme,
            say("Sweep {knob}", knob=in_sentence(knob.name)),
            say("Every value is tried from where the rig is now."),
            [],
        )
        self.knob = knob
        self.low, self.high = value_box(knob, low, say("From")), value_box(knob, high, say("To"))
        self.by = Number()
        self.by.setDecimals(knob.digits)
        self.by.setRange(knob.step, max(knob.step, knob.high - knob.low))
        self.by.setSingleStep(knob.step)
        self.by.in_unit(between(knob.unit))
        self.by.setValue(max(1, round((high - low) / knob.step / 4)) * knob.step)
        self.by.setAccessibleName(say("By"))
        self.passes = Whole()
        self.passes.setRange(2, 200)
        self.passes.setValue(passes)
        self.passes.setAccessibleName(say("Passes"))
        self.order = Choice([*map(named, _ORDERS)], say("Order"))
        grid = form_rows()
        fields = (
            (say("from"), self.low),
            (say("to"), self.high),
            (say("by"), self.by),
            (say("passes"), self.passes),
            (say("order"), self.order),
        )
        for i, (name, box) in enumerate(fields):
            grid.addWidget(label(name, "muted", wrap=True), i, 0)
            grid.addWidget(box, i, 1)
        grid.setColumnStretch(0, 1)
        self.body.addLayout(grid)
        self.told = label("", "", wrap=True)
        self.body.addWidget(self.told)
        self.run_button = button(say("Run the sweep"), "main")
        self.run_button.clicked.connect(lambda: self.wanted.emit(knob.id))
        leave = button(say("Leave it"))
        leave.clicked.connect(close)
        self.body.addWidget(self.run_button)
        self.body.addWidget(leave)
        for box in (self.low, self.high, self.by, self.passes):
            box.valueChanged.connect(lambda _: self.changed.emit())
        self.order.currentIndexChanged.connect(self._turn)

    @property
    def until_it_fails(self) -> bool:
        """Tell whether it climbs from where the rig is until it fails."""
        return self._order is UNTIL_IT_FAILS

    def values(self) -> tuple[float, float, float, int, SweepOrder | None]:
        """Give from, to, by, passes and order; a climb, and a sweep in rounds, have none."""
        order = self._order if isinstance(self._order, SweepOrder) else None
        return self.low.value(), self.high.value(), self.by.value(), self.passes.value(), order

    @property
    def _order(self) -> str:
        return _ORDERS[self.order.currentIndex()]

    def _turn(self) -> None:
        self.low.setEnabled(not self.until_it_fails)
        self.changed.emit()

    def tell(self, words: str, can_run: bool) -> None:
        """Say what it would take, or what is wrong."""
        self.told.setText(words)
        self.run_button.setEnabled(can_run)


class PlansPresenter:
    """Says what a plan would do, runs it, and says how it ended; `edge` shows the plans that search an edge."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._pauses = False
        self._before = 0
        self.edge: EdgePresenter
        self.goals: GoalPresenter

    def ask_sweep(self, knob: Knob | None) -> None:
        """Offer a sweep of the knob in play."""
        if knob is None:
            return
        desk = self._desk
        low, high = desk.now.declaration.own_range(knob)
        now = knob.notch_of(desk.now.in_force[knob.id])
        reach = max(4, knob.notches // 8)
        first, last = max(knob.at(now - reach), low), min(knob.at(now + reach), high)
        card = SweepCard(desk.theme, knob, first, last, usual_passes(knob), lambda: desk.cards.take("sweep"))
        card.changed.connect(lambda: self._tell_sweep(card))
        comes_back = NightConsent(desk, card, card.run_button)
        card.wanted.connect(lambda _: self._run_sweep(card, comes_back.given))
        desk.cards.put_card("sweep", card)
        self._tell_sweep(card)

    def _tell_sweep(self, card: SweepCard) -> None:
        book = self._desk.now
        try:
            seen = preview(book, parse_plan(self._sweep_text(card), say("the sweep"), book.declaration))
        except KnownError as error:
            card.tell(f"{error.problem} {error.remedy}", False)
            return
        card.tell(_would_do(seen), seen.tests > 0 and book.baseline_step is not None)

    def _run_sweep(self, card: SweepCard, comes_back: Bounds | None) -> None:
        text = self._sweep_text(card)
        self._desk.cards.take("sweep")
        self.begin(text, say("the sweep"), told_by_steps, comes_back)

    def _sweep_text(self, card: SweepCard) -> str:
        book, (low, high, by, passes, order) = self._desk.now, card.values()
        if card.until_it_fails:
            up = high > book.in_force[card.knob.id]
            return ladder_text(book.declaration, card.knob.id, high, by if up else -by, passes)
        return sweep_text(book.declaration, card.knob.id, low, high, by, passes, order)

    def ask_file(self) -> None:
        """Let the tuner choose a plan file, and say what it would do before anything moves."""
        name, _ = QFileDialog.getOpenFileName(self._desk.window, say("Choose a plan"), "", named(PLAN_FILES))
        if name:
            self._desk.attempt(lambda: self.show(Path(name)))

    def show(self, path: Path) -> None:
        """Say what a plan file would do; raises KnownError for one that can't be run."""
        plan, text = read_plan(path, self._desk.now.declaration)
        seen = preview(self._desk.now, plan)
        cards = self._desk.cards

        def run() -> None:
            cards.take("plan file")
            self.begin(text, str(path), self.after_move, comes_back.given)

        actions = [
            CardAction(say("Run the plan"), run, "main"),
            CardAction(say("Leave it"), lambda: cards.take("plan file")),
        ]
        card = cards.put("plan file", plan.name, _would_do(seen), actions)
        comes_back = NightConsent(self._desk, card, card.buttons[0])

    def begin(self, text: str, source: str, after: AfterMove, comes_back: Bounds | None = None) -> None:
        """Begin the run of a plan; `after` is called after each of its moves, in the thread that tests."""
        self._carry_on(StartPlan(text, source, after, self._is_paused, unattended=True, comes_back=comes_back))

    def go_on(self, comes_back: Bounds | None = None) -> None:
        """Go on with the plan that was left unfinished."""
        self._carry_on(GoOnWithPlan(self.after_move, self._is_paused, unattended=True, comes_back=comes_back))

    def after_move(self, *_: object) -> None:
        """Show how a search or a climb stands; called in a thread of its own after every move of a plan."""
        self.edge.after_move()
        self.goals.after_move()

    def _is_paused(self) -> bool:
        return self._pauses

    def _carry_on(self, plan: StartPlan | GoOnWithPlan) -> None:
        self._before = latest_attempt(self._desk.now)
        self._pauses = False
        self._desk.order(plan)
        pause = CardAction(say("Pause after this step"), self.pause)
        self._desk.cards.put("plan", say("A plan is running"), say("Esc stops it and puts the rig back."), [pause])

    def pause(self) -> None:
        """Pause the plan after the step under way."""
        self._pauses = True
        self._desk.cards.put(
            "plan", say("The plan pauses after this step"), say("What is under way is tested to its end."), []
        )

    def ended(self, end: PlanEnd) -> None:
        """Say how the plan's run ended."""
        cards = self._desk.cards
        cards.take("plan")
        told = self.edge.ended(end) or self.goals.ended(end)
        if end.ended in GOES_ON:
            self.show_unfinished()
            return
        if told:
            return
        understood = CardAction(say("Understood"), lambda: cards.take("plan"))
        text = say("{reason}. {moves} made.", reason=capital(end.reason), moves=count(end.moves, "move"))
        summary = summary_words(self._desk.now, self._before)
        text += f"\n{summary}" if summary else ""
        cards.put("plan", say("The plan is {ended}", ended=end.ended), text, [understood])

    def show_unfinished(self) -> None:
        """Offer to go on with a plan that was left unfinished."""
        desk = self._desk
        run = desk.now.reader.open_plan_run()
        if run is None:
            desk.cards.take("plan")
            return
        try:
            name = parse_plan(run.definition, say("the plan"), desk.now.declaration).name
        except KnownError as error:
            name = error.problem
        made = sum(1 for move in run.moves if move.result is not None)
        actions = [
            CardAction(say("Go on with it"), lambda: self.go_on(comes_back.given), "main"),
            CardAction(say("End it"), self._end),
        ]
        text = say("{name}: {moves} made.", name=name, moves=count(made, "move"))
        card = self.edge.show_unfinished("plan", text, actions)
        card = card or self.goals.show_unfinished("plan", text, actions)
        card = card or desk.cards.put("plan", say("A plan is not finished"), text, actions)
        comes_back = NightConsent(desk, card, card.buttons[0])

    def _end(self) -> None:
        self._desk.cards.take("plan")
        self._desk.ask(EndPlan())


def _would_do(seen: DryRun) -> str:
    left = "".join(say("\nLeft out: {words}.", words=words) for words in seen.left_out)
    return dry_words(seen) + left
