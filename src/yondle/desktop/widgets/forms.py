"""Small forms on cards: values to enter by hand and the answer after the restart, own limits, a sweep, a profile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QDoubleSpinBox, QGridLayout, QHBoxLayout, QLineEdit, QSpinBox

from yondle.desktop.theme import Theme
from yondle.desktop.widgets.basics import Choice, button, label
from yondle.desktop.widgets.cards import Card
from yondle.language.saying import CONDITION, in_sentence, named, say
from yondle.model.knobs import Knob
from yondle.model.profiles import Purpose
from yondle.model.sensors import Channel
from yondle.model.steps import StartAnswer
from yondle.model.verdicts import Failure
from yondle.planning.plans import SweepOrder

FIELD_WIDTH = 96
UNTIL_IT_FAILS, IN_ROUNDS = say("until it fails"), say("in rounds")


@dataclass(frozen=True, slots=True)
class Entry:
    """One value to be entered: the knob's name, the value, and what stands there now."""

    name: str
    value: str
    now: str


class EntryCard(Card):
    """What to enter in firmware setup, and, once the machine has restarted, how it started."""

    answered = Signal(object)
    dropped = Signal()

    def __init__(self, theme: Theme, title: str, text: str, entries: list[Entry], go_on: str, asks: bool) -> None:
        super().__init__(theme, title, text, [])
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(3)
        for i, entry in enumerate(entries):
            grid.addWidget(label(entry.name, "", wrap=True), i, 0)
            value = label(entry.value, "large")
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(value, i, 1)
            was = label(say("now {now}", now=entry.now), "small")
            grid.addWidget(was, i, 2)
        grid.setColumnStretch(0, 1)
        self.body.addLayout(grid)
        self.go_on_button = button(go_on, "main")
        self.go_on_button.clicked.connect(lambda: self.answered.emit(None if not asks else StartAnswer()))
        self.body.addWidget(self.go_on_button)
        self.stopped_button = button(say("It didn't start"))
        self.stopped_button.setVisible(asks)
        self.stopped_button.clicked.connect(self._ask_where)
        self.body.addWidget(self.stopped_button)
        self.where = QLineEdit()
        self.where.setPlaceholderText(say("Where it stopped, if it showed that"))
        self.where.setAccessibleName(say("Where it stopped"))
        self.code = QLineEdit()
        self.code.setPlaceholderText(say("The code the board showed"))
        self.code.setAccessibleName(say("Code"))
        self.keep_button = button(say("Keep this answer"), "main")
        self.keep_button.clicked.connect(self._tell_where)
        for widget in (self.where, self.code, self.keep_button):
            widget.hide()
            self.body.addWidget(widget)
        self.drop_button = button(say("Drop this step"))
        self.drop_button.clicked.connect(self.dropped)
        self.body.addWidget(self.drop_button)

    def _ask_where(self) -> None:
        for widget in (self.where, self.code, self.keep_button):
            widget.show()
        self.stopped_button.hide()
        self.go_on_button.hide()
        self.where.setFocus()

    def _tell_where(self) -> None:
        where, code = self.where.text().strip(), self.code.text().strip()
        failure = Failure.STOPPED_IN_START if where or code else Failure.NEVER_STARTED
        self.answered.emit(StartAnswer(failure, where, code))


class RangeCard(Card):
    """The tuner's own limits on one knob."""

    chosen = Signal(object, object)

    def __init__(self, theme: Theme, knob: Knob, low: float, high: float, close: Callable[[], None]) -> None:
        super().__init__(
            theme,
            say("Your own limits for {knob}", knob=in_sentence(knob.name)),
            say("What lies beyond can't be proposed until you change this."),
            [],
        )
        self._knob = knob
        self.low, self.high = value_box(knob, low, say("Lowest")), value_box(knob, high, say("Highest"))
        row = QHBoxLayout()
        for name, box in ((say("lowest"), self.low), (say("highest"), self.high)):
            row.addWidget(label(name, "muted"))
            row.addWidget(box)
        set_, whole, leave = button(say("Set"), "main"), button(say("Whole range")), button(say("Leave it"))
        set_.clicked.connect(lambda: self.chosen.emit(self.low.value(), self.high.value()))
        whole.clicked.connect(lambda: self.chosen.emit(None, None))
        leave.clicked.connect(close)
        row.addStretch(1)
        for made in (set_, whole, leave):
            row.addWidget(made)
        self.body.addLayout(row)
        self.set_button = set_


class SensorLimitsCard(Card):
    """The readings above which a test is stopped."""

    chosen = Signal(str, object)

    def __init__(self, theme: Theme, rows: list[tuple[Channel, float | None]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("Stop a test above"), say("A reading beyond its limit ends the test and puts the rig back."), []
        )
        grid = QGridLayout()
        grid.setVerticalSpacing(4)
        self.boxes: dict[str, QDoubleSpinBox] = {}
        for i, (channel, most) in enumerate(rows):
            box = QDoubleSpinBox()
            box.setRange(0.0, 9999.0)
            box.setDecimals(2 if channel.digits == 3 else 0)
            box.setSingleStep(0.01 if channel.digits == 3 else 1.0)
            box.setSpecialValueText(say("no limit"))
            box.setSuffix(f" {channel.unit}")
            box.setValue(most or 0.0)
            box.setKeyboardTracking(False)
            box.setAccessibleName(say("Limit of {channel}", channel=channel.name))
            box.valueChanged.connect(lambda value, c=channel.id: self.chosen.emit(c, value or None))
            self.boxes[channel.id] = box
            grid.addWidget(label(channel.name, "", wrap=True), i, 0)
            grid.addWidget(box, i, 1)
        grid.setColumnStretch(0, 1)
        self.body.addLayout(grid)
        done = button(say("Done"), "main")
        done.clicked.connect(close)
        self.body.addWidget(done)


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
        self.by = QDoubleSpinBox()
        self.by.setDecimals(knob.digits)
        self.by.setRange(knob.step, max(knob.step, knob.high - knob.low))
        self.by.setSingleStep(knob.step)
        self.by.setSuffix(f" {knob.unit}" if knob.unit else "")
        self.by.setValue(max(1, round((high - low) / knob.step / 4)) * knob.step)
        self.by.setAccessibleName(say("By"))
        self.passes = QSpinBox()
        self.passes.setRange(2, 200)
        self.passes.setValue(passes)
        self.passes.setAccessibleName(say("Passes"))
        self.order = Choice([*(named(order) for order in SweepOrder), IN_ROUNDS, UNTIL_IT_FAILS], say("Order"))
        grid = QGridLayout()
        grid.setVerticalSpacing(4)
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
        self.order.currentTextChanged.connect(self._turn)

    @property
    def until_it_fails(self) -> bool:
        """Tell whether it climbs from where the rig is until it fails."""
        return self.order.currentText() == UNTIL_IT_FAILS

    def values(self) -> tuple[float, float, float, int, SweepOrder | None]:
        """Give from, to, by, passes and order; a climb, and a sweep in rounds, have none."""
        chosen = self.order.currentText()
        order = tuple(SweepOrder)[self.order.currentIndex()] if chosen not in (UNTIL_IT_FAILS, IN_ROUNDS) else None
        return self.low.value(), self.high.value(), self.by.value(), self.passes.value(), order

    def _turn(self, order: str) -> None:
        self.low.setEnabled(order != UNTIL_IT_FAILS)
        self.changed.emit()

    def tell(self, words: str, can_run: bool) -> None:
        """Say what it would take, or what is wrong."""
        self.told.setText(words)
        self.run_button.setEnabled(can_run)


class ProfileCard(Card):
    """A name and a purpose for a setup that held."""

    wanted = Signal(str, object, str)

    def __init__(self, theme: Theme, title: str, benchmarks: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(theme, title, say("Every knob and timing of it is kept."), [])
        self.name = QLineEdit()
        self.name.setPlaceholderText(say("Name, for example Quiet night"))
        self.name.setAccessibleName(say("Profile name"))
        self.purpose = Choice([named(p) for p in Purpose], say("Purpose"))
        self.benchmark = Choice([], say("Benchmark"))
        for id_, shown in benchmarks:
            self.benchmark.addItem(shown, id_)
        self.benchmark.hide()
        self.purpose.currentTextChanged.connect(
            lambda text: self.benchmark.setVisible(text == named(Purpose.BENCHMARK))
        )
        keep, leave = button(say("Keep it"), "main"), button(say("Leave it"))
        keep.clicked.connect(self._keep)
        leave.clicked.connect(close)
        self.keep_button = keep
        self.name.returnPressed.connect(self._keep)
        for widget in (self.name, self.purpose, self.benchmark, keep, leave):
            self.body.addWidget(widget)

    def suggest(self, purpose: Purpose, benchmark: str) -> None:
        """Choose a purpose, and the benchmark where it is one's best."""
        self.purpose.setCurrentText(named(purpose))
        if purpose is Purpose.BENCHMARK:
            self.benchmark.setCurrentIndex(self.benchmark.findData(benchmark))

    def _keep(self) -> None:
        purpose = tuple(Purpose)[self.purpose.currentIndex()]
        benchmark = str(self.benchmark.currentData()) if purpose is Purpose.BENCHMARK else ""
        self.wanted.emit(self.name.text(), purpose, benchmark)


class ReferenceCard(Card):
    """Scores from elsewhere to compare with."""

    told = Signal(str, str, str)

    def __init__(self, theme: Theme, benchmarks: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("A reference"), say("Scores from elsewhere; more under the same name join them."), []
        )
        self.name, self.scores = QLineEdit(), QLineEdit()
        for field, words in ((self.name, say("Name")), (self.scores, say("Scores, with spaces between"))):
            field.setPlaceholderText(words)
            field.setAccessibleName(words)
        self.benchmark = Choice([], say("Benchmark"))
        for id_, shown in benchmarks:
            self.benchmark.addItem(shown, id_)
        keep, leave = button(say("Keep it"), "main"), button(say("Leave it"))
        keep.clicked.connect(
            lambda: self.told.emit(self.name.text(), str(self.benchmark.currentData()), self.scores.text())
        )
        leave.clicked.connect(close)
        self.keep_button = keep
        for widget in (self.name, self.benchmark, self.scores, keep, leave):
            self.body.addWidget(widget)


class ConditionsCard(Card):
    """What the rig can't find out by itself, asked once."""

    told = Signal(dict)

    def __init__(self, theme: Theme, rows: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("Conditions"), say("Kept with every test from now on. Leave empty what you don't know."), []
        )
        self.fields: dict[str, QLineEdit] = {}
        for name, value in rows:
            self.body.addWidget(label(named(name, CONDITION), "small"))
            field = QLineEdit(value)
            field.setAccessibleName(named(name, CONDITION))
            self.fields[name] = field
            self.body.addWidget(field)
        keep, leave = button(say("Keep"), "main"), button(say("Leave it"))
        keep.clicked.connect(lambda: self.told.emit({name: field.text() for name, field in self.fields.items()}))
        leave.clicked.connect(close)
        self.body.addWidget(keep)
        self.body.addWidget(leave)


def value_box(knob: Knob, value: float, name: str) -> QDoubleSpinBox:
    """Make a field for a value of a knob, on its grid; the names of choices are shown instead of their numbers."""
    box = _ChoiceBox(knob) if knob.choices else QDoubleSpinBox()
    box.setRange(knob.low, knob.high)
    box.setSingleStep(knob.step)
    box.setDecimals(knob.digits)
    if knob.unit and not knob.choices:
        box.setSuffix(f" {knob.unit}")
    box.setValue(value)
    box.setMinimumWidth(FIELD_WIDTH)
    box.setKeyboardTracking(False)
    box.setAccessibleName(name)
    return box


class _ChoiceBox(QDoubleSpinBox):
    """Shows a choice by its name."""

    def __init__(self, knob: Knob) -> None:
        super().__init__()
        self._knob = knob
        line = self.lineEdit()
        if line is not None:
            line.setReadOnly(True)

    def textFromValue(self, val: float) -> str:
        """Give the name of a choice."""
        return self._knob.text(val)
