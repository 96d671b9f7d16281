"""The cards of the tuner's own limits: the range of a knob under its ruler, and the ceilings of sensors."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDoubleSpinBox

from yondle.app.session.limits import LimitRange, LimitReading
from yondle.desktop.look.basics import Number, button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.layouts import abreast, form_rows
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.fields import value_box
from yondle.language.saying import in_sentence, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.sensors import Channel


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
        row = abreast()
        for name, box in ((say("lowest"), self.low), (say("highest"), self.high)):
            row.addWidget(label(name, "muted"))
            row.addWidget(box)
        set_, whole, leave = button(say("Set"), "main"), button(say("Whole range")), button(say("Leave it"))
        set_.clicked.connect(lambda: self.chosen.emit(self.low.value(), self.high.value()))
        whole.clicked.connect(lambda: self.chosen.emit(None, None))
        leave.clicked.connect(close)
        row.addStretch(1)
        buttons = abreast()
        for made in (set_, whole, leave):
            buttons.addWidget(made)
        buttons.addStretch(1)
        self.body.addLayout(row)
        self.body.addLayout(buttons)
        self.set_button = set_


class SensorLimitsCard(Card):
    """The readings above which a test is stopped."""

    chosen = Signal(str, object)

    def __init__(self, theme: Theme, rows: list[tuple[Channel, float | None]], close: Callable[[], None]) -> None:
        super().__init__(
            theme, say("Stop a test above"), say("A reading beyond its limit ends the test and puts the rig back."), []
        )
        grid = form_rows()
        self.boxes: dict[str, QDoubleSpinBox] = {}
        for i, (channel, most) in enumerate(rows):
            box = Number()
            box.setRange(0.0, 9999.0)
            box.setDecimals(2 if channel.digits == 3 else 0)
            box.setSingleStep(0.01 if channel.digits == 3 else 1.0)
            box.setSpecialValueText(say("no limit"))
            box.in_unit(channel.unit, finer=True)
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


class LimitsPresenter:
    """Asks for own limits and keeps them."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def ask_range(self, knob_id: str) -> None:
        """Put the tuner's own limits of a knob under its ruler."""
        desk, declaration = self._desk, self._desk.now.declaration
        knob = declaration.knob(knob_id)
        low, high = declaration.own_range(knob)
        card = RangeCard(desk.theme, knob, low, high, desk.rulers.drop_question)
        card.chosen.connect(lambda least, most: self._set_range(knob_id, least, most))
        desk.rulers.put_under(knob_id, card)

    def move_limit(self, knob_id: str, value: float) -> None:
        """Set a limit that was dragged on the ruler."""
        self._set_range(knob_id, self._desk.now.declaration.floors.get(knob_id), value)

    def ask_sensors(self) -> None:
        """Show the readings above which a test is stopped, to be changed in place."""
        desk, declaration = self._desk, self._desk.now.declaration
        most = {limit.channel: limit.most for limit in declaration.limits}
        rows = [(c, most.get(c.id)) for c in declaration.channels if c.nature.limited and c.core is None]
        card = SensorLimitsCard(desk.theme, rows, lambda: desk.cards.take("limits"))
        card.chosen.connect(self._set_reading)
        desk.cards.put_card("limits", card)

    def _set_reading(self, channel: str, most: float | None) -> None:
        desk = self._desk
        before = next((limit.most for limit in desk.now.declaration.limits if limit.channel == channel), None)

        def kept(_: None) -> None:
            desk.book.undo.remember(say("limit of a sensor"), LimitReading(channel, before))

        desk.ask(LimitReading(channel, most), kept)

    def _set_range(self, knob_id: str, low: float | None, high: float | None) -> None:
        desk, declaration = self._desk, self._desk.now.declaration
        before = LimitRange(knob_id, declaration.floors.get(knob_id), declaration.ceilings.get(knob_id))
        limits = say("limits of {knob}", knob=in_sentence(declaration.knob(knob_id).name))

        def kept(_: None) -> None:
            desk.book.undo.remember(limits, before)
            desk.rulers.drop_question()
            desk.refresh()

        def refused(error: KnownError) -> None:
            desk.rulers.ask(knob_id, error.problem, error.remedy, [])
            desk.refresh()

        desk.book.ask(LimitRange(knob_id, low, high), kept, refused)
