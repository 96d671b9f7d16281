"""Tune, the place where the work is done: rulers, trail, next step, and the chart of the knob in play."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QFileDialog, QLineEdit, QWidget

from yondle.app.session.commands import Command
from yondle.app.session.limits import UnfoldGroups
from yondle.app.session.owner import Answer
from yondle.app.session.progress import Progress
from yondle.app.session.proposing import DropProposal, ProposeTogether
from yondle.app.session.readiness import CheckReady
from yondle.app.session.remarks import DropNote, WriteNote
from yondle.app.session.requests import EmergencyStop, ForgetRequests, GoOn, Pause, Stop
from yondle.app.session.returning import DropWaiting, GoOnWaiting, ReadBack, ReturnTo, ReturnToStock
from yondle.app.session.testing import RunBaseline, TryAgain, TryProposal
from yondle.desktop.link.bridge import Bridge, OpenBook
from yondle.desktop.look.cards import CardAction
from yondle.desktop.look.layouts import abreast
from yondle.desktop.look.parts import KeptSplitter
from yondle.desktop.look.theme import Theme
from yondle.desktop.look.turns import Turns
from yondle.desktop.tune.actions import make_actions, possible
from yondle.desktop.tune.bench import BenchPresenter
from yondle.desktop.tune.bringing import BringPresenter
from yondle.desktop.tune.by_hand import ByHandPresenter
from yondle.desktop.tune.chart_panel import ChartPanel
from yondle.desktop.tune.conditions import ConditionsPresenter
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.figures import load_both, load_figures, load_functions
from yondle.desktop.tune.limits import LimitsPresenter
from yondle.desktop.tune.menus import menu_at
from yondle.desktop.tune.next_step import WIDTH, SidePanel
from yondle.desktop.tune.own import OwnPresenter
from yondle.desktop.tune.panels import TRAIL_WIDTH, Middle, RulersPanel, TrailPanel
from yondle.desktop.tune.proposing import Proposer
from yondle.desktop.tune.ready import ReadyPresenter
from yondle.desktop.tune.ruler import Ruler
from yondle.desktop.tune.rulers import GROUPED_FROM
from yondle.desktop.tune.strips import strips_of
from yondle.desktop.tune.words import next_words, tell_away, tell_resumed, tell_trouble, tell_verdict
from yondle.formats.documents import KeptOverRestarts, UnfoldedGroups
from yondle.language.saying import capital, later, named, say
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, PassEnded, PositionMoved, Record, StepOpened, VerdictGiven
from yondle.model.knobs import Knob
from yondle.model.steps import Check, Note, StageKind
from yondle.model.workloads import Workload
from yondle.planning.ladder import without_loads
from yondle.views.kept import ViewCache
from yondle.views.shared.kept import given_up
from yondle.views.tune.proposal import ProposalView, check_rows, dry_load, expected_seconds
from yondle.views.tune.rulers import Holding
from yondle.views.tune.running import so_far
from yondle.views.tune.step import step_view

if TYPE_CHECKING:
    from yondle.desktop.tune.plans import PlansPresenter
    from yondle.desktop.tune.profiles import ProfilesPresenter
    from yondle.desktop.tune.recording import RecordPresenter
    from yondle.desktop.tune.score_chart import ScoreChart
    from yondle.desktop.tune.tour import Tour
    from yondle.views.tune.charting import ChartView

_PAINTED_MS = 20
LEAST_MIDDLE = 420
"""Below this width a ruler no longer tells its values apart."""
_NOTHING_MEASURED = later("Nothing measured yet.\nEvery later gain is told against the baseline.")
_TESTS = (RunBaseline, TryProposal, TryAgain, GoOnWaiting, DropWaiting)
"""Orders whose verdict is told when they end."""
_TELLING = (StepOpened, PassEnded, VerdictGiven, AttemptClosed, PositionMoved)


class TunePlace(QWidget):
    """The Tune place for one logbook. `settled` is sent when readings, settings or steps have changed, `whole` once
    its chart is there, too, and `reopen` when the logbook has to be opened anew.
    """

    settled = Signal()
    stopped = Signal()
    whole = Signal()
    reopen = Signal()
    wants_grid = Signal(int)
    wants_compared = Signal(tuple)

    def __init__(self, theme: Theme, bridge: Bridge, book: OpenBook) -> None:
        super().__init__()
        self.book = book
        self._bridge = bridge
        self.views = ViewCache(lambda: book.now)
        self.complete = False
        self._turns = Turns(self)
        self.progress = Progress(book.now.declaration)
        self._benchmark: Workload = book.now.declaration.benchmarks[0]
        self._in_play = book.now.declaration.knobs[0].id if book.now.declaration.knobs else ""
        self._evening = False
        self._expected_s = 0.0
        self._gone_back = ""
        self.actions_by_name = make_actions(self, self._handlers())
        self._trail_panel = TrailPanel(theme)
        self._rulers_panel = RulersPanel(theme, filtered=len(book.now.declaration.knobs) >= GROUPED_FROM)
        self.trail, self.rulers = self._trail_panel.trail, self._rulers_panel.rulers
        self.filter = self._rulers_panel.filter
        self._proposer = Proposer(book, self.rulers, self._test, self._proposed)
        self.chart_panel = ChartPanel(theme)
        self.side = SidePanel(theme, self.actions_by_name)
        desk = Desk(self, theme, bridge, book, self.side.cards, self.rulers, self._order, self.refresh)
        self._desk = desk
        self.by_hand, self.ready, self.own = ByHandPresenter(desk), ReadyPresenter(desk), OwnPresenter(desk)
        self.limits, self.conditions, self.bench = (
            LimitsPresenter(desk),
            ConditionsPresenter(desk),
            BenchPresenter(desk),
        )
        self.bringing = BringPresenter(desk, self)
        self._lay_out()
        self._connect()
        self._heard = (
            (bridge.records, self._take),
            (bridge.busy_changed, self._busy),
            (bridge.prepared, self._figures_ready),
            (bridge.ended, self._ended),
        )
        for signal, slot in self._heard:
            signal.connect(slot)
        self._begin_progress()
        tell_resumed(self.side.cards, book.now)
        if book.now.looked.away:
            self.tell_away(book.now.looked.away)
        if given_up(book.now.kept.of(KeptOverRestarts), book.now.kept_here):
            self.profiles.tell_given_up()
        self.rulers.unfold(book.now.kept.of(UnfoldedGroups).root or self._first_unfolded())
        if book.now.reader.open_plan_run() is not None:
            self.plans.show_unfinished()
        self.own.show_not_allowed()
        if book.now.not_told and book.now.baseline_step is None:
            self.conditions.ask()
        QTimer.singleShot(0, self, self._begin)

    def leave(self) -> None:
        """Hear nothing and offer no command any more: another logbook is opened, and this place goes away."""
        for signal, slot in self._heard:
            signal.disconnect(slot)
        for action in self.actions_by_name.values():
            self.removeAction(action)

    def _begin(self) -> None:
        """Show everything; what is heavy is loaded once that has been painted."""
        self.refresh()
        self.rulers.focus_on(self._in_play)
        in_rounds = any(record.step.unchanged for record in self.book.now.steps)
        needed = load_both if in_rounds else load_figures
        QTimer.singleShot(_PAINTED_MS, self, lambda: self._bridge.prepare(needed))

    def _figures_ready(self, prepared: object) -> None:
        """Charts and margins need large libraries: the window is usable before they are loaded."""
        if prepared in (load_figures, load_both) and self.chart is None:
            self._turns.begin(self._fill())

    def _fill(self) -> Iterator[None]:
        self.chart_panel.add_chart()
        self.chart_panel.place_chart()
        self._show_trail()
        yield
        self._held()
        yield
        self._show_chart()
        yield
        self._show_completely()

    def _show_completely(self) -> None:
        self.complete = True
        self._show_rulers()
        self._show_side()
        self.whole.emit()
        self._bridge.prepare(load_functions)

    @property
    def chart(self) -> ScoreChart | None:
        """The chart, once its library is loaded."""
        return self.chart_panel.chart

    @cached_property
    def profiles(self) -> ProfilesPresenter:
        """The cards of profiles; loaded when one is first asked for."""
        from yondle.desktop.tune.profiles import ProfilesPresenter

        return ProfilesPresenter(self._desk)

    @cached_property
    def tour(self) -> Tour:
        """The tour; made when it is first asked for."""
        from yondle.desktop.tune.tour import Tour

        return Tour(self, self._desk.theme, self.side.cards, self._part_called)

    def _part_called(self, name: str) -> QWidget | None:
        parts: dict[str, QWidget | None] = {
            "trail": self._trail_panel, "ruler": self.rulers.ruler(self._in_play), "next": self.side.next,
            "test": self.side.next.test_button, "running": self.side.running,
        }  # fmt: skip
        return parts[name]

    def _tell_tour(self, what: str) -> None:
        if "tour" in self.__dict__:
            self.tour.happened(what)

    @cached_property
    def recording(self) -> RecordPresenter:
        """The cards of what is only recorded; loaded when one is first asked for."""
        from yondle.desktop.tune.recording import RecordPresenter

        return RecordPresenter(self._desk, self.wants_grid.emit, self.reopen.emit)

    @cached_property
    def plans(self) -> PlansPresenter:
        """The cards of plans and edges, which need the whole of planning; loaded when one is first asked for."""
        from yondle.desktop.tune.edge import EdgePresenter
        from yondle.desktop.tune.goals import GoalPresenter
        from yondle.desktop.tune.plans import PlansPresenter

        made = PlansPresenter(self._desk)
        made.edge = EdgePresenter(self._desk, made, lambda *told: self.profiles.ask(*told))
        made.goals = GoalPresenter(self._desk, made, lambda step: self.profiles.ask(step), self._propose)
        return made

    # -- building ------------------------------------------------------------------------------------------------------

    def _handlers(self) -> dict[str, Callable[[], object]]:
        return {
            "test": self._test,
            "baseline": self._run_baseline,
            "again": self._again,
            "drop": self._drop,
            "joint": lambda: self._proposer.make_joint(),
            "stop": self.stop,
            "pause": self._pause,
            "halt": self.halt,
            "go_back": self._go_back,
            "note": lambda: self.side.inspector.write_note(),
            "keep": self._keep,
            "compare": lambda: self.wants_compared.emit(self.trail.all_selected()),
            "export": self._ask_to_export,
            "profiles": lambda: self.profiles.show(),
            "stock": lambda: self._order(ReturnToStock()),
            "limits": lambda: self.limits.ask_range(self._in_play),
            "sensors": lambda: self.limits.ask_sensors(),
            "sweep": lambda: self.plans.ask_sweep(self._knob()),
            "edge": lambda: self.plans.edge.ask(self._knob()),
            "next": lambda: self.plans.goals.ask(),
            "plan": lambda: self.plans.ask_file(),
            "conditions": lambda: self.conditions.ask(),
            "benchmarks": lambda: self.bench.ask_benchmarks(),
            "result": lambda: self.bench.ask_result(self.trail.selected()),
            "table": lambda: self.bench.ask_table(self.trail.selected()),
            "own": lambda: self.own.ask(),
            "record": lambda: self.recording.ask(),
            "grid": self._grid,
            "undo": self._undo,
            "describe": lambda: self.recording.ask_knob(),
            "find": lambda: self.filter.setFocus(),
            "next_benchmark": lambda: self._turn_benchmark(1),
            "last_benchmark": lambda: self._turn_benchmark(-1),
            "tour": lambda: self.tour.begin(),
            "to_rulers": lambda: self.rulers.focus_on(self._in_play),
            "to_trail": lambda: self.trail.setFocus(),
            "figures": self._turn_table,
            "copy_table": self._copy_table,
            "copy_picture": self._copy_picture,
            "dismiss": self._dismiss,
        }

    def _lay_out(self) -> None:
        middle = Middle(self._rulers_panel, self.chart_panel)
        middle.setMinimumWidth(LEAST_MIDDLE)
        whole = abreast(self)
        self._parts = KeptSplitter("tune", (self._trail_panel, middle, self.side), (TRAIL_WIDTH, 0, WIDTH))
        whole.addWidget(self._parts)

    def _connect(self) -> None:
        self.rulers.moved.connect(self._propose)
        self.rulers.entered.connect(self._enter)
        self.rulers.step_chosen.connect(self.trail.choose)
        self.rulers.limit_moved.connect(self.limits.move_limit)
        self.rulers.folds_changed.connect(lambda open_: self.book.ask(UnfoldGroups(tuple(open_))))
        self.filter.textChanged.connect(self._show_actions)
        self.filter.returnPressed.connect(lambda: self.rulers.focus_on(next(iter(self.rulers.shown), self._in_play)))
        self.trail.chosen.connect(lambda _: self._show_side())
        self.trail.together.connect(self._show_actions)
        self.side.inspector.noted.connect(self._keep_note)
        self.side.next.own.changed.connect(self._show_next)
        self.chart_panel.benchmark_chosen.connect(self._choose_benchmark)
        self.chart_panel.step_chosen.connect(self.trail.choose)

    def event(self, event: QEvent) -> bool:
        """Let Return in a field end what is typed there: the step proposed is tested by it everywhere else."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.ShortcutOverride:
            typing = isinstance(QApplication.focusWidget(), QLineEdit | QAbstractSpinBox)
            if typing and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                event.accept()
                return True
        return super().event(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what can be done with what lies under the pointer, or has the focus."""
        under = self.childAt(event.pos())
        if isinstance(under, Ruler):
            under.setFocus()
        chart = self.chart
        inside = chart is not None and under is chart.viewport()
        steps = chart.steps_at(chart.mapFromGlobal(event.globalPos())) if chart is not None and inside else ()
        menu = menu_at(self, under, self.actions_by_name, steps, self.trail.choose)
        if menu is not None:
            menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            menu.popup(event.globalPos())

    # -- showing -------------------------------------------------------------------------------------------------------

    @property
    def running(self) -> bool:
        """Tell whether a test is under way or ordered."""
        return self._bridge.busy

    def refresh(self) -> None:
        """Show everything anew from the session."""
        self._show_actions()
        self._show_trail()
        self._show_rulers()
        self._show_chart()
        self._show_side()

    def _show_actions(self) -> None:
        asked = self.rulers.question is not None or self.filter.text() != ""
        together = len(self.trail.all_selected())
        enabled = possible(self.book.now, self.running, self.trail.selected(), self._in_play, together)
        enabled["drop"] = not self.running and (self.book.now.proposal is not None or asked)
        enabled["joint"] = not self.running and self._proposer.asks_about_joint
        enabled["pause"] = self.progress.running
        what = self.book.undo.what
        enabled["undo"] = bool(what)
        self.actions_by_name["undo"].setText(say("Undo: {undo}", undo=what) if what else say("Undo the last change"))
        for name, can in enabled.items():
            self.actions_by_name[name].setEnabled(can)

    def _show_trail(self) -> None:
        rows = self.views.trail(self._benchmark if self.chart is not None else None, self.progress.step)
        self._trail_panel.show_rows(rows)

    def _show_rulers(self) -> None:
        self.rulers.show_views(self.views.rulers(), self._in_play, self.running, self._held())

    def _held(self) -> Holding | None:
        """How the knob in play would hold, once the library that it needs is loaded."""
        return self.views.holding(self._knob()) if self.chart is not None else None

    def _show_chart(self) -> None:
        benchmarks = self.book.now.declaration.benchmarks
        if self._benchmark not in benchmarks:
            self._benchmark = benchmarks[0]
        self.chart_panel.offer(benchmarks)
        self.chart_panel.choose(benchmarks.index(self._benchmark))
        if self._knob() is None:
            without = say("No knob is described yet: bring in a table (Ctrl+I), or describe one (Ctrl+K).")
            self.chart_panel.show_nothing(without if self._elsewhere else say("This rig has no knob to chart against."))
            return
        if self.chart is None:
            self.chart_panel.show_nothing(say("Drawing …") if self.book.now.steps else named(_NOTHING_MEASURED))
            return
        view = self._chart_view()
        if view is not None and view.points:
            self.chart_panel.show_view(view)
        else:
            self.chart_panel.show_nothing(named(_NOTHING_MEASURED))

    def _chart_view(self) -> ChartView | None:
        return self.views.chart(self._knob(), self._benchmark)

    def _show_side(self) -> None:
        running = self.progress.running
        self.side.next.setVisible(not running)
        self.side.running.setVisible(running)
        selected = self.trail.selected()
        self.side.inspector.show_step(
            step_view(self.book.now, selected) if selected is not None and not running else None
        )
        if running:
            self._show_progress()
        else:
            self._show_next()
            if not self.running:
                self.by_hand.show()
        self._show_actions()
        self.settled.emit()

    def _show_next(self) -> None:
        wants_baseline = self.book.now.baseline_step is None
        view = self.views.proposal(self._held())
        words = next_words(self.book.now, view, self.running, self._elsewhere)
        shown: ProposalView | None = None if self.running else view
        if shown is not None and words.rows:
            self._offer_own_check()
            words = replace(words, rows=check_rows(self.book.now, self._check()))
        self.side.next.show_words(words, shown, wants_baseline and not self.running, self._elsewhere)

    def _offer_own_check(self) -> None:
        declaration, usual = self.book.now.declaration, self.book.now.check()
        loads = [s for s in usual.stages if s.kind is StageKind.LOAD]
        names = {s.workloads[0]: dry_load(declaration.workload(s.workloads[0]).name, s.pass_s or 0.0) for s in loads}
        rounds = next((s.rounds for s in usual.stages if s.kind is StageKind.SCORE), 2)
        self.side.next.own.offer(rounds, names)

    def _check(self) -> Check:
        """Give the check that a test of the proposal would run: the usual one, or what this one is to have instead."""
        passes, left_out = self.side.next.own.wanted
        return without_loads(self.book.now.check(passes), left_out)

    def _show_progress(self) -> None:
        position = self.book.now.position
        home = say(" to step {number}", number=position.step.number) if position else ""
        told = so_far(self.book.now, self._benchmark, self.progress.scores)
        self.side.running.show_progress(self.progress, self._expected_s, home, self.book.pausing, told)

    # -- doing ---------------------------------------------------------------------------------------------------------

    def _propose(self, knob_id: str, value: float) -> None:
        if self.running:
            self.rulers.ask(knob_id, say("A test is running"), say("Wait for its verdict, or stop it first (Esc)."), [])
            return
        self._proposer.propose(knob_id, value)
        self._show_actions()

    def propose_together(self, values: dict[str, float]) -> None:
        """Propose values chosen in another place, as a joint step where there are several."""
        if self.running:
            tell_trouble(
                self.side.cards,
                KnownError(say("A test is running."), say("Wait for its verdict, or stop it first (Esc).")),
            )
            return
        try:
            self.book.do(ProposeTogether(values))
            self._in_play = next(reversed(values), self._in_play)
        except KnownError as error:
            tell_trouble(self.side.cards, error)
        self.refresh()

    def _proposed(self, knob_id: str) -> None:
        turned, self._in_play = self._in_play != knob_id, knob_id
        if self.book.now.proposal is not None:
            self._tell_tour("proposed")
        self._show_rulers()
        if turned:
            self._show_chart()
        self._show_side()

    def _drop(self) -> None:
        if self.filter.hasFocus() or self.filter.text():
            self.filter.clear()
            self.rulers.focus_on(self._in_play)
        elif self.rulers.question is not None:
            self._proposer.forget()
        else:
            dropped = self.book.now.proposal
            self.book.do(DropProposal())
            if dropped is not None:
                values = {change.knob: change.new for change in dropped.changes}
                self.book.undo.remember(say("dropped proposal"), ProposeTogether(values))
        self.refresh()

    def _undo(self) -> None:
        def trouble(error: KnownError) -> None:
            tell_trouble(self.side.cards, error)
            self.refresh()

        def back() -> None:
            if self.side.cards.get("profiles") is not None:
                self.profiles.show()
            self.refresh()

        self.book.undo.take_back(back, trouble)

    def _test(self) -> None:
        if self._elsewhere:
            self.recording.ask()
        else:
            passes, left_out = self.side.next.own.wanted
            self._order(TryProposal(passes, left_out=left_out))
            self.side.next.own.as_usual()

    def _run_baseline(self) -> None:
        if self._elsewhere:
            self.recording.ask()
        else:
            self.ready.check()

    def _keep(self) -> None:
        """Ask for a profile's name; of several steps each that held is kept by its number."""
        together = self.trail.all_selected()
        if len(together) > 1:
            self.profiles.keep_all(together)
        else:
            self.profiles.ask(self.trail.selected())

    def _ask_to_export(self) -> None:
        from yondle.app.books.export import passes_csv, write

        steps = self.trail.all_selected()
        name, _ = QFileDialog.getSaveFileName(self, say("Write the passes"), "steps.csv", say("Passes (*.csv)"))
        if name:
            self._desk.attempt(lambda: write(Path(name), passes_csv(self.book.now, steps)))

    def _grid(self) -> None:
        selected = self.trail.selected()
        if selected is not None:
            self.wants_grid.emit(selected)

    @property
    def _elsewhere(self) -> bool:
        return self.book.now.elsewhere

    def _again(self) -> None:
        selected = self.trail.selected()
        if selected is not None:
            self._order(TryAgain(selected))

    def _order(self, command: Command[Any]) -> None:
        self._proposer.forget()
        for card in ("verdict", "error", "ready", "entry", "gone back"):
            self.side.cards.take(card)
        if not self._bridge.busy:
            self.book.do(ForgetRequests())
        book = self.book.now
        self._expected_s = expected_seconds(book, self._check())
        tries = isinstance(command, TryProposal | TryAgain | GoOnWaiting)
        self.side.show_running(strips_of(book.declaration, book.proposed if tries else book.declaration.stock))
        self.book.order(command)

    def run_evening(self) -> None:
        """Run the example climb; Esc ends it after the step under way."""
        from yondle.app.demo import RunEvening

        self._evening = True
        self._order(RunEvening(stopped=lambda: not self._evening))
        self.side.cards.put(
            "evening", say("Heron's evening is being run"),
            say("Every step you see is really tested on the simulated rig, as fast as it goes. Then it is yours."),
        )  # fmt: skip

    def stop(self) -> None:
        """Stop what runs and go back to where it began."""
        self._evening = False
        self.book.do(Stop())
        self.stopped.emit()

    def halt(self) -> None:
        """Stop what runs and go to stock at once."""
        self._evening = False
        self.book.do(EmergencyStop())
        self.stopped.emit()

    def ask_to_stop_first(self, stop_then: Callable[[], None]) -> None:
        """Say that something runs here, and offer to stop it before this logbook is left."""

        def stop() -> None:
            self.side.cards.take("stop first")
            stop_then()

        actions = [
            CardAction(say("Stop it, then go on"), stop, "danger"),
            CardAction(say("Let it run"), lambda: self.side.cards.take("stop first")),
        ]
        text = say("It can be stopped only while this logbook is open. Stopping puts the rig back first.")
        self.side.cards.put("stop first", say("A test is running here"), text, actions)

    def tell_neighbours(self) -> None:
        """Say that other rigs are being run, to be compared with."""
        self.book.do(ForgetRequests())
        self.side.cards.put(
            "evening",
            say("Heron II and Bittern are being run"),
            say("Each is really tested along its power limit, in a logbook of its own. Esc stops it."),
        )

    def tell(self, error: KnownError) -> None:
        """Say what went wrong."""
        self._desk.tell(error)

    def tell_away(self, words: str) -> None:
        """Say that the machine across the room can't be reached."""
        tell_away(self.side.cards, words, self.reopen.emit)

    def verify_again(self, why: str) -> None:
        """Read the settings again, which may have gone back by themselves, and say what is no longer as it was set."""
        self._gone_back = why
        self.book.order(ReadBack())

    def _pause(self) -> None:
        if self.book.pausing:
            self.book.do(GoOn())
        else:
            self.book.do(Pause())
        self._show_side()

    def _go_back(self) -> None:
        selected = self.trail.selected()
        if selected is not None:
            self._order(ReturnTo(selected))

    def _keep_note(self, number: int, text: str) -> None:
        def refused(error: KnownError) -> None:
            tell_trouble(self.side.cards, error)
            self.refresh()

        def kept(made: Note) -> None:
            self.book.undo.remember(say("note"), DropNote(number, made.id))
            self.refresh()

        self.book.ask(WriteNote(number, text), kept, refused)

    def _enter(self, knob_id: str) -> None:
        proposal = self.book.now.proposal
        if proposal is None and knob_id != self._in_play:
            self._in_play = knob_id
            self._show_rulers()
            self._show_chart()

    def _choose_benchmark(self, i: int) -> None:
        self._benchmark = self.book.now.declaration.benchmarks[i]
        self._show_trail()
        self._show_chart()

    def _turn_benchmark(self, by: int) -> None:
        all_ = self.book.now.declaration.benchmarks
        self._choose_benchmark((all_.index(self._benchmark) + by) % len(all_))

    def _turn_table(self) -> None:
        self.chart_panel.beside.turn()

    def _copy_table(self) -> None:
        if self.chart is not None:
            QGuiApplication.clipboard().setText(self.chart.table())

    def _copy_picture(self) -> None:
        if self.chart is not None:
            QGuiApplication.clipboard().setPixmap(self.chart.grab())

    def _dismiss(self) -> None:
        """Take the cards away; what waits for the tuner is shown all the same."""
        self.side.cards.clear()
        self.refresh()

    def _knob(self) -> Knob | None:
        return next((k for k in self.book.now.declaration.knobs if k.id == self._in_play), None)

    def _first_unfolded(self) -> list[str]:
        knobs = self.book.now.declaration.knobs
        return [str(knobs[0].subsystem)] if knobs else []

    # -- hearing -------------------------------------------------------------------------------------------------------

    def _take(self, records: list[Record]) -> None:
        telling, before = False, self.progress.step
        for record in records:
            self.progress.take(record)
            telling = telling or isinstance(record, _TELLING)
            if isinstance(record, StepOpened):
                self.side.show_running(strips_of(self.book.now.declaration, record.step.setup))
        if telling or self.progress.step != before:
            self.refresh()
            if self.progress.running:
                self._tell_tour("running")
        elif self.progress.running:
            self._show_progress()

    def _busy(self, busy: bool) -> None:
        self.refresh()

    def _ended(self, command: object, answer: Answer[Any]) -> None:
        """Say what came of what was ordered."""
        self.side.cards.take("evening")
        self.side.cards.take("stop first")
        self._evening = False
        if answer.error is not None:
            self.side.cards.take("plan")
            self._begin_progress()
            tell_trouble(self.side.cards, answer.error)
            self.refresh()
            return
        from yondle.app.demo import RunEvening
        from yondle.app.plans.plans import GoOnWithPlan, StartPlan

        done: Any = answer.result
        match command:
            case ReadBack():
                self._tell_gone_back()
            case CheckReady():
                self.ready.checked(done)
            case StartPlan() | GoOnWithPlan():
                self.plans.ended(done)
                here = self.book.now.position
                if here is not None:
                    self.trail.choose(here.step.number)
            case _ if isinstance(command, (*_TESTS, RunEvening)) and self.book.now.waiting is None:
                number = tell_verdict(self.side.cards, self.book.now)
                self._tell_tour("ended")
                if isinstance(command, RunEvening):
                    self._offer_tour()
                if number is not None:
                    self.trail.choose(number)
        self.refresh()
        if "plans" in self.__dict__:
            self.plans.goals.renew()

    def _offer_tour(self) -> None:
        """Offer to show around, once Heron's evening has been run."""

        def begin() -> None:
            self.side.cards.take("tour offer")
            self.tour.begin()

        actions = [
            CardAction(say("Show me around"), begin, "main"),
            CardAction(say("I'll find my way"), lambda: self.side.cards.take("tour offer")),
        ]
        text = say("Six steps, and the last of them is a test of your own.")
        self.side.cards.put("tour offer", say("Heron's evening is yours now"), text, actions)

    def _begin_progress(self) -> None:
        """Follow anew: nothing is under way, but a step may wait for its values."""
        waiting = self.book.now.waiting
        self.progress = Progress(self.book.now.declaration)
        if waiting is not None and waiting.step is not None:
            self.progress.waiting = waiting.step.number

    def _tell_gone_back(self) -> None:
        seen, here = self.book.now.verified, self.book.now.position
        if seen is None or seen.as_set == seen.of:
            return
        text = say(
            "{as_set} of {of} read back as set. {why}.", as_set=seen.as_set, of=seen.of, why=capital(self._gone_back)
        )
        actions = [CardAction(say("Understood"), lambda: self.side.cards.take("gone back"))]
        if here is not None:
            again = CardAction(say("Set them again"), lambda: self._order(ReturnTo(here.step.number)), "main")
            actions.insert(0, again)
        self.side.cards.put("gone back", say("The settings are no longer in force"), text, actions)
