"""The form of a goal: what is wanted of which benchmark, and, folded, its standard, its price of a crash, target and knobs."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QDoubleSpinBox, QListWidget, QListWidgetItem, QWidget

from yondle.analysis.stability import Standard
from yondle.desktop.look.basics import Choice, Number, button, label
from yondle.desktop.look.layouts import form_rows, stacked
from yondle.desktop.tune.fields import FIELD_WIDTH
from yondle.language.saying import later, named, say
from yondle.model.knobs import Knob, When
from yondle.model.rigs import RigDeclaration
from yondle.planning.edge_search import Style
from yondle.planning.goals.goal import Goal, Kind, reach

KINDS = {
    Kind.SCORE: later("highest score"),
    Kind.TRADE: later("most score per watt"),
    Kind.QUIET: later("quietest"),
    Kind.COOL: later("coolest"),
    Kind.MATTERS: later("what matters"),
}
_LIST_PX, _MOST_SCORE = 150, 1e9


class GoalForm(QWidget):
    """Fields of a goal; `changed` tells that it is another one now."""

    changed = Signal()

    def __init__(self, declaration: RigDeclaration, goal: Goal) -> None:
        super().__init__()
        self._declaration, self._goal = declaration, goal
        self._choices = _choices(declaration, [w.id for w in declaration.benchmarks if not w.by_hand])
        self.kind = Choice([named(KINDS[kind]) for kind in Kind], say("Goal"))
        self.kind.setCurrentIndex(list(Kind).index(goal.kind))
        self.benchmark = Choice([name for name, _ in self._choices], say("Benchmark"))
        wanted = sorted(name for name, _ in goal.benchmarks)
        chosen = (i for i, (_, names) in enumerate(self._choices) if sorted(names) == wanted)
        self.benchmark.setCurrentIndex(next(chosen, 0))
        self.loss = _box(0.0, 50.0, 0.5, 100.0 * goal.loss, " %", say("Score it may cost"))
        self.hours = _box(0.5, 100.0, 0.5, goal.hours, " h", say("Hours a climb may take"))
        self.standard = Choice([named(s) for s in Standard], say("Standard"))
        self.standard.setCurrentIndex(list(Standard).index(goal.standard))
        self.crashes = Choice([named(s) for s in Style], say("Style"))
        self.crashes.setCurrentIndex(list(Style).index(goal.style))
        self.target = _box(0.0, _MOST_SCORE, 10.0, goal.target or 0.0, "", say("Score to end at"))
        self.target.setSpecialValueText(say("none"))
        self.restarts, self.hands = QCheckBox(say("knobs that take a restart")), QCheckBox(say("knobs set by hand"))
        self.restarts.setChecked(goal.restarts)
        self.hands.setChecked(goal.hands)
        self.knobs = QListWidget()
        self.knobs.setAccessibleName(say("Knobs it may touch"))
        self.knobs.setMaximumHeight(_LIST_PX)
        self.knobs.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.more = button(say("More …"))
        self.more.setCheckable(True)
        self._folded = QWidget()
        self._lay_out()
        self._fill_knobs()
        opened = goal.standard is not Standard.DAILY or goal.style is not Style.EVEN or goal.target or goal.knobs
        self.more.setChecked(bool(opened))
        self._show_fields()
        self._connect()

    def goal(self) -> Goal:
        """Give the goal as it is chosen."""
        _, names = self._choices[self.benchmark.currentIndex()]
        same = sorted(names) == sorted(name for name, _ in self._goal.benchmarks)
        ticked = [item for item in self._items if item.checkState() is Qt.CheckState.Checked]
        all_ = len(ticked) == len(self._items)
        return replace(
            self._goal, kind=self._kind, benchmarks=self._goal.benchmarks if same else tuple((n, 1.0) for n in names),
            loss=self.loss.value() / 100.0, hours=self.hours.value(), standard=list(Standard)[self.standard.currentIndex()],
            style=list(Style)[self.crashes.currentIndex()], target=(self.target.value() or None) if self._has_target else None,
            knobs=() if all_ else tuple(item.data(Qt.ItemDataRole.UserRole) for item in ticked),
            restarts=self.restarts.isChecked(), hands=self.hands.isChecked(),
        )  # fmt: skip

    @property
    def nothing_to_touch(self) -> bool:
        """Tell whether no knob is ticked, which no goal can say: one that names none may touch all."""
        return bool(self._items) and all(i.checkState() is not Qt.CheckState.Checked for i in self._items)

    @property
    def _items(self) -> list[QListWidgetItem]:
        return [self.knobs.item(row) for row in range(self.knobs.count())]

    @property
    def _kind(self) -> Kind:
        return list(Kind)[self.kind.currentIndex()]

    @property
    def _has_target(self) -> bool:
        return self._kind is Kind.SCORE and len(self._choices[self.benchmark.currentIndex()][1]) == 1

    def _lay_out(self) -> None:
        rows, box = form_rows(), stacked(self)
        folded = form_rows(self._folded)
        self._loss_label, self._target_label = label(say("may cost"), "muted"), label(say("ends at"), "muted")
        first = (
            (label(say("goal"), "muted"), self.kind), (label(say("of"), "muted"), self.benchmark), (self._loss_label, self.loss),
            (label(say("a climb"), "muted"), self.hours),
        )  # fmt: skip
        second = (
            (label(say("standard"), "muted"), self.standard), (label(say("crashes"), "muted"), self.crashes),
            (self._target_label, self.target), (label(say("touches"), "muted"), self.knobs),
        )  # fmt: skip
        widest = max(words.sizeHint().width() for words, _ in (*first, *second))
        for grid, fields in ((rows, first), (folded, second)):
            grid.setColumnMinimumWidth(0, widest)
            grid.setColumnStretch(1, 1)
            for i, (words, field) in enumerate(fields):
                grid.addWidget(words, i, 0, Qt.AlignmentFlag.AlignTop if field is self.knobs else Qt.AlignmentFlag(0))
                grid.addWidget(field, i, 1)
        box.addLayout(rows)
        for each in (self.restarts, self.hands, self.more, self._folded):
            box.addWidget(each)

    def _fill_knobs(self) -> None:
        """List what may be touched in the ways that are allowed; what was ticked stays ticked."""
        before = {item.data(Qt.ItemDataRole.UserRole): item.checkState() for item in self._items}
        allowed = replace(self._goal, knobs=(), restarts=self.restarts.isChecked(), hands=self.hands.isChecked())
        self.knobs.blockSignals(True)
        self.knobs.clear()
        for knob in allowed.movable(self._declaration):
            item = QListWidgetItem(knob.name)
            item.setToolTip(knob.name)
            item.setData(Qt.ItemDataRole.UserRole, knob.id)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsSelectable)
            named_ = not self._goal.knobs or knob.id in self._goal.knobs
            item.setCheckState(before.get(knob.id, Qt.CheckState.Checked if named_ else Qt.CheckState.Unchecked))
            self.knobs.addItem(item)
        self.knobs.blockSignals(False)

    def _connect(self) -> None:
        for choice in (self.kind, self.benchmark, self.standard, self.crashes):
            choice.currentIndexChanged.connect(self._turn)
        for box in (self.loss, self.hours, self.target):
            box.valueChanged.connect(self._turn)
        for tick in (self.restarts, self.hands):
            tick.toggled.connect(self._fill_knobs)
            tick.toggled.connect(self._turn)
        self.knobs.itemChanged.connect(self._turn)
        self.more.toggled.connect(self._show_fields)

    def _show_fields(self) -> None:
        """Show the fields that this kind of goal has, and of ways to set knobs those this rig has."""
        whens = {knob.when for knob in self._declaration.knobs if _can_move(self._declaration, knob)}
        self.restarts.setVisible(When.RESTART in whens)
        self.hands.setVisible(bool(whens & {When.BY_HAND, When.AT_HAND}))
        for field in (self._loss_label, self.loss):
            field.setVisible(self._kind in (Kind.QUIET, Kind.COOL))
        for field in (self._target_label, self.target):
            field.setVisible(self._has_target)
        self._folded.setVisible(self.more.isChecked())
        self.more.setText(say("Less") if self.more.isChecked() else say("More …"))

    def _turn(self) -> None:
        self._show_fields()
        self.changed.emit()


def _can_move(declaration: RigDeclaration, knob: Knob) -> bool:
    return len(reach(declaration, knob)) > 1


def _box(low: float, high: float, step: float, value: float, suffix: str, name: str) -> QDoubleSpinBox:
    made = Number()
    made.setRange(low, high)
    made.setSingleStep(step)
    made.setDecimals(1)
    made.setValue(value)
    made.setSuffix(suffix)
    made.setMinimumWidth(FIELD_WIDTH)
    made.setAccessibleName(name)
    return made


def _choices(declaration: RigDeclaration, benchmarks: list[str]) -> list[tuple[str, list[str]]]:
    """Give what a goal may be of: all benchmarks alike, those of a part where it has several, and each by itself."""
    works = [declaration.workload(name) for name in benchmarks]
    parts = dict.fromkeys(work.subsystem for work in works)
    groups = [(part, [w.id for w in works if w.subsystem is part]) for part in parts]
    told = [(say("all of {part}", part=named(part)), ids) for part, ids in groups if 1 < len(ids) < len(works)]
    return [(say("all benchmarks alike"), benchmarks), *told, *((work.name, [work.id]) for work in works)]
