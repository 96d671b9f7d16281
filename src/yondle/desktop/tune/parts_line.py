"""The parts of a test under way as a line of small fields: which are over, which one runs, which are still to come."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from yondle.app.session.progress import Part
from yondle.desktop.look.basics import tip
from yondle.desktop.look.theme import SMALL_PX, Theme, font
from yondle.language.saying import say

_FIELD_PX, _GAP_PX, _WORDS_PX = 8.0, 3.0, 15.0
_LEAST_PX, _BESIDE_PX = 26.0, 6.0
"""A part gets no less of the width than its name takes, or this where not all names fit."""


class PartsLine(QWidget):
    """The line. Each field is filled as far as its part is over, and has its name below where that fits."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._parts: tuple[tuple[str, int, int], ...] = ()
        self.setFixedHeight(round(_FIELD_PX + _WORDS_PX) + 3)
        theme.changed.connect(self.update)

    def show_parts(self, parts: list[Part]) -> None:
        """Show other parts, or that more of them is over."""
        shown = tuple((part.name, part.over, part.of) for part in parts)
        if shown == self._parts:
            return
        self._parts = shown
        words = [say("{name}: {over} of {of}", name=name, over=over, of=of) for name, over, of in shown]
        self.setToolTip(tip("\n".join(words)))
        self.setAccessibleName(say("Parts of the test: ") + ", ".join(words))
        self.setVisible(bool(shown))
        self.update()

    def sizeHint(self) -> QSize:
        """As wide as there is room."""
        return QSize(200, self.height())

    def _widths(self, metrics: QFontMetrics) -> list[float]:
        """Give every part what its name takes, and share out what is left by how many passes it has."""
        room = self.width() - _GAP_PX * (len(self._parts) - 1) - 1.0
        whole = sum(of for _, _, of in self._parts) or 1
        names = [metrics.horizontalAdvance(name) + _BESIDE_PX for name, _, _ in self._parts]
        least = names if sum(names) <= room else [_LEAST_PX] * len(names)
        left = max(room - sum(least), 0.0)
        return [each + left * of / whole for each, (_, _, of) in zip(least, self._parts, strict=True)]

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the fields."""
        if not self._parts:
            return
        c, painter = self._theme.colours, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL_PX))
        x = 0.5
        for (name, over, of), width in zip(self._parts, self._widths(painter.fontMetrics()), strict=True):
            field = QRectF(x, 1.0, width, _FIELD_PX)
            painter.fillRect(QRectF(field.left(), field.top(), width * over / max(of, 1), _FIELD_PX), c.in_play)
            painter.setPen(QPen(c.muted, 1))
            painter.drawRect(field)
            painter.setPen(c.ink if over < of else c.muted)
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(width))
            painter.drawText(QRectF(x, _FIELD_PX + 2.0, width, _WORDS_PX), Qt.AlignmentFlag.AlignLeft, shown)
            x += width + _GAP_PX
