"""The card that records a step which Yondle doesn't test, and the one that describes a knob of a machine elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit

from yondle.app.session.describing import DescribeKnob
from yondle.app.session.proposing import DropProposal
from yondle.app.session.recording import TELLABLE, HowItWent, Record, Recorded, ToldStep, number_typed, seconds_of
from yondle.desktop.look.basics import Choice, button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup, Subsystem
from yondle.views.shared.steps import changes_words

HELD, NOT_CHECKED = later("it held"), later("not checked")
_ENDS = (HELD, NOT_CHECKED, *(f.value for f in TELLABLE))
CARD, KNOB = "record", "knob elsewhere"


class RecordCard(Card):
    """What was set, how it went, and a note."""

    told = Signal(object)

    def __init__(self, theme: Theme, what: str, close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("Record a step"), say("{what}. Yondle tests nothing of it: you tell how it went.", what=what), []
        )
        self.end = Choice([named(each) for each in _ENDS], say("How it went"))
        self.end.setCurrentIndex(1)
        self.fields: dict[str, QLineEdit] = {}
        grid = form_rows()
        grid.addWidget(label(say("How it went"), "muted"), 0, 0)
        grid.addWidget(self.end, 0, 1)
        rows = (
            ("stage", say("At stage"), ""), ("after", say("After"), say("12 min")), ("code", say("Code"), ""),
            ("load", say("Load"), ""), ("for", say("For"), say("8 h")), ("note", say("Note"), ""),
        )  # fmt: skip
        self._labels = {}
        for i, (key, name, hint) in enumerate(rows, 1):
            field = QLineEdit()
            field.setAccessibleName(name)
            field.setPlaceholderText(hint)
            self._labels[key] = label(name, "muted")
            grid.addWidget(self._labels[key], i, 0)
            grid.addWidget(field, i, 1)
            self.fields[key] = field
        self.body.addLayout(grid)
        self.keep_button, leave = button(say("Record it"), "main"), button(say("Leave it"))
        self.keep_button.clicked.connect(self._tell)
        leave.clicked.connect(close)
        self.body.addWidget(self.keep_button)
        self.body.addWidget(leave)
        self.end.currentIndexChanged.connect(self._show_fields)
        self._show_fields()

    def _show_fields(self) -> None:
        failed = self.end.currentIndex() > 1
        for key in ("stage", "after", "code"):
            self.fields[key].setVisible(failed)
            self._labels[key].setVisible(failed)

    def _tell(self) -> None:
        texts = {key: field.text().strip() for key, field in self.fields.items()}
        at = self.end.currentIndex()
        failure = TELLABLE[at - 2] if at > 1 else None
        try:
            seconds = seconds_of(texts["for"]) if texts["for"] else None
            went = HowItWent(at == 0, load=texts["load"], seconds=seconds)
            if failure is not None:
                after_s = seconds_of(texts["after"]) if texts["after"] else None
                went = replace(went, failure=failure, stage=texts["stage"], after_s=after_s, code=texts["code"])
            went.outcome()
        except KnownError as error:
            self.told.emit(error)
            return
        self.told.emit((went, texts["note"]))


class KnobCard(Card):
    """A knob of a machine elsewhere."""

    told = Signal(object)

    def __init__(self, theme: Theme, close: Callable[[], None]) -> None:
        super().__init__(
            theme,
            say("Describe a knob"),
            say("With a range and a step, or with words to choose from. A table brings its own."),
            [],
        )
        self.fields: dict[str, QLineEdit] = {}
        grid = form_rows()
        rows = (
            ("name", say("Name"), ""), ("unit", say("Unit"), "MHz"), ("low", say("Lowest"), ""), ("high", say("Highest"), ""),
            ("step", say("Step"), ""), ("stock", say("Stock"), ""), ("choices", say("Or words"), say("quiet, fast")),
        )  # fmt: skip
        for i, (key, name, hint) in enumerate(rows):
            field = QLineEdit()
            field.setAccessibleName(name)
            field.setPlaceholderText(hint)
            grid.addWidget(label(name, "muted"), i, 0)
            grid.addWidget(field, i, 1)
            self.fields[key] = field
        self.part = Choice([named(part) for part in Subsystem], say("Part"))
        self.part.setCurrentIndex(len(Subsystem) - 1)
        grid.addWidget(label(say("Part"), "muted"), len(rows), 0)
        grid.addWidget(self.part, len(rows), 1)
        self.body.addLayout(grid)
        self.keep_button, leave = button(say("Describe it"), "main"), button(say("Leave it"))
        self.keep_button.clicked.connect(self._tell)
        leave.clicked.connect(close)
        self.body.addWidget(self.keep_button)
        self.body.addWidget(leave)

    def _tell(self) -> None:
        texts = {key: field.text().strip() for key, field in self.fields.items()}
        try:
            low, high, step = (number_typed(texts[key]) if texts[key] else None for key in ("low", "high", "step"))
            words = tuple(w.strip() for w in texts["choices"].split(",") if w.strip())
            self.told.emit(
                DescribeKnob(texts["name"], texts["unit"], tuple(Subsystem)[self.part.currentIndex()].value, low, high, step,
                             texts["stock"], words)
            )  # fmt: skip
        except KnownError as error:
            self.told.emit(error)


class RecordPresenter:
    """Asks how a step went that Yondle doesn't test, and records it; and takes descriptions of knobs."""

    def __init__(self, desk: Desk, grid: Callable[[int], None], reopen: Callable[[], None]) -> None:
        self._desk, self._grid, self._reopen = desk, grid, reopen

    def ask(self) -> None:
        """Ask about what is proposed, or about the settings there are."""
        now = self._desk.now
        what = changes_words(now.declaration, now.in_force, now.proposed)
        card = RecordCard(self._desk.theme, what, lambda: self._desk.cards.take(CARD))
        card.told.connect(lambda told: self._record(now.proposed, told))
        self._desk.cards.put_card(CARD, card)

    def _record(self, setup: Setup, told: tuple[HowItWent, str] | KnownError) -> None:
        if isinstance(told, KnownError):
            self._desk.tell(told)
            return
        went, note = told

        def done(made: Recorded) -> None:
            self._desk.cards.take(CARD)
            self._desk.book.do(DropProposal())
            step = made.steps[0] if made.steps else None
            if step is not None and went.failure is None:
                self._grid(step)

        self._desk.ask(Record((ToldStep(setup, went, (), note),), moves=True), done)

    def ask_knob(self) -> None:
        """Ask for a knob."""
        card = KnobCard(self._desk.theme, lambda: self._desk.cards.take(KNOB))
        card.told.connect(self._describe)
        self._desk.cards.put_card(KNOB, card)

    def _describe(self, told: DescribeKnob | KnownError) -> None:
        if isinstance(told, KnownError):
            self._desk.tell(told)
            return
        self._desk.ask(told, lambda _: self._reopen())
