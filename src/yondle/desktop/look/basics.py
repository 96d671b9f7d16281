"""Small parts used all over the window: labels by role, buttons by kind, fields, eliding labels."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPolygonF, QValidator, QWheelEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QComboBox,
    QDoubleSpinBox,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QWidget,
)  # fmt: skip

from yondle.desktop.look.layouts import stacked
from yondle.language.saying import say
from yondle.model.quantities import as_shown, from_shown, unit_shown

_BEFORE_TEXT = 6
"""Besides the two pixels that a line keeps by itself."""


def label(text: str = "", role: str = "", wrap: bool = False) -> QLabel:
    """Make a label; roles are heading, muted, small, title, large and strong. Text is shown as it is, never as markup."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setWordWrap(wrap)
    if role:
        made.setProperty("role", role)
    return made


def tip(text: str) -> str:
    """Give the words of a tool tip as they are: what Qt would take for markup, such as a name with '<b>' in it, is escaped."""
    return f"<p style='white-space:pre-wrap'>{escape(text)}</p>" if "<" in text else text


def button(text: str, kind: str = "", name: str = "") -> QPushButton:
    """Make a button; kinds are main, danger, flat, and row for one in a column of them."""
    made = QPushButton(text)
    if kind:
        made.setProperty("kind", kind)
    made.setAccessibleName(name or text)
    made.setAutoDefault(False)
    return made


def clearable(field: QLineEdit) -> None:
    """Give a field a button that clears it, with a name for the screen reader."""
    field.setClearButtonEnabled(True)
    for made in field.findChildren(QToolButton):
        made.setAccessibleName(say("Clear"))


def clear(layout: QLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        if item is None:
            return
        widget = item.widget()
        inner = item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear(inner)


def top_items(tree: QTreeWidget) -> list[QTreeWidgetItem]:
    """List the items of a tree that stand in no other."""
    found = (tree.topLevelItem(i) for i in range(tree.topLevelItemCount()))
    return [item for item in found if item is not None]


def children(item: QTreeWidgetItem) -> list[QTreeWidgetItem]:
    """List the items that stand in another."""
    found = (item.child(i) for i in range(item.childCount()))
    return [child for child in found if child is not None]


FEWEST_LETTERS = 12
"""A list of names is at least this wide, however long they are."""


class _Unturned:
    """A field that the wheel changes only where it has the focus: in passing, where a panel is scrolled, nothing is to change."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Let what it stands in scroll."""
        if self.hasFocus():  # type: ignore[attr-defined]
            super().wheelEvent(event)  # type: ignore[misc]
        else:
            event.ignore()


def _room_before(field: QAbstractSpinBox) -> None:
    """Begin figures where names in other fields begin; a style sheet doesn't reach the line inside."""
    line = field.findChild(QLineEdit)
    if line is not None:
        line.setTextMargins(_BEFORE_TEXT, 0, 0, 0)
    field.setFocusPolicy(Qt.FocusPolicy.StrongFocus)


class Whole(_Unturned, QSpinBox):
    """A whole number."""

    def __init__(self) -> None:
        super().__init__()
        _room_before(self)


class Number(_Unturned, QDoubleSpinBox):
    """A number. Its value is in the unit that was told for it, also where temperatures are shown and typed in °F."""

    def __init__(self) -> None:
        super().__init__()
        _room_before(self)
        self._unit, self._digits = "", 0

    def in_unit(self, unit: str, finer: bool = False) -> None:
        """Tell the unit of its values; `finer` has a decimal more of them kept, so that whole °F come back as they were typed."""
        self._unit, self._digits = unit, self.decimals() + (unit == "K")
        self.setSuffix(f" {unit_shown(unit)}" if unit else "")
        if self._converted and finer:
            self.setDecimals(self._digits + 1)

    @property
    def _converted(self) -> bool:
        return unit_shown(self._unit) != self._unit

    def textFromValue(self, val: float) -> str:
        """Write a value as it is shown."""
        if not self._converted:
            return super().textFromValue(val)
        return self.locale().toString(as_shown(val, self._unit), "f", self._digits)

    def valueFromText(self, text: str) -> float:
        """Read what is shown."""
        if not self._converted:
            return super().valueFromText(text)
        found, known = self._typed(text)
        if self._special(text):
            return self.minimum()
        return round(from_shown(found, self._unit), self.decimals()) if known else self.value()

    def validate(self, text: str, pos: int) -> tuple[QValidator.State, str, int]:
        """Tell whether it is a value, or may become one: what is shown has another range than the values."""
        if not self._converted:
            return super().validate(text, pos)
        found, known = self._typed(text)
        inside = self._special(text) or (
            known and self.minimum() - _HAIR <= from_shown(found, self._unit) <= self.maximum() + _HAIR
        )
        unfinished = known or text.removesuffix(self.suffix()).strip() in ("", "-")
        state = QValidator.State.Intermediate if unfinished else QValidator.State.Invalid
        return QValidator.State.Acceptable if inside else state, text, pos

    def _special(self, text: str) -> bool:
        """Tell whether the lowest value is meant, which has a name: by it, or by nothing."""
        name = self.specialValueText()
        return name != "" and (text == name or self._typed(text) == (0.0, True))

    def _typed(self, text: str) -> tuple[float, bool]:
        found, known = self.locale().toDouble(text.removesuffix(self.suffix()).strip())
        return found, known


_HAIR = 1e-6
"""So far a value may be out of its range by its own rounding."""


class Choice(_Unturned, QComboBox):
    """One of a few names, with a small arrow that follows the scheme."""

    def __init__(self, names: list[str], name: str) -> None:
        super().__init__()
        self.addItems(names)
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(min(FEWEST_LETTERS, max(map(len, names), default=0)))
        self.setToolTip(tip(self.currentText()))
        self.currentTextChanged.connect(lambda text: self.setToolTip(tip(text)))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the arrow over the field."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.palette().placeholderText())
        x, y = self.width() - 14.0, self.height() / 2
        painter.drawPolygon(QPolygonF([QPointF(x - 4, y - 2), QPointF(x + 4, y - 2), QPointF(x, y + 3)]))


class Eliding(QLabel):
    """One line of text that ends in an ellipsis where it doesn't fit; the whole stands in the tooltip."""

    def __init__(self, text: str = "", role: str = "", right: bool = False) -> None:
        super().__init__(text)
        self.setToolTip(tip(text))
        self.setTextFormat(Qt.TextFormat.PlainText)
        self._side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        if role:
            self.setProperty("role", role)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def set_text(self, text: str) -> None:
        """Show another text."""
        if text != self.text():
            self.setText(text)
            self.setToolTip(tip(text))

    def minimumSizeHint(self) -> QSize:
        """Do with little."""
        return QSize(24, QFontMetrics(self.font()).height() + 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the text, elided."""
        painter = QPainter(self)
        shown = QFontMetrics(self.font()).elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.setPen(self.palette().windowText().color())
        painter.drawText(self.rect(), self._side | Qt.AlignmentFlag.AlignVCenter, shown)


class Paragraphs(QWidget):
    """Sentences below each other, each in its own lines."""

    def __init__(self, role: str = "") -> None:
        super().__init__()
        self._role = role
        self._box = stacked(self)
        self._labels: list[QLabel] = []

    def show_all(self, sentences: list[str]) -> None:
        """Show these; labels that are there already are used again."""
        while len(self._labels) < len(sentences):
            self._labels.append(label("", self._role, wrap=True))
            self._box.addWidget(self._labels[-1])
        for i, each in enumerate(self._labels):
            each.setText(sentences[i] if i < len(sentences) else "")
            each.setVisible(i < len(sentences))

    def text(self) -> str:
        """Give all that is shown."""
        return "\n".join(each.text() for each in self._labels if each.text())
