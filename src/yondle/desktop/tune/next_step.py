"""The right-hand panel: what comes next, what is running, or what the selected step was about."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QCheckBox, QFrame, QScrollArea, QWidget

from yondle.app.session.progress import Progress
from yondle.desktop.look.basics import Eliding, Whole, button, clear, label
from yondle.desktop.look.cards import Cards
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.theme import HEAD_PX, MARGIN, Theme
from yondle.desktop.tune.inspector import Inspector
from yondle.desktop.tune.parts_line import PartsLine
from yondle.desktop.tune.strips import Strip, StripsView
from yondle.language.saying import say
from yondle.views.tune.proposal import ProposalView

WIDTH, LEAST_WIDTH = 300, 260


@dataclass(frozen=True, slots=True)
class NextWords:
    """What stands under 'Next step': a title, a change, a text, rows, and the label of the main button, if any."""

    title: str
    change: str = ""
    about: str = ""
    chance: str = ""
    warning: str = ""
    rows: tuple[tuple[str, str], ...] = ()


_MOST_PASSES = 50
_BESIDE = 24
"""A value of more letters stands below its name, so that neither cuts the other."""


class Rows(QWidget):
    """Names and values in two columns."""

    def __init__(self) -> None:
        super().__init__()
        self._shown: tuple[tuple[str, str], ...] | None = None
        self._grid = form_rows(self)
        self._grid.setContentsMargins(0, 4, 0, 4)

    def show_rows(self, rows: tuple[tuple[str, str], ...]) -> None:
        """Show other rows."""
        if rows == self._shown:
            return
        self._shown = rows
        clear(self._grid)
        at = 0
        for name, value in rows:
            long = len(value) > _BESIDE
            self._grid.addWidget(Eliding(name, "muted"), at, 0, 1, 2 if long else 1, Qt.AlignmentFlag.AlignTop)
            shown = label(value, "", wrap=long)
            shown.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            at += long
            self._grid.addWidget(shown, at, 0 if long else 1, 1, 2 if long else 1)
            at += 1
        self.setVisible(bool(rows))


class OwnCheck(QWidget):
    """What one test is to have other than usual, folded away: its score passes, and loads it does without.

    `changed` is sent when something else is wanted.
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._loads: dict[str, QCheckBox] = {}
        self._usual = 0
        self.more = button(say("Other passes or loads …"), "flat")
        self.more.setCheckable(True)
        self.more.toggled.connect(self._fold)
        self.passes = Whole()
        self.passes.setRange(2, _MOST_PASSES)
        self.passes.setAccessibleName(say("Score passes of this test"))
        self.passes.setKeyboardTracking(False)
        self.passes.valueChanged.connect(lambda _: self.changed.emit())
        self._inner = QWidget()
        self._inner.hide()
        row = abreast()
        row.addWidget(label(say("Score passes"), "muted"))
        row.addStretch(1)
        row.addWidget(self.passes)
        self._box = stacked(self._inner, 4)
        self._box.addLayout(row)
        box = stacked(self, 4)
        box.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        box.addWidget(self._inner)

    def offer(self, passes: int, loads: dict[str, str]) -> None:
        """Offer the usual passes and loads of a check, by id and name; what is wanted otherwise stays."""
        if passes != self._usual:
            self._usual = passes
            self.passes.blockSignals(True)
            self.passes.setValue(passes)
            self.passes.blockSignals(False)
        if list(loads) == list(self._loads):
            return
        for old in self._loads.values():
            self._box.removeWidget(old)
            old.deleteLater()
        self._loads = {}
        for load, name in loads.items():
            made = QCheckBox(name)
            made.setChecked(True)
            made.toggled.connect(lambda _: self.changed.emit())
            self._loads[load] = made
            self._box.addWidget(made)

    @property
    def wanted(self) -> tuple[int | None, tuple[str, ...]]:
        """Give the passes where they aren't the usual ones, and the loads that are left out."""
        passes = self.passes.value() if self.more.isChecked() and self.passes.value() != self._usual else None
        left_out = (load for load, made in self._loads.items() if self.more.isChecked() and not made.isChecked())
        return passes, tuple(left_out)

    def as_usual(self) -> None:
        """Want nothing but the usual: it goes for one test."""
        self._usual = 0
        for made in self._loads.values():
            made.setChecked(True)
        self.more.setChecked(False)

    def _fold(self, unfolded: bool) -> None:
        self._inner.setVisible(unfolded)
        self.changed.emit()


class NextSection(QWidget):
    """The proposal in words, or what to do when there is none."""

    def __init__(self, test: QAction, baseline: QAction, drop: QAction) -> None:
        super().__init__()
        layout = stacked(self, 4)
        heading = label(say("Next step"), "heading")
        heading.setFixedHeight(HEAD_PX)
        layout.addWidget(heading)
        self.title = label("", "large", wrap=True)
        self.change = label("", "large", wrap=True)
        self.about = label("", "muted", wrap=True)
        self.chance = label("", "strong", wrap=True)
        self.rows = Rows()
        self.warning = label("", "warning", wrap=True)
        self.own = OwnCheck()
        for widget in (self.title, self.change, self.about, self.chance, self.warning, self.rows, self.own):
            layout.addWidget(widget)
        layout.addSpacing(8)
        self._test, self._baseline, self._drop = test, baseline, drop
        self.test_button = button(say("Test this step  ⏎"), "main", say("Test this step"))
        self.test_button.clicked.connect(test.trigger)
        self.baseline_button = button(say("Run the baseline"), "main")
        self.baseline_button.clicked.connect(baseline.trigger)
        self.drop_button = button(say("Drop it  Esc"), "", say("Drop the proposal"))
        self.drop_button.clicked.connect(drop.trigger)
        for made in (self.test_button, self.baseline_button, self.drop_button):
            layout.addWidget(made)

    def show_words(
        self, words: NextWords, proposal: ProposalView | None, wants_baseline: bool, records: bool = False
    ) -> None:
        """Show a state of the panel; `records` where a step isn't tested but told of."""
        self.test_button.setText(say("Record this step  ⏎") if records else say("Test this step  ⏎"))
        self.baseline_button.setText(say("Record stock") if records else say("Run the baseline"))
        self.title.setText(words.title)
        for widget, text in (
            (self.change, words.change),
            (self.about, words.about),
            (self.chance, words.chance),
            (self.warning, words.warning),
        ):
            widget.setText(text)
            widget.setVisible(bool(text))
        self.rows.show_rows(words.rows)
        self.test_button.setVisible(proposal is not None)
        self.drop_button.setVisible(proposal is not None)
        self.own.setVisible(proposal is not None and not records)
        self.baseline_button.setVisible(wants_baseline)


class RunningSection(QWidget):
    """What a running test is at, its strips, and how to stop it."""

    def __init__(self, theme: Theme, pause: QAction, stop: QAction, halt: QAction) -> None:
        super().__init__()
        layout = stacked(self, 4)
        self.heading = label(say("Running"), "heading")
        self.heading.setFixedHeight(HEAD_PX)
        self.doing = Eliding()
        self.left = label("", "small")
        self.parts = PartsLine(theme)
        self.so_far = label("", "strong", wrap=True)
        self.so_far.hide()
        self.strips = StripsView(theme)
        self.pause_button = button(say("Pause  P"), "", say("Pause before the next pass"))
        self.pause_button.clicked.connect(pause.trigger)
        self.stop_button = button(say("Stop and go back  Esc"), "danger", say("Stop and go back"))
        self.stop_button.clicked.connect(stop.trigger)
        self.halt_button = button(say("Emergency stop  Shift+Esc"), "danger", say("Emergency stop"))
        self.halt_button.clicked.connect(halt.trigger)
        for widget in (
            self.heading,
            self.doing,
            self.parts,
            self.left,
            self.so_far,
            self.strips,
        ):
            layout.addWidget(widget)
        layout.addSpacing(8)
        for made in (self.stop_button, self.pause_button, self.halt_button):
            layout.addWidget(made)

    def show_progress(
        self, progress: Progress, expected_s: float, home: str, pause_asked: bool, so_far: str = ""
    ) -> None:
        """Show where the test is, what its passes say so far, and whether it pauses or will before its next pass."""
        self.parts.show_parts(progress.parts)
        self.so_far.setText(so_far)
        self.so_far.setVisible(bool(so_far))
        count = say(" · pass {number} of {of}", number=progress.number, of=progress.of) if progress.of else ""
        self.heading.setText(
            say("Running · step {step}{count}", step=progress.step, count=count) if progress.running else say("Running")
        )
        self.doing.set_text(progress.doing[:1].upper() + progress.doing[1:])
        left = progress.left(expected_s)
        if progress.paused:
            left = say("paused, the load is off")
        elif pause_asked:
            left = say("pauses after this pass")
        self.left.setText(left)
        self.pause_button.setText(say("Go on  P") if pause_asked else say("Pause  P"))
        self.stop_button.setText(say("Stop and go back{home}  Esc", home=home))
        self.strips.take(progress)


class SidePanel(QFrame):
    """The whole panel: cards on top, then next step or running test, then the selected step."""

    def __init__(self, theme: Theme, actions: dict[str, QAction]) -> None:
        super().__init__()
        self.setObjectName("side")
        self.setMinimumWidth(LEAST_WIDTH)
        self.cards = Cards(theme)
        self.next = NextSection(actions["test"], actions["baseline"], actions["drop"])
        self.running = RunningSection(theme, actions["pause"], actions["stop"], actions["halt"])
        self.inspector = Inspector(theme, *(actions[name] for name in ("go_back", "again", "keep", "note")))
        inner = QWidget()
        layout = stacked(inner)
        layout.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        layout.setSpacing(12)
        for widget in (self.cards, self.next, self.running, self.inspector):
            layout.addWidget(widget)
        layout.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inner)
        scroll.viewport().setAutoFillBackground(False)
        inner.setAutoFillBackground(False)
        outer = stacked(self)
        outer.addWidget(scroll)

    def show_running(self, strips: list[Strip]) -> None:
        """Show the running test with these strips."""
        self.running.strips.show_strips(strips)
