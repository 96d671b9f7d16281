"""Fields for values of knobs."""

from __future__ import annotations

from PySide6.QtWidgets import QDoubleSpinBox

from yondle.desktop.look.basics import Number
from yondle.model.knobs import Knob

FIELD_WIDTH = 96


def value_box(knob: Knob, value: float, name: str) -> QDoubleSpinBox:
    """Make a field for a value of a knob, on its grid; the names of choices are shown instead of their numbers."""
    box = _ChoiceBox(knob) if knob.choices else Number()
    box.setRange(knob.low, knob.high)
    box.setSingleStep(knob.step)
    box.setDecimals(knob.digits)
    if knob.unit and not knob.choices:
        box.in_unit(knob.unit)
    box.setValue(value)
    box.setMinimumWidth(FIELD_WIDTH)
    box.setKeyboardTracking(False)
    box.setAccessibleName(name)
    return box


class _ChoiceBox(Number):
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
