"""The first page: nothing is open yet; what to start with."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QLineEdit,
    QScrollArea,
    QSizePolicy,
    QWidget,
)

from yondle.desktop.look.basics import button, label, tip
from yondle.desktop.look.cards import Cards
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.side import AsHighAsItsWords
from yondle.desktop.look.theme import Theme
from yondle.language.saying import say

if TYPE_CHECKING:
    from yondle.app.machine.before import Beforehand

MOST_RECENT, _PICTURE_PX = 6, 52


class FirstPage(QWidget):
    """Offers the simulated rig, this machine, one across the room, and the logbooks there are."""

    wants_demo = Signal()
    wants_this = Signal()
    wants_bench = Signal(str)
    wants_elsewhere = Signal(str)
    wants_file = Signal(object)

    def __init__(self, theme: Theme, recent: list[Path]) -> None:
        super().__init__()
        self.setObjectName("page")
        self._theme = theme
        column = AsHighAsItsWords()
        column.setMaximumWidth(1040)
        box = stacked(column)
        box.setContentsMargins(24, 28, 24, 16)
        box.addWidget(label(say("A logbook for tuning"), "large"))
        box.addWidget(
            label(
                say("Change one thing, test it, write it down. Yondle keeps the trail of every step, tells a gain from "
                "noise, and puts the machine back when a setting fails."),
                "", wrap=True,
            )
        )  # fmt: skip
        box.addSpacing(8)
        self.cards = Cards(theme)
        box.addWidget(self.cards)
        choices, others = abreast(), abreast()
        for row in (choices, others):
            row.setSpacing(12)
        self.demo_button = button(say("Open Heron's logbook"), "main")
        self.this_button = button(say("Start a logbook"))
        self.picture = QWidget()
        self.picture.setFixedHeight(_PICTURE_PX)
        self.picture.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.here = label(" ", "small", wrap=True)
        for title, text, parts in (
            (
                say("Heron, a simulated PC"),
                say("Learn the work where nothing can break: an evening's climb to look at and go on with."),
                (self.picture, self.demo_button),
            ),
            (
                say("This machine"),
                say("Real benchmarks on the machine Yondle runs on, without any privilege."),
                (self.here, self.this_button),
            ),
        ):
            choices.addWidget(_choice(title, text, *parts), 1)
        self.address = QLineEdit()
        self.address.setPlaceholderText(say("user@host"))
        self.address.setAccessibleName(say("Where the machine is"))
        self.bench_button = button(say("Start a logbook"), "", say("Start a logbook of a machine across the room"))
        self.bench_button.clicked.connect(self._want_bench)
        self.address.returnPressed.connect(self._want_bench)
        across = say("Tuned from here over SSH: should it freeze, the record doesn't.")
        others.addWidget(_choice(say("Across the room"), across, self.address, self.bench_button), 1)
        self.elsewhere = QLineEdit()
        self.elsewhere.setPlaceholderText(say("what it is called"))
        self.elsewhere.setAccessibleName(say("What the machine is called"))
        self.elsewhere_button = button(
            say("Start a logbook"), "", say("Start a logbook of a machine that runs no Yondle")
        )
        self.elsewhere_button.clicked.connect(self._want_elsewhere)
        self.elsewhere.returnPressed.connect(self._want_elsewhere)
        told = say("A machine that runs no Yondle: its figures come from tables, or are typed in.")
        others.addWidget(_choice(say("Elsewhere"), told, self.elsewhere, self.elsewhere_button), 1)
        box.addLayout(choices)
        box.addSpacing(4)
        box.addLayout(others)
        box.addSpacing(8)
        box.addWidget(label(say("Logbooks on this machine"), "heading"))
        for path in recent[:MOST_RECENT]:
            made = button(f"{path.stem}  ·  {path.parent}", "row", say("Open {stem}", stem=path.stem))
            made.clicked.connect(lambda _=False, path=path: self.wants_file.emit(path))
            box.addWidget(made)
        if not recent:
            box.addWidget(label(say("None yet."), "muted"))
        self.open_button = button(say("Open a file …  Ctrl+O"), "", say("Open a file"))
        self.open_button.clicked.connect(self.ask_for_file)
        box.addWidget(self.open_button, 0, Qt.AlignmentFlag.AlignLeft)
        box.addStretch(1)
        self.demo_button.clicked.connect(self.wants_demo)
        self.this_button.clicked.connect(self.wants_this)
        inner = QWidget()
        along = abreast(inner)
        along.addStretch(1)
        along.addWidget(column, 10)
        along.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inner)
        outer = stacked(self)
        outer.addWidget(area)

    def show_beforehand(self, told: Beforehand) -> None:
        """Show one of Heron's rulers, which can be moved already, and what this machine offers and lacks."""
        from yondle.desktop.tune.ruler import Ruler
        from yondle.views.tune.rulers import RulerView

        ruler = Ruler(self._theme)

        def show(value: float | None) -> None:
            view = RulerView(told.knob, told.knob.stock, value, None, told.ceiling, ())
            ruler.show_view(view, True, False, None)

        ruler.moved.connect(lambda _, value: show(None if value == told.knob.stock else value))
        show(None)
        box = stacked(self.picture)
        box.addWidget(ruler)
        self.here.setText(told.words)
        self.here.setToolTip(tip("\n".join(told.missing)))

    def _want_bench(self) -> None:
        if self.address.text().strip():
            self.wants_bench.emit(self.address.text())
        else:
            self.address.setFocus()

    def _want_elsewhere(self) -> None:
        if self.elsewhere.text().strip():
            self.wants_elsewhere.emit(self.elsewhere.text())
        else:
            self.elsewhere.setFocus()

    def ask_for_file(self) -> None:
        """Let the tuner choose a file."""
        path = ask_for_book(self)
        if path is not None:
            self.wants_file.emit(path)


def ask_for_book(parent: QWidget) -> Path | None:
    """Let the tuner choose a logbook; None where none was chosen."""
    name, _ = QFileDialog.getOpenFileName(parent, say("Open a logbook"), "", say("Logbooks (*.yondle);;All files (*)"))
    return Path(name) if name else None


def _choice(title: str, text: str, *made: QWidget) -> QFrame:
    frame = QFrame()
    frame.setObjectName("card")
    frame.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    box = stacked(frame)
    box.setContentsMargins(16, 12, 16, 12)
    box.addWidget(label(title, "title"))
    about = label(text, "muted", wrap=True)
    about.setAlignment(Qt.AlignmentFlag.AlignTop)
    box.addWidget(about, 1)
    for each in made:
        box.addWidget(each)
    return frame
