"""Tune, the place where the work is done: rulers, trail, next step, and the chart of the knob in play."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QGuiApplication, QKeySequence
from PySide6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QLabel, QStackedWidget, QVBoxLayout, QWidget

from yondle.app.progress import Progress
from yondle.app.session import Session
from yondle.app.views import (
    Chances,
    ProposalView,
    Trail,
    chances_to_hold,
    chart,
    check_rows,
    expected_seconds,
    load_seconds,
    proposal_view,
    ruler_marks,
    rulers,
    step_title,
    step_view,
)
from yondle.desktop.bridge import Bridge
from yondle.desktop.charts.strips import strips_of
from yondle.desktop.theme import MARGIN, Theme
from yondle.desktop.widgets.basics import button, label
from yondle.desktop.widgets.cards import CardAction
from yondle.desktop.widgets.next_step import NextWords, SidePanel
from yondle.desktop.widgets.rulers import Rulers
from yondle.desktop.widgets.trail import TrailView
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, PassEnded, PositionMoved, Record, StepOpened, VerdictGiven
from yondle.model.knobs import Knob
from yondle.model.quantities import count
from yondle.model.workloads import Direction, Workload

if TYPE_CHECKING:
    from yondle.desktop.charts.score_chart import ScoreChart

Made = TypeVar("Made")

TRAIL_WIDTH = 286
_TELLING = (StepOpened, PassEnded, VerdictGiven, AttemptClosed, PositionMoved)


class TunePlace(QWidget):
    """The Tune place for one session. `settled` is sent when readings, settings or steps have changed."""

    settled = Signal()

    def __init__(self, theme: Theme, bridge: Bridge, session: Session) -> None:
        super().__init__()
        self.session = session
        self._bridge = bridge
        self._trail_rows = Trail(session)
        self.progress = Progress(session.declaration)
        self._benchmark: Workload = session.declaration.benchmarks[0]
        self._in_play = session.declaration.knobs[0].id if session.declaration.knobs else ""
        self._paused = False
        self._evening = False
        self._kept: dict[str, tuple[object, Any]] = {}
        self._expected_s = 0.0
        self.actions_by_name: dict[str, QAction] = {}
        self._make_actions()
        self.trail = TrailView(theme)
        self.rulers = Rulers(theme)
        self._theme = theme
        self.chart: ScoreChart | None = None
        self.side = SidePanel(theme, self.actions_by_name)
        self._lay_out(theme)
        self._connect()
        bridge.listen_to(session)
        bridge.records.connect(self._take)
        bridge.busy_changed.connect(lambda _: self.refresh())
        bridge.prepared.connect(self._figures_ready)
        bridge.done.connect(self._done)
        bridge.failed.connect(self._failed)
        self._tell_resumed()
        self.refresh()
        bridge.prepare("figures", _load_figures)

    def _figures_ready(self, name: str) -> None:
        """Charts and margins need large libraries: the window is usable before they are loaded."""
        from yondle.desktop.charts.score_chart import ScoreChart

        if name != "figures" or self.chart is not None:
            return
        self.chart = ScoreChart(self._theme)
        self.chart.step_chosen.connect(self.trail.choose)
        self._chart_stack.addWidget(self.chart)
        self.refresh()

    # -- building ------------------------------------------------------------------------------------------------------

    def _make_actions(self) -> None:
        for name, text, keys, do in (
            ("test", "Test this step", "Return", self._test),
            ("baseline", "Run the baseline: measure stock", "Ctrl+B", self._run_baseline),
            ("drop", "Drop the proposal", "Esc", self._drop),
            ("joint", "Make it a joint step", "J", self._make_joint),
            ("stop", "Stop the test and go back", "Esc", self._stop),
            ("pause", "Pause before the next pass, or go on", "P", self._pause),
            ("halt", "Emergency stop: stock at once", "Shift+Esc", self._halt),
            ("go_back", "Go back to the selected step", "G", self._go_back),
            ("note", "Write a note at the selected step", "N", self._note),
            ("next_benchmark", "Chart the next benchmark", "Alt+Right", lambda: self._turn_benchmark(1)),
            ("last_benchmark", "Chart the benchmark before", "Alt+Left", lambda: self._turn_benchmark(-1)),
            ("to_rulers", "Go to the rulers", "Ctrl+1", lambda: self.rulers.focus_on(self._in_play)),
            ("to_trail", "Go to the trail", "Ctrl+2", lambda: self.trail.setFocus()),
            ("copy_table", "Copy the chart's figures as a table", "Ctrl+Shift+C", self._copy_table),
            ("copy_picture", "Copy the chart as a picture", "Ctrl+C", self._copy_picture),
            ("dismiss", "Take the cards away", "Ctrl+Backspace", lambda: self.side.cards.clear()),
        ):
            action = QAction(text, self)
            action.setShortcut(QKeySequence(keys))
            action.triggered.connect(lambda _=False, do=do: do())
            self.addAction(action)
            self.actions_by_name[name] = action
        self.actions_by_name["test"].setShortcuts([QKeySequence("Return"), QKeySequence("Enter")])

    def _lay_out(self, theme: Theme) -> None:
        left = QFrame()
        left.setObjectName("trail")
        left.setFixedWidth(TRAIL_WIDTH)
        trail_box = QVBoxLayout(left)
        trail_box.setContentsMargins(0, MARGIN - 2, 0, 0)
        trail_box.setSpacing(6)
        self._trail_heading = label("Trail · one change at a time", "heading")
        self._trail_heading.setContentsMargins(MARGIN, 0, MARGIN, 0)
        self._trail_empty = label(
            "The trail begins with the baseline: stock, measured often enough to know the noise.", "muted", True
        )
        self._trail_empty.setContentsMargins(MARGIN, 0, MARGIN, 0)
        trail_box.addWidget(self._trail_heading)
        trail_box.addWidget(self._trail_empty)
        trail_box.addWidget(self.trail, 1)
        self._trail_space = QWidget()
        trail_box.addWidget(self._trail_space, 1)

        middle = QWidget()
        middle.setObjectName("middle")
        box = QVBoxLayout(middle)
        box.setContentsMargins(MARGIN, MARGIN - 2, MARGIN, 8)
        box.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label("Rulers · drag a marker, or press ← → to propose the next value", "heading"), 1)
        box.addLayout(head)
        box.addWidget(self.rulers)
        box.addSpacing(4)
        chart_head = QHBoxLayout()
        chart_head.setSpacing(2)
        self._benchmarks = QButtonGroup(self)
        for i, benchmark in enumerate(self.session.declaration.benchmarks):
            choice = button(benchmark.name, "flat", f"Chart {benchmark.name}")
            choice.setCheckable(True)
            self._benchmarks.addButton(choice, i)
            chart_head.addWidget(choice)
        chart_head.addStretch(1)
        self._chart_note = label("", "small")
        chart_head.addWidget(self._chart_note)
        box.addLayout(chart_head)
        self._sentence = label("", "strong", wrap=True)
        box.addWidget(self._sentence)
        self._chart_stack = QStackedWidget()
        self._chart_empty = QLabel()
        self._chart_empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._chart_empty.setProperty("role", "muted")
        self._chart_empty.setWordWrap(True)
        self._chart_stack.addWidget(self._chart_empty)
        box.addWidget(self._chart_stack, 1)
        self._axis_words = label("", "small")
        self._axis_words.setAlignment(Qt.AlignmentFlag.AlignRight)
        box.addWidget(self._axis_words)

        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(left)
        whole.addWidget(middle, 1)
        whole.addWidget(self.side)

    def _connect(self) -> None:
        self.rulers.moved.connect(self._propose)
        self.rulers.entered.connect(self._enter)
        self.rulers.step_chosen.connect(self.trail.choose)
        self.trail.chosen.connect(lambda _: self._show_side())
        self.side.inspector.noted.connect(self._keep_note)
        self._benchmarks.idClicked.connect(self._choose_benchmark)

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
        running, session = self.running, self.session
        proposal = session.proposal
        selected = self.trail.selected() if hasattr(self, "trail") else None
        can_back = selected is not None and session.can_go_back(selected)
        for name, enabled in (
            ("test", not running and proposal is not None and session.baseline_step is not None),
            ("baseline", not running),
            ("drop", not running and (proposal is not None or self.rulers.question is not None)),
            ("joint", not running and self._waiting_joint is not None),
            ("stop", running),
            ("pause", self.progress.running),
            ("halt", running),
            ("go_back", not running and can_back),
            ("note", selected is not None),
        ):
            self.actions_by_name[name].setEnabled(enabled)

    def _show_trail(self) -> None:
        rows = self._trail_rows.rows(self._benchmark if self.chart is not None else None, self.progress.step)
        self.trail.show_rows(rows)
        self._trail_empty.setVisible(not rows)
        self.trail.setVisible(bool(rows))
        self._trail_space.setVisible(not rows)

    def _show_rulers(self) -> None:
        marks = self._keep("marks", (), lambda: ruler_marks(self.session))
        chances = self._chances()
        band = list(chances.values()) if chances is not None else None
        self.rulers.show_views(rulers(self.session, marks), self._in_play, self.running, band)

    def _chances(self) -> Chances | None:
        knob, seconds = self._knob(), load_seconds(self.session.check())
        if knob is None:
            return None
        return self._keep("chances", (knob,), lambda: chances_to_hold(self.session, knob, seconds))

    def _keep(self, name: str, key: tuple[object, ...], make: Callable[[], Made]) -> Made:
        """Work something out again only when the steps, the settings in force or its key have changed."""
        whole = (self.session.version, *key)
        kept = self._kept.get(name)
        if kept is None or kept[0] != whole:
            kept = self._kept[name] = (whole, make())
        made: Made = kept[1]
        return made

    def _show_chart(self) -> None:
        knob = self._knob()
        for i, benchmark in enumerate(self.session.declaration.benchmarks):
            choice = self._benchmarks.button(i)
            if choice is not None:
                choice.setChecked(benchmark.id == self._benchmark.id)
        if knob is None:
            self._show_no_chart("This rig has no knob to chart against.")
            return
        if self.chart is None:
            self._show_no_chart("Drawing …")
            return
        view = self._keep("chart", (knob, self._benchmark), lambda: chart(self.session, knob, self._benchmark))
        if not view.points:
            self._show_no_chart("Nothing measured yet.\nEvery later gain is told against the baseline.")
            return
        metric = self._benchmark.metric
        turned = ", lower is better" if metric.direction is Direction.LOWER else ""
        outside = self.chart.outside(view)
        off = f" · {count(outside, 'faint point')} outside" if outside else ""
        self._chart_note.setText(f"{metric.unit}{turned} · bars show 95 % ranges{off}")
        self._sentence.setText(view.sentence)
        self._sentence.show()
        self._axis_words.setText(f"{knob.name}, {knob.unit}" if knob.unit else knob.name)
        self._chart_stack.setCurrentWidget(self.chart)
        self.chart.show_view(view)

    def _show_no_chart(self, words: str) -> None:
        self._chart_empty.setText(words)
        self._chart_stack.setCurrentWidget(self._chart_empty)
        self._sentence.hide()
        self._chart_note.setText("")
        self._axis_words.setText("")
        if self.chart is not None:
            self.chart.show_view(None)

    def _show_side(self) -> None:
        running = self.progress.running
        self.side.next.setVisible(not running)
        self.side.running.setVisible(running)
        selected = self.trail.selected()
        self.side.inspector.show_step(
            step_view(self.session, selected) if selected is not None and not running else None
        )
        if running:
            self._show_progress()
        else:
            self._show_next()
        self._show_actions()
        self.settled.emit()

    def _show_next(self) -> None:
        session = self.session
        wants_baseline = session.baseline_step is None
        view = proposal_view(session, session.check(), self._chances())
        if self.running:
            words = NextWords("Working …", about="The rig is being brought to its settings.")
        elif wants_baseline:
            words = NextWords(
                "Measure stock first",
                about="Every benchmark several times at stock: from their spread follows what difference can be seen at all.",
                rows=check_rows(session, session.check()),
            )
        elif view is None:
            words = NextWords(
                "Propose a step",
                about="Move one marker on a ruler. One step changes one knob, so that its gain can be told.",
            )
        else:
            words = NextWords(view.title, view.change, view.about, view.chance_text, view.rows)
        shown: ProposalView | None = None if self.running else view
        self.side.next.show_words(words, shown, wants_baseline and not self.running)

    def _show_progress(self) -> None:
        position = self.session.position
        home = f" to step {position.step.number}" if position else ""
        self.side.running.show_progress(self.progress, self._expected_s, home, self._paused)

    # -- doing ---------------------------------------------------------------------------------------------------------

    _waiting_joint: tuple[str, float] | None = None

    def _propose(self, knob_id: str, value: float) -> None:
        if self.running:
            self.rulers.ask(knob_id, "A test is running", "Wait for its verdict, or stop it first (Esc).", [])
            return
        self.rulers.drop_question()
        self._waiting_joint = None
        try:
            self.session.propose(knob_id, value)
        except KnownError as error:
            self._ask_about(knob_id, value, error)
            self._show_actions()
            return
        turned, self._in_play = self._in_play != knob_id, knob_id
        self._show_rulers()
        if turned:
            self._show_chart()
        self._show_side()

    def _ask_about(self, knob_id: str, value: float, error: KnownError) -> None:
        proposal = self.session.proposal
        if proposal is None or proposal.value(knob_id) is not None:
            self.rulers.ask(knob_id, error.problem, error.remedy, [])
            return
        self._waiting_joint = (knob_id, value)
        self.rulers.ask(
            knob_id,
            error.problem,
            error.remedy,
            [
                CardAction("Test the first one now  ⏎", self._test, "main"),
                CardAction("Drop it and propose this one", self._replace),
                CardAction("Make it a joint step  J", self._make_joint),
            ],
        )

    def _make_joint(self) -> None:
        if self._waiting_joint is not None:
            knob_id, value = self._waiting_joint
            self._waiting_joint = None
            self.rulers.drop_question()
            self.session.propose(knob_id, value, joint=True)
            self._in_play = knob_id
            self.refresh()

    def _replace(self) -> None:
        if self._waiting_joint is not None:
            knob_id, value = self._waiting_joint
            self.session.drop_proposal()
            self._propose(knob_id, value)

    def _drop(self) -> None:
        if self.rulers.question is not None:
            self.rulers.drop_question()
            self._waiting_joint = None
        else:
            self.session.drop_proposal()
        self.refresh()

    def _test(self) -> None:
        self._order("test", self.session.test)

    def _run_baseline(self) -> None:
        self._order("baseline", self.session.baseline)

    def _order(self, name: str, operation: Callable[[], object]) -> None:
        self.rulers.drop_question()
        self._waiting_joint = None
        self.side.cards.clear()
        self._paused = False
        self._expected_s = expected_seconds(self.session, self.session.check())
        setup = self.session.proposed if name == "test" else self.session.declaration.stock
        self.side.show_running(strips_of(self.session.declaration, setup), self.progress)
        self._bridge.submit(name, operation)

    def run_evening(self, run: Callable[[Callable[[], bool]], None]) -> None:
        """Run the example climb in the worker thread; Esc ends it after the step under way."""
        self._evening = True
        self._order("evening", lambda: run(lambda: not self._evening))
        self.side.cards.put(
            "evening", "Heron's evening is being run",
            "Every step you see is really tested on the simulated rig, as fast as it goes. Then it is yours.",
        )  # fmt: skip

    def _stop(self) -> None:
        self._evening = False
        self.session.stop()

    def _halt(self) -> None:
        self._evening = False
        self.session.emergency_stop()

    def _pause(self) -> None:
        self._paused = not self._paused
        if self._paused:
            self.session.pause()
        else:
            self.session.go_on()
        self._show_side()

    def _go_back(self) -> None:
        selected = self.trail.selected()
        if selected is not None:
            self._order("go back", lambda: self.session.go_back(selected))

    def _note(self) -> None:
        self.side.inspector.write_note()

    def _keep_note(self, number: int, text: str) -> None:
        try:
            self.session.note(number, text)
        except KnownError as error:
            self.side.cards.put("error", error.problem, error.remedy)
        self.refresh()

    def _enter(self, knob_id: str) -> None:
        proposal = self.session.proposal
        if proposal is None and knob_id != self._in_play:
            self._in_play = knob_id
            self._show_rulers()
            self._show_chart()

    def _choose_benchmark(self, i: int) -> None:
        self._benchmark = self.session.declaration.benchmarks[i]
        self._show_trail()
        self._show_chart()

    def _turn_benchmark(self, by: int) -> None:
        all_ = self.session.declaration.benchmarks
        self._choose_benchmark((all_.index(self._benchmark) + by) % len(all_))

    def _copy_table(self) -> None:
        if self.chart is not None:
            QGuiApplication.clipboard().setText(self.chart.table())

    def _copy_picture(self) -> None:
        if self.chart is not None:
            QGuiApplication.clipboard().setPixmap(self.chart.grab())

    def _knob(self) -> Knob | None:
        return next((k for k in self.session.declaration.knobs if k.id == self._in_play), None)

    # -- hearing -------------------------------------------------------------------------------------------------------

    def _take(self, records: list[Record]) -> None:
        telling = False
        for record in records:
            self.progress.take(record)
            telling = telling or isinstance(record, _TELLING)
            if isinstance(record, StepOpened):
                self.side.show_running(strips_of(self.session.declaration, record.step.setup), self.progress)
        if telling:
            self.refresh()
        elif self.progress.running:
            self._show_progress()

    def _done(self, name: str, result: object) -> None:
        self.side.cards.take("evening")
        self._evening = False
        if name in ("test", "baseline", "evening"):
            self._tell_verdict()
        self.refresh()

    def _failed(self, name: str, error: object) -> None:
        self.side.cards.take("evening")
        self._evening = False
        self.progress = Progress(self.session.declaration)
        if isinstance(error, KnownError):
            self.side.cards.put("error", error.problem, error.remedy, [self._dismissal("error")])
        else:
            text = f"{type(error).__name__}: {error}. The details are in the log; the rig was put back."
            self.side.cards.put("error", "A fault of the program", text, [self._dismissal("error")])
        self.refresh()

    def _tell_verdict(self) -> None:
        outcome = self.progress.outcome
        latest = max(self.session.steps, key=lambda r: r.attempts[-1].id if r.attempts else 0, default=None)
        if outcome is None or latest is None:
            return
        view = step_view(self.session, latest.step.number)
        self.side.cards.put(
            "verdict", f"Step {view.number}: {view.verdict}", view.reason, [self._dismissal("verdict")], view.verdict
        )
        self.trail.choose(latest.step.number)

    def _tell_resumed(self) -> None:
        for resumed in self.session.resumed:
            step = resumed.step.step
            where = f"step {resumed.rests_at_step}" if resumed.rests_at_step is not None else "stock"
            read = "read back as set" if resumed.verified else "not confirmed by reading back"
            title = f"Step {step.number} was on trial: {step_title(self.session.declaration, step)}"
            text = f"{resumed.outcome.reason}\n\nThe rig is at {where}, {read}. Nothing was tried again by itself."
            name = f"resumed {step.number}"
            self.side.cards.put(name, title, text, [self._dismissal(name, "Understood")], resumed.outcome.verdict)

    def _dismissal(self, name: str, text: str = "Understood") -> CardAction:
        return CardAction(text, lambda: self.side.cards.take(name))


def _load_figures() -> None:
    """Load what charts and margins need, in the worker thread."""
    import scipy.special  # noqa: F401

    import yondle.desktop.charts.score_chart  # noqa: F401
