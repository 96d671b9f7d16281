"""The page of preferences: how steps of the open logbook are tested, and what goes for Yondle everywhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QCheckBox,
    QDoubleSpinBox,
    QGridLayout,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from yondle.app.session.limits import ChangeHowTested
from yondle.app.system.folders import data_folder
from yondle.app.system.preferences import Preferences, keep_preferences, preferences, preferences_file
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, Eliding, Number, Whole, button, label
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.theme import MARGIN, Theme
from yondle.formats.documents import HowTested
from yondle.language.saying import languages, later, named, say
from yondle.model.errors import KnownError

WIDTH, _NAMES_PX, _FIELD_PX = 620, 200, 340
_SCHEMES = (("", later("as the desktop has it")), ("paper", later("paper")), ("night", later("night")))
_NAMES = {"en": "English", "de": "Deutsch"}
_DEGREES = (("", "°C"), ("F", "°F"))
_MOST_PASSES, _MOST_MINUTES = 50, 600.0
_SAME_S = 3.5
"""A load shown to a tenth of a minute is the usual one where it is no further from it: then none is kept."""
_ELSEWHERE = ("benchmarks", "sensors", "conditions", "own")
"""What is changed on cards of Tune, and only led to from here."""


class PreferencesPage(QWidget):
    """Everything is kept as it is changed. `left` is sent when it is done with, `wanted` with a command of Tune to go on with."""

    left = Signal()
    wanted = Signal(str)

    def __init__(self, theme: Theme, book: OpenBook | None, commands: dict[str, QAction]) -> None:
        super().__init__()
        self.setObjectName("page")
        self._theme, self._book = theme, book
        self._loads: dict[str, QDoubleSpinBox] = {}
        self._told_s: dict[str, float] = {}
        self.trouble = label("", "warning", wrap=True)
        self.trouble.hide()
        column = QWidget()
        column.setMaximumWidth(WIDTH)
        box = stacked(column)
        box.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        head = abreast()
        head.addWidget(label(say("Preferences"), "large"), 1)
        done = button(say("Done  Esc"), "main", say("Done"))
        done.clicked.connect(self.left)
        head.addWidget(done)
        box.addLayout(head)
        box.addWidget(self.trouble)
        if book is not None and not book.now.elsewhere:
            self._add_testing(box, book, commands)
        self._add_everywhere(box)
        box.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        along = abreast(inner)
        along.addStretch(1)
        along.addWidget(column, 20)
        along.addStretch(1)
        area.setWidget(inner)
        outer = stacked(self)
        outer.addWidget(area)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves, unless something runs that it stops."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    # -- the open logbook ----------------------------------------------------------------------------------------------

    def _add_testing(self, box: QVBoxLayout, book: OpenBook, commands: dict[str, QAction]) -> None:
        declaration, how = book.now.declaration, book.now.kept.of(HowTested)
        box.addWidget(label(say("How steps of {rig} are tested", rig=declaration.info.name), "heading"))
        grid = form_rows(gap=8)
        grid.setColumnStretch(1, 1)
        self.passes = Whole()
        self.passes.setRange(1, _MOST_PASSES)
        self.passes.setSpecialValueText(say("as usual: 3 in turns with what it starts from, else 5"))
        self.passes.setValue(how.passes or 1)
        self._row(grid, say("Score passes of a step"), self.passes)
        loads = dict.fromkeys(name for name, _ in declaration.loads_for.values())
        self._told_s = told_s = dict(declaration.loads_for.values()) | {declaration.hard_load: declaration.hard_load_s}
        for load in (*loads, *((declaration.hard_load,) if declaration.hard_load else ())):
            field = Number()
            field.setRange(0.0, _MOST_MINUTES)
            field.setDecimals(1)
            field.setSuffix(say(" min"))
            field.setSpecialValueText(say("left out"))
            field.setValue(told_s[load] / 60.0)
            self._loads[load] = field
            self._row(grid, say("Then {load}", load=declaration.workload(load).name), field)
        self.start = Number()
        if declaration.settle_channel:
            channel = declaration.channel(declaration.settle_channel)
            self.start.setRange(0.0, 150.0)
            self.start.setDecimals(0)
            self.start.in_unit(channel.unit, finer=True)
            self.start.setSpecialValueText(say("as usual"))
            self.start.setValue(how.start_below or 0.0)
            self._row(grid, say("Rounds start below, {channel}", channel=channel.name), self.start)
        box.addLayout(grid)
        boxes: tuple[QSpinBox | QDoubleSpinBox, ...] = (self.passes, self.start, *self._loads.values())
        for each in boxes:
            each.setKeyboardTracking(False)
            each.valueChanged.connect(self._keep_testing)
        rows = stacked(gap=4)
        for name in _ELSEWHERE:
            made = button(commands[name].text(), "row")
            made.setEnabled(commands[name].isEnabled())
            made.clicked.connect(lambda _=False, name=name: self.wanted.emit(name))
            rows.addWidget(made, 0, Qt.AlignmentFlag.AlignLeft)
        box.addLayout(rows)
        box.addSpacing(8)

    def _keep_testing(self) -> None:
        assert self._book is not None
        passes = self.passes.value() if self.passes.value() > 1 else None
        kept = self._book.now.kept.of(HowTested).load_s
        asked = {load: 60.0 * field.value() for load, field in self._loads.items()}
        load_s = {load: s for load, s in asked.items() if load in kept or abs(s - self._told_s[load]) > _SAME_S}
        command = ChangeHowTested(passes, load_s, self.start.value() or None)
        self._book.ask(command, lambda _: self.trouble.hide(), self._tell)

    # -- everywhere ----------------------------------------------------------------------------------------------------

    def _add_everywhere(self, box: QVBoxLayout) -> None:
        now = preferences()
        box.addWidget(label(say("Everywhere"), "heading"))
        grid = form_rows(gap=8)
        grid.setColumnStretch(1, 1)
        self.scheme = Choice([named(words) for _, words in _SCHEMES], say("Colours"))
        self.scheme.setCurrentIndex(next((i for i, (key, _) in enumerate(_SCHEMES) if key == now.scheme), 0))
        self.scheme.activated.connect(self._use_scheme)
        self._row(grid, say("Colours"), self.scheme)
        codes = ("", *languages())
        shown = [say("as the desktop has it"), *(_NAMES.get(code, code) for code in codes[1:])]
        self.language = Choice(shown, say("Language"))
        self.language.setCurrentIndex(codes.index(now.language) if now.language in codes else 0)
        self.language.activated.connect(lambda i: self._keep(lambda p: replace(p, language=codes[i])))
        self._row(grid, say("Language, from the next start on"), self.language)
        self.degrees = Choice([shown for _, shown in _DEGREES], say("Temperatures"))
        self.degrees.setCurrentIndex(next((i for i, (key, _) in enumerate(_DEGREES) if key == now.temperatures), 0))
        self.degrees.activated.connect(lambda i: self._keep(lambda p: replace(p, temperatures=_DEGREES[i][0])))
        self._row(grid, say("Temperatures, from the next start on"), self.degrees)
        self.notify = QCheckBox(say("Tell on the desktop how a long test ended"))
        self.notify.setChecked(now.notify)
        self.notify.toggled.connect(lambda on: self._keep(lambda p: replace(p, notify=on)))
        self.sound = QCheckBox(say("and with a quiet sound"))
        self.sound.setChecked(now.sound)
        self.sound.toggled.connect(lambda on: self._keep(lambda p: replace(p, sound=on)))
        self._row(grid, say("When it is over"), self.notify)
        self._row(grid, "", self.sound)
        for name, where in (
            (say("Logbooks are kept in"), str(data_folder())),
            (say("These are kept in"), str(preferences_file())),
        ):
            path = Eliding(str(where), "muted")
            path.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            self._row(grid, name, path)
        box.addLayout(grid)

    def _use_scheme(self, chosen: int) -> None:
        key = _SCHEMES[chosen][0]
        self._theme.force(key or None)
        self._keep(lambda p: replace(p, scheme=key))

    def _keep(self, change: Callable[[Preferences], Preferences]) -> None:
        try:
            keep_preferences(change(preferences()))
        except KnownError as error:
            self._tell(error)
        else:
            self.trouble.hide()

    def _tell(self, error: KnownError) -> None:
        self.trouble.setText(f"{error.problem} {error.remedy}")
        self.trouble.show()

    def _row(self, grid: QGridLayout, name: str, field: QWidget) -> None:
        at = grid.rowCount()
        grid.setColumnMinimumWidth(0, _NAMES_PX)
        if name:
            grid.addWidget(label(name, "muted", wrap=True), at, 0)
            if not field.accessibleName():
                field.setAccessibleName(name)
        bounded = isinstance(field, QAbstractSpinBox | Choice)
        if bounded:
            field.setFixedWidth(_FIELD_PX)
        grid.addWidget(field, at, 1, Qt.AlignmentFlag.AlignLeft if bounded else Qt.AlignmentFlag(0))
