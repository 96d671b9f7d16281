"""The panel at the right of a place: words and figures that scroll where they take more room than there is."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QFrame, QLabel, QScrollArea, QWidget

from yondle.desktop.look.basics import label
from yondle.desktop.look.layouts import stacked

_GAP, BEFORE_HEADING, _BESIDE_THE_BAR = 8, 8, 8


class Side(QScrollArea):
    """The panel; put things into its `box`.

    What is in it has one width, with the scroll bar and without: were it wider without, its words would need less height,
    the bar would go, and it would come again, for ever.
    """

    def __init__(self, width: int, name: str) -> None:
        super().__init__()
        self.setFixedWidth(width)
        self.setAccessibleName(name)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = AsHighAsItsWords()
        inner.setFixedWidth(width - self.verticalScrollBar().sizeHint().width())
        self.box = stacked(inner)
        self.box.setContentsMargins(0, 0, _BESIDE_THE_BAR, 0)
        self.box.setSpacing(_GAP)
        self.setWidget(inner)

    def heading(self, text: str) -> QLabel:
        """Begin another part; gives its heading."""
        if self.box.count():
            self.box.addSpacing(BEFORE_HEADING)
        made = label(text, "heading")
        self.box.addWidget(made)
        return made


class AsHighAsItsWords(QWidget):
    """Asks for all the height its wrapped lines take at its width, which a scroll area doesn't do by itself."""

    def event(self, event: QEvent) -> bool:
        """Measure again when something in it changed."""
        done = super().event(event)
        if event.type() is QEvent.Type.LayoutRequest:
            self._measure()
        return done

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Measure again at another width."""
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self._measure()

    def showEvent(self, event: QShowEvent) -> None:
        """Lay out again what was filled while nobody saw it: its fonts are those of the scheme only now."""
        super().showEvent(event)
        layout = self.layout()
        if layout is not None:
            layout.invalidate()

    def _measure(self) -> None:
        """Ask for the height, where it is another than before: asking makes for another layout, which would measure again."""
        layout = self.layout()
        high = max(layout.heightForWidth(self.width()), 0) if layout is not None else 0
        if high != self.minimumHeight():
            self.setMinimumHeight(high)
