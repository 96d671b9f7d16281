"""Sections of rows under headings that fold: names in full, values at their right, gains as bars with their ranges."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QToolButton, QWidget

from yondle.desktop.look.basics import clear, label
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.theme import Theme, faded
from yondle.language.saying import say
from yondle.views.tune.step import StepRow, StepSection

TWO_COLUMNS_PX = 560
"""From this width on sections stand in two columns."""
_BESIDE = 21
"""A value of more letters stands below its name; names wrap, so that neither is ever cut."""
_RIGHT = ("cost", "ran", "derived")
"""Sections of the second column, where there are two."""
_BAR_PX, _APART_PX, _LEAST_SCALE = 9, 24, 0.005


class GainBar(QWidget):
    """A gain as a bar from nothing, with the line of its range; all bars of a section share one scale."""

    def __init__(self, theme: Theme, range_: tuple[float, float, float], scale: tuple[float, float]) -> None:
        super().__init__()
        self._theme, self._range, self._scale = theme, range_, scale
        self.setFixedHeight(_BAR_PX)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        theme.changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the bar, its range as a line through it, and nothing as an upright stroke."""
        painter, c = QPainter(self), self._theme.colours
        low, high = self._scale
        room = (self.width() - 2.0) / (high - low)

        def at(value: float) -> float:
            return 1.0 + (value - low) * room

        least, middle, most = self._range
        certain = least > 0.0 or most < 0.0
        left, right = sorted((at(0.0), at(middle)))
        painter.fillRect(QRectF(left, 2.0, max(right - left, 1.0), 5.0), faded(c.ink, 0.5 if certain else 0.22))
        painter.setPen(QPen(c.ink, 1.0))
        painter.drawLine(round(at(least)), 4, round(at(most)), 4)
        painter.setPen(QPen(c.muted, 1.0))
        painter.drawLine(round(at(0.0)), 0, round(at(0.0)), _BAR_PX)


class _Heading(QToolButton):
    """A section's name that folds it away; Left folds it, Right opens it."""

    def __init__(self, section: StepSection) -> None:
        super().__init__()
        self._section = section
        self.setCheckable(True)
        self.setAutoRaise(True)
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.setText(section.title)
        self.setProperty("role", "section")
        self.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.toggled.connect(self._tell)

    def _tell(self, open_: bool) -> None:
        self.setArrowType(Qt.ArrowType.DownArrow if open_ else Qt.ArrowType.RightArrow)
        state = say("expanded") if open_ else say("collapsed")
        self.setAccessibleName(f"{self._section.title}, {state}")

    def open(self, open_: bool) -> None:
        """Open or fold it."""
        self.setChecked(open_)
        self._tell(open_)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Fold and open by the arrow keys."""
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.setChecked(event.key() == Qt.Key.Key_Right)
            return
        super().keyPressEvent(event)


class _Section(QWidget):
    """One section: its heading, what it tells while folded, and its rows."""

    def __init__(self, theme: Theme, section: StepSection, folded: set[str]) -> None:
        super().__init__()
        self.key, self._folded, self._always = section.key, folded, section.always
        box = stacked(self, 4)
        self.heading = _Heading(section)
        self.short = label(section.short, "small", wrap=True)
        head = abreast()
        head.addWidget(self.heading)
        head.addStretch(1)
        self._rows = QWidget()
        grid = form_rows(self._rows)
        grid.setContentsMargins(0, 0, 0, 4)
        grid.setColumnStretch(0, 1)
        scale = _scale(section.rows)
        for row in section.rows:
            _add(grid, theme, row, scale)
        box.addLayout(head)
        box.addWidget(self.short)
        box.addWidget(self._rows)
        self.heading.open(section.key not in folded)
        self.heading.toggled.connect(self._show)
        self._show(self.heading.isChecked())

    def _show(self, open_: bool) -> None:
        (self._folded.discard if open_ else self._folded.add)(self.key)
        self._rows.setVisible(open_)
        self.short.setVisible(bool(self.short.text()) and (self._always or not open_))


class Sections(QWidget):
    """Sections below each other, or in two columns where there is room; what was folded stays so from step to step."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: tuple[StepSection, ...] | None = None
        self._parts: list[_Section] = []
        self._columns = 0
        self.folded: set[str] = set()
        self._beside = abreast(self)
        self._beside.setContentsMargins(0, 4, 0, 4)
        self._boxes = (stacked(), stacked())
        for each in self._boxes:
            each.setSpacing(8)
            self._beside.addLayout(each, 1)

    def show_sections(self, sections: tuple[StepSection, ...]) -> None:
        """Show other sections."""
        if sections == self._shown:
            return
        self._shown = sections
        for box in self._boxes:
            clear(box)
        self._parts = [_Section(self._theme, section, self.folded) for section in sections]
        self._columns = 0
        self._place()
        self.setVisible(bool(sections))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Put them in as many columns as there is room for."""
        super().resizeEvent(event)
        self._place()

    def minimumSizeHint(self) -> QSize:
        """Give no least width: names and values wrap."""
        return QSize(0, super().minimumSizeHint().height())

    def _place(self) -> None:
        columns = 2 if self.width() >= TWO_COLUMNS_PX else 1
        if columns == self._columns:
            return
        self._columns = columns
        for box in self._boxes:
            while box.count():
                box.takeAt(0)
        for part in self._parts:
            self._boxes[columns == 2 and part.key in _RIGHT].addWidget(part)
        for box in self._boxes:
            box.addStretch(1)
        self._beside.setSpacing(_APART_PX if columns == 2 else 0)
        self._beside.setStretch(1, columns - 1)


def _add(grid: QGridLayout, theme: Theme, row: StepRow, scale: tuple[float, float]) -> None:
    """Add a row: beside each other where both are short, else the value below the name; a gain's bar under it."""
    at, long = grid.rowCount(), len(row.value) > _BESIDE
    grid.addWidget(label(row.name, "muted", wrap=True), at, 0, 1, 2 if long else 1, Qt.AlignmentFlag.AlignTop)
    value = label(row.value, "", wrap=long)
    value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
    grid.addWidget(value, at + long, 0 if long else 1, 1, 2 if long else 1)
    if row.range is not None:
        grid.addWidget(GainBar(theme, row.range, scale), at + long + 1, 0, 1, 2)


def _scale(rows: tuple[StepRow, ...]) -> tuple[float, float]:
    """Give the ends of the scale that all bars share; nothing lies on it."""
    ranges = [row.range for row in rows if row.range is not None]
    low = min((each[0] for each in ranges), default=0.0)
    high = max((each[2] for each in ranges), default=0.0)
    return min(low, 0.0), max(high, 0.0, min(low, 0.0) + _LEAST_SCALE)
