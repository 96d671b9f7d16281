"""Forms about what is measured: which benchmarks are run, a figure typed in, a table read from another program."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit

from yondle.desktop.look.basics import Choice, button, label, tip
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say
from yondle.model.workloads import Direction, Workload

SCORES, FRAMES = later("several figures"), later("frame times")
FRAME_UNITS = ("ms", "s", "us")


class BenchmarksCard(Card):
    """Which benchmarks a test runs."""

    chosen = Signal(tuple)

    def __init__(self, theme: Theme, offered: list[Workload], run: set[str], close: Callable[[], None]) -> None:
        super().__init__(theme, say("Benchmarks to run"), say("Every pass of a test runs each of these once."), [])
        self.boxes: dict[str, QCheckBox] = {}
        for work in offered:
            box = QCheckBox(f"{work.name}, {work.metric.unit}" if work.metric.unit else work.name)
            box.setToolTip(tip(work.about))
            box.setChecked(work.id in run)
            self.boxes[work.id] = box
            self.body.addWidget(box)
        keep, leave = button(say("Run these"), "main"), button(say("Leave it"))
        keep.clicked.connect(
            lambda: self.chosen.emit(tuple(name for name, box in self.boxes.items() if box.isChecked()))
        )
        leave.clicked.connect(close)
        self.body.addWidget(keep)
        self.body.addWidget(leave)
        self.keep_button = keep


@dataclass(frozen=True, slots=True)
class TypedFigure:
    """What was filled in on a result card; the figure is still text."""

    benchmark: str
    score: str
    unit: str
    direction: Direction
    preset: str
    passage: str
    note: str


class ResultCard(Card):
    """A figure that was read off a screen, at the settings of one step."""

    typed = Signal(object)

    def __init__(self, theme: Theme, step: int, last: Workload | None, close: Callable[[], None]) -> None:
        title = say("A figure measured at step {step}", step=step)
        super().__init__(theme, title, say("After a game or another program. Its gain is told like any other."), [])
        self.fields: dict[str, QLineEdit] = {}
        grid = form_rows()
        rows = (
            ("benchmark", say("Benchmark"), last.name if last else ""), ("score", say("Figure"), ""),
            ("unit", say("Unit"), last.metric.unit if last else "frames/s"), ("preset", say("Preset"), ""),
            ("passage", say("Passage"), ""), ("note", say("Note"), ""),
        )  # fmt: skip
        for i, (key, name, value) in enumerate(rows):
            grid.addWidget(label(name, "muted"), i, 0)
            field = QLineEdit(value)
            field.setAccessibleName(name)
            self.fields[key] = field
            grid.addWidget(field, i, 1)
        self.direction = Choice([named(each) for each in Direction], say("Which way is better"))
        if last is not None:
            self.direction.setCurrentText(named(last.metric.direction))
        grid.addWidget(self.direction, len(rows), 1)
        self.body.addLayout(grid)
        self.keep_button, leave = button(say("Keep it"), "main"), button(say("Leave it"))
        self.keep_button.clicked.connect(self._tell)
        self.fields["score"].returnPressed.connect(self._tell)
        leave.clicked.connect(close)
        self.body.addWidget(self.keep_button)
        self.body.addWidget(leave)

    def _tell(self) -> None:
        texts = {key: field.text().strip() for key, field in self.fields.items()}
        self.typed.emit(TypedFigure(direction=tuple(Direction)[self.direction.currentIndex()], **texts))


@dataclass(frozen=True, slots=True)
class TableChoice:
    """How a table is to be read: what it holds, its columns, those left out knowingly, unit and decimal sign."""

    frames: bool
    benchmark: str
    column: str
    unit: str
    direction: Direction
    stamps: bool
    decimal_comma: bool
    left: tuple[str, ...] = ()


class TableCard(Card):
    """A table of another program: what it holds, and which column is which."""

    told = Signal(object)

    def __init__(self, theme: Theme, step: int, name: str, columns: tuple[str, ...], close: Callable[[], None]) -> None:
        super().__init__(
            theme,
            say("{name} at step {step}", name=name, step=step),
            say("Nothing is guessed: say what it holds and in which unit."),
            [],
        )
        self.kind = Choice([named(SCORES), named(FRAMES)], say("What it holds"))
        self.names, self.figures = Choice(list(columns), say("Names")), Choice(list(columns), say("Figures"))
        self.figures.setCurrentIndex(min(1, len(columns) - 1))
        self.benchmark, self.unit = QLineEdit(), QLineEdit()
        self.benchmark.setAccessibleName(say("Benchmark"))
        self.unit.setAccessibleName(say("Unit"))
        self.frame_unit = Choice(list(FRAME_UNITS), say("Unit of the frame times"))
        self.direction = Choice([named(each) for each in Direction], say("Which way is better"))
        self.stamps = QCheckBox(say("are points in time"))
        self.stamps.setToolTip(say("points in time, not durations"))
        self.comma = QCheckBox(say("decimal comma"))
        self._columns = columns
        self.others_left = QCheckBox(say("are no settings"))
        self.others_left.setToolTip(", ".join(columns))
        grid = form_rows()
        self._rows = []
        for i, (words, field, when) in enumerate(
            (
                (say("Holds"), self.kind, None), (say("Names in"), self.names, False), (say("Benchmark"), self.benchmark, True),
                (say("Figures in"), self.figures, None), (say("Unit"), self.unit, False), (say("Unit"), self.frame_unit, True),
                ("", self.direction, False), (say("Times"), self.stamps, True), ("", self.comma, None),
                *(((say("Others"), self.others_left, False),) if len(columns) > 2 else ()),
            )
        ):  # fmt: skip
            shown = label(words, "muted")
            grid.addWidget(shown, i, 0)
            grid.addWidget(field, i, 1)
            self._rows.append((shown, field, when))
        grid.setColumnStretch(1, 1)
        self.body.addLayout(grid)
        self.read_button, leave = button(say("Read it"), "main"), button(say("Leave it"))
        self.read_button.clicked.connect(self._tell)
        leave.clicked.connect(close)
        self.body.addWidget(self.read_button)
        self.body.addWidget(leave)
        self.kind.currentIndexChanged.connect(self._show_rows)
        self._show_rows()

    def _show_rows(self) -> None:
        frames = self.kind.currentIndex() == 1
        for shown, field, when in self._rows:
            for widget in (shown, field):
                widget.setVisible(when is None or when is frames)

    def _tell(self) -> None:
        frames = self.kind.currentIndex() == 1
        told_of = (self.names.currentText(), self.figures.currentText())
        left = tuple(c for c in self._columns if c not in told_of) if self.others_left.isChecked() else ()
        self.told.emit(
            TableChoice(
                frames,
                self.benchmark.text().strip() if frames else self.names.currentText(),
                self.figures.currentText(),
                self.frame_unit.currentText() if frames else self.unit.text().strip(),
                tuple(Direction)[self.direction.currentIndex()],
                self.stamps.isChecked(),
                self.comma.isChecked(),
                left,
            )
        )
