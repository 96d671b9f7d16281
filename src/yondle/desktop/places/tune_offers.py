"""What Tune offers on cards beside the next step: entries by hand, readiness, own limits, sweeps and plans, profiles."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog, QWidget

from yondle.app.plans.plans import GOES_ON, PlanEnd, end_plan, go_on_with_plan, preview, start_plan
from yondle.app.profiles.profiles import (
    compared_to_stock,
    drop_profile,
    import_profile,
    keep_profile,
    power_hint,
    profiles,
    propose_profile,
    standing,
    use_profile,
    write_profile,
)
from yondle.app.session.readiness import ReadyItem, not_ready, readiness
from yondle.app.session.session import Session
from yondle.desktop.bridge import Bridge
from yondle.desktop.places.tune_edge import EdgeOffers
from yondle.desktop.places.tune_words import tell_trouble
from yondle.desktop.theme import Theme
from yondle.desktop.widgets.basics import button, label
from yondle.desktop.widgets.cards import Card, CardAction, Cards
from yondle.desktop.widgets.forms import (
    ConditionsCard,
    Entry,
    EntryCard,
    ProfileCard,
    RangeCard,
    SensorLimitsCard,
    SweepCard,
)
from yondle.desktop.widgets.rulers import Rulers
from yondle.language.saying import capital, later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.profiles import Profile, Purpose
from yondle.model.quantities import count
from yondle.model.sensors import Quantity
from yondle.model.steps import StartAnswer
from yondle.planning.plan_files import ladder_text, parse_plan, read_plan, sweep_text
from yondle.views.shared.snapshot import STEP_PASSES
from yondle.views.tune.proposal import dry_words
from yondle.views.tune.summary import latest_attempt, summary_words

LIMITED = (Quantity.TEMPERATURE, Quantity.POWER, Quantity.VOLTAGE)
PLAN_FILES = say("Plans (*.toml);;All files (*)")
PROFILE_FILES = say("Profiles (*.toml);;All files (*)")

Run = Callable[[str, Callable[[], object]], None]


class TuneOffers(QObject):
    """Puts cards up and carries out what is chosen on them; `run` orders an operation, `refresh` shows its outcome."""

    def __init__(
        self,
        parent: QWidget,
        theme: Theme,
        bridge: Bridge,
        session: Session,
        cards: Cards,
        rulers: Rulers,
        run: Run,
        refresh: Callable[[], None],
    ) -> None:
        super().__init__(parent)
        self._window = parent
        self._theme = theme
        self._bridge = bridge
        self._session = session
        self._cards = cards
        self._rulers = rulers
        self._run = run
        self._refresh = refresh
        self._pause_plan = False
        self._before = 0
        self._waiting_shown: object = None
        self.edge = EdgeOffers(parent, theme, bridge, session, cards, self.begin_plan, self._pause, self.ask_profile)

    # -- values entered by hand ------------------------------------------------------------------------------------

    def show_waiting(self) -> None:
        """Show what has to be entered by hand, or take that card away."""
        waiting, session = self._session.waiting, self._session
        if waiting is self._waiting_shown and (waiting is None) == (self._cards.get("entry") is None):
            return
        self._waiting_shown = waiting
        self._cards.take("entry")
        if waiting is None:
            return
        declaration, virtual = session.declaration, session.machine.virtual is not None
        entries = [
            Entry(knob.name, knob.text(value), knob.text(session.in_force.get(knob_id, knob.stock)))
            for knob_id, value in waiting.values.items()
            for knob in (declaration.knob(knob_id),)
        ]
        title = (
            say("Step {number}: set by hand", number=waiting.step.number)
            if waiting.step
            else say("Bring the rig back by hand")
        )
        if not waiting.restarts:
            text = (
                say("Set by hand, in force at once. On the simulated rig its owner sets it.")
                if virtual
                else say("Set this now, then say so: the test goes on at once.")
            )
            go_on, asks = say("Set it") if virtual else say("It is set"), False
        elif waiting.restarted and not virtual:
            text, go_on, asks = (
                say("The machine has restarted. Did it start with these values?"),
                say("It started with them"),
                True,
            )
        elif virtual:
            text = say("Set by hand in firmware setup. On the simulated rig its owner enters them and restarts.")
            go_on, asks = say("Enter them and restart"), False
        else:
            text = say(
                "Restart into firmware setup, enter this, and start the system again. Yondle opens by itself after "
                "you log in, and goes on."
            )
            go_on, asks = say("The machine has restarted"), False
        card = EntryCard(self._theme, title, text, entries, go_on, asks)
        card.drop_button.setVisible(waiting.step is not None)
        card.answered.connect(self._answer)
        card.dropped.connect(lambda: self._run("drop", self._session.drop_waiting))
        self._cards.put_card("entry", card)

    def _answer(self, answer: StartAnswer | None) -> None:
        self._run("test", lambda: self._session.go_on_waiting(answer))

    # -- ready for a baseline ----------------------------------------------------------------------------------------

    def check_ready(self) -> None:
        """Look whether the rig is ready; the baseline follows at once when it is."""
        self._cards.take("ready")
        self._run("ready", lambda: readiness(self._session))

    def ready_checked(self, items: tuple[ReadyItem, ...]) -> None:
        """Begin the baseline, or say what isn't ready and let the tuner go on knowingly."""
        if self._session.heed_request():
            return
        missing = not_ready(items)
        if not missing:
            self._run("baseline", self._session.baseline)
            return
        open_ = [item for item in items if not item.ready]
        text = "\n".join(f"{item.name}: {item.words}. {item.remedy}" for item in open_)
        actions = [
            CardAction(say("Check again"), self.check_ready, "main"),
            CardAction(say("Go on all the same (it is recorded)"), lambda: self._baseline_knowingly(missing)),
            CardAction(say("Leave it"), lambda: self._cards.take("ready")),
        ]
        self._cards.put("ready", say("Not ready for a baseline"), text, actions)

    def _baseline_knowingly(self, missing: tuple[str, ...]) -> None:
        self._cards.take("ready")
        self._run("baseline", lambda: self._session.baseline(knowingly=missing))

    def ask_conditions(self) -> None:
        """Ask what the rig can't find out by itself."""
        session = self._session
        told = session.own.conditions
        rows = [(name, told.get(name, "")) for name in dict.fromkeys((*session.declaration.asks, *told))]
        rows = rows or [(later("Room and place"), "")]
        card = ConditionsCard(self._theme, rows, lambda: self._cards.take("conditions"))
        card.told.connect(self._keep_conditions)
        self._cards.put_card("conditions", card)

    def _keep_conditions(self, told: dict[str, str]) -> None:
        def keep() -> None:
            for name, value in told.items():
                self._session.own.tell(name, value)
            self._cards.take("conditions")

        self._try(keep)

    # -- own limits ----------------------------------------------------------------------------------------------------

    def ask_range(self, knob_id: str) -> None:
        """Put the tuner's own limits of a knob under its ruler."""
        knob = self._session.declaration.knob(knob_id)
        low, high = self._session.declaration.own_range(knob)
        card = RangeCard(self._theme, knob, low, high, self._rulers.drop_question)
        card.chosen.connect(lambda least, most: self._set_range(knob_id, least, most))
        self._rulers.put_under(knob_id, card)

    def move_limit(self, knob_id: str, value: float) -> None:
        """Set a limit that was dragged on the ruler."""
        self._set_range(knob_id, self._session.declaration.floors.get(knob_id), value)

    def _set_range(self, knob_id: str, low: float | None, high: float | None) -> None:
        try:
            self._session.set_own_range(knob_id, low, high)
        except KnownError as error:
            self._rulers.ask(knob_id, error.problem, error.remedy, [])
        else:
            self._rulers.drop_question()
        self._refresh()

    def ask_sensor_limits(self) -> None:
        """Show the readings above which a test is stopped, to be changed in place."""
        declaration = self._session.declaration
        most = {limit.channel: limit.most for limit in declaration.limits}
        rows = [(c, most.get(c.id)) for c in declaration.channels if c.quantity in LIMITED and c.core is None]
        card = SensorLimitsCard(self._theme, rows, lambda: self._cards.take("limits"))
        card.chosen.connect(lambda channel, value: self._try(lambda: self._session.set_limit(channel, value)))
        self._cards.put_card("limits", card)

    # -- plans -----------------------------------------------------------------------------------------------------------

    def ask_sweep(self, knob: Knob | None) -> None:
        """Offer a sweep of the knob in play."""
        if knob is None:
            return
        session = self._session
        low, high = session.declaration.own_range(knob)
        now = knob.notch_of(session.in_force[knob.id])
        reach = max(4, knob.notches // 8)
        first, last = max(knob.at(now - reach), low), min(knob.at(now + reach), high)
        card = SweepCard(self._theme, knob, first, last, STEP_PASSES, lambda: self._cards.take("sweep"))
        card.changed.connect(lambda: self._tell_sweep(card))
        card.wanted.connect(lambda _: self._run_sweep(card))
        self._cards.put_card("sweep", card)
        self._tell_sweep(card)

    def _tell_sweep(self, card: SweepCard) -> None:
        try:
            plan = parse_plan(self._sweep_text(card), say("the sweep"), self._session.declaration)
            seen = preview(self._session, plan)
        except KnownError as error:
            card.tell(f"{error.problem} {error.remedy}", False)
            return
        left = "".join(say("\nLeft out: {words}.", words=words) for words in seen.left_out)
        card.tell(dry_words(seen) + left, seen.tests > 0 and self._session.baseline_step is not None)

    def _run_sweep(self, card: SweepCard) -> None:
        text = self._sweep_text(card)
        self._cards.take("sweep")
        self.begin_plan(text, say("the sweep"), _nothing)

    def _sweep_text(self, card: SweepCard) -> str:
        low, high, by, passes, order = card.values()
        if card.until_it_fails:
            now = self._session.in_force[card.knob.id]
            return ladder_text(self._session.declaration, card.knob.id, high, by if high > now else -by, passes)
        return sweep_text(self._session.declaration, card.knob.id, low, high, by, passes, order)

    def ask_plan_file(self) -> None:
        """Let the tuner choose a plan file, and say what it would do before anything moves."""
        name, _ = QFileDialog.getOpenFileName(self._window, say("Choose a plan"), "", PLAN_FILES)
        if name:
            self.show_plan(Path(name))

    def show_plan(self, path: Path) -> None:
        """Say what a plan file would do."""
        try:
            plan, text = read_plan(path, self._session.declaration)
            seen = preview(self._session, plan)
        except KnownError as error:
            tell_trouble(self._cards, error)
            return
        left = "".join(say("\nLeft out: {words}.", words=words) for words in seen.left_out)
        actions = [
            CardAction(say("Run the plan"), lambda: self._begin_shown(text, str(path)), "main"),
            CardAction(say("Leave it"), lambda: self._cards.take("plan file")),
        ]
        self._cards.put("plan file", plan.name, dry_words(seen) + left, actions)

    def _begin_shown(self, text: str, source: str) -> None:
        self._cards.take("plan file")
        self.begin_plan(text, source, self.edge.after_move)

    def begin_plan(self, text: str, source: str, after: Callable[..., None]) -> None:
        """Begin the run of a plan; `after` is called after each of its moves, in the engine's thread."""
        self._before = latest_attempt(self._session.snapshot)
        self._carry_on(lambda: start_plan(self._session, text, source, after, lambda: self._pause_plan))

    def _go_on_plan(self) -> None:
        after = self.edge.after_move
        self._before = latest_attempt(self._session.snapshot)
        self._carry_on(lambda: go_on_with_plan(self._session, after, lambda: self._pause_plan))

    def _carry_on(self, going: Callable[[], PlanEnd]) -> None:
        def run() -> PlanEnd:
            with self._session.unattended():
                return going()

        self._pause_plan = False
        self._run("plan", run)
        pause = CardAction(say("Pause after this step"), self._pause)
        self._cards.put("plan", say("A plan is running"), say("Esc stops it and puts the rig back."), [pause])

    def _pause(self) -> None:
        self._pause_plan = True
        self._cards.put(
            "plan", say("The plan pauses after this step"), say("What is under way is tested to its end."), []
        )

    def plan_ended(self, end: PlanEnd) -> None:
        """Say how the plan's run ended."""
        self._cards.take("plan")
        told = self.edge.ended(end)
        if end.ended in GOES_ON:
            self.show_unfinished()
            return
        if told:
            return
        understood = CardAction(say("Understood"), lambda: self._cards.take("plan"))
        text = say("{reason}. {moves} made.", reason=capital(end.reason), moves=count(end.moves, "move"))
        summary = summary_words(self._session.snapshot, self._before)
        text += f"\n{summary}" if summary else ""
        self._cards.put("plan", say("The plan is {ended}", ended=end.ended), text, [understood])

    def show_unfinished(self) -> None:
        """Offer to go on with a plan that was left unfinished."""
        run = self._session.logbook.keeping.open_plan_run()
        if run is None:
            self._cards.take("plan")
            return
        try:
            name = parse_plan(run.definition, say("the plan"), self._session.declaration).name
        except KnownError as error:
            name = error.problem
        made = sum(1 for move in run.moves if move.result is not None)
        actions = [
            CardAction(say("Go on with it"), self._go_on_plan, "main"),
            CardAction(say("End it"), self._end_plan),
        ]
        text = say("{name}: {moves} made.", name=name, moves=count(made, "move"))
        if not self.edge.show_unfinished("plan", text, actions):
            self._cards.put("plan", say("A plan is not finished"), text, actions)

    def _end_plan(self) -> None:
        self._cards.take("plan")
        self._try(lambda: end_plan(self._session))

    # -- profiles --------------------------------------------------------------------------------------------------------

    def ask_profile(self, number: int | None, load: str = "") -> None:
        """Offer to keep a step's setup by name; with a load as the best for it, or as the daily one where it has no score."""
        if number is None:
            return
        benchmarks = [(b.id, b.name) for b in self._session.declaration.benchmarks]
        card = ProfileCard(
            self._theme,
            say("Keep step {number} as a profile", number=number),
            benchmarks,
            lambda: self._cards.take("profile"),
        )
        card.wanted.connect(lambda name, purpose, benchmark: self._keep_profile(name, purpose, benchmark, number))
        if load:
            card.suggest(Purpose.BENCHMARK if load in dict(benchmarks) else Purpose.DAILY, load)
        self._cards.put_card("profile", card)
        card.name.setFocus()

    def _keep_profile(self, name: str, purpose: Purpose, benchmark: str, number: int) -> None:
        def keep() -> None:
            keep_profile(self._session, name, purpose, benchmark, number)
            self._cards.take("profile")
            self.show_profiles()

        self._try(keep)

    def show_profiles(self) -> None:
        """List the profiles with what each changes, and what can be done with it."""
        kept = profiles(self._session)
        hint = power_hint(self._session)
        text = hint or ("" if kept else say("None yet. Select a step that held and keep it by name (K)."))
        card = Card(self._theme, say("Profiles"), text, [])
        for each in kept:
            self._add_profile(card, each)
        for words, do in (
            (say("Put everything at stock"), self._to_stock),
            (say("Read a profile file …"), self._ask_profile_file),
            (say("Close"), lambda: self._cards.take("profiles")),
        ):
            made = button(words)
            made.clicked.connect(do)
            card.body.addWidget(made)
        self._cards.put_card("profiles", card)

    def _add_profile(self, card: Card, kept: Profile) -> None:
        here = kept.setup == self._session.in_force
        card.body.addSpacing(4)
        card.body.addWidget(
            label(f"{kept.name} · {named(kept.purpose)}{say(' · in force') if here else ''}", "strong", wrap=True)
        )
        compared = compared_to_stock(self._session, kept)
        changed = ", ".join(f"{name} {new}" for name, _, new in compared.knobs) or say("all at stock")
        card.body.addWidget(label(changed, "muted", wrap=True))
        card.body.addWidget(label(standing(self._session, kept), "muted", wrap=True))
        tested = kept.step is not None
        use = button(
            say("Put in force") if tested else say("Test it as a joint step"), "", say("Use {kept}", kept=kept.name)
        )
        use.setEnabled(not here)
        use.clicked.connect(lambda: self._use(kept.name) if tested else self._propose(kept.name))
        write = button(say("Write to a file …"), "flat")
        write.clicked.connect(lambda: self._write_profile(kept))
        drop = button(say("Drop"), "flat", say("Drop {kept}", kept=kept.name))
        drop.clicked.connect(lambda: self._drop_profile(kept.name))
        for made in (use, write, drop):
            card.body.addWidget(made)

    def _use(self, name: str) -> None:
        self._cards.take("profiles")
        self._run(say("go back"), lambda: use_profile(self._session, name))

    def _propose(self, name: str) -> None:
        self._cards.take("profiles")
        self._try(lambda: propose_profile(self._session, name))

    def _drop_profile(self, name: str) -> None:
        self._try(lambda: drop_profile(self._session, name))
        self.show_profiles()

    def _to_stock(self) -> None:
        self._cards.take("profiles")
        self.to_stock()

    def to_stock(self) -> None:
        """Put every knob at stock."""
        self._run(say("go back"), self._session.go_to_stock)

    def _write_profile(self, kept: Profile) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self._window, say("Write the profile"), f"{kept.name}.toml", PROFILE_FILES
        )
        if name:
            self._try(lambda: write_profile(self._session, kept, Path(name), replaces=True))

    def _ask_profile_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self._window, say("Read a profile"), "", PROFILE_FILES)
        if name:
            self._try(lambda: import_profile(self._session, Path(name)))
            self.show_profiles()

    def _try(self, operation: Callable[[], object]) -> None:
        try:
            operation()
        except KnownError as error:
            tell_trouble(self._cards, error)
        self._refresh()


def _nothing(*_: object) -> None:
    """Plans that are told by their steps alone."""
