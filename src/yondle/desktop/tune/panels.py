"""The two standing panels of Tune: the trail with its heading, and the rulers with their heading and filter."""

from __future__ import annotations

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QLayout, QLineEdit, QSizePolicy, QWidget

from yondle.desktop.look.basics import Eliding, clearable, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import HEAD_PX, MARGIN, Theme
from yondle.desktop.tune.rulers import Rulers
from yondle.desktop.tune.trail import TrailView
from yondle.language.saying import say
from yondle.views.tune.trail import TrailRows

TRAIL_WIDTH, LEAST_TRAIL = 286, 210
RULERS_PARTS, CHART_PARTS = 11, 10
"""The rulers get no more than so many parts of the height for so many of the chart."""
FILTER_WIDTH = 168


class TrailPanel(QFrame):
    """The trail under its heading; with no step yet, a sentence on how it begins."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("trail")
        self.setMinimumWidth(LEAST_TRAIL)
        self.trail = TrailView(theme)
        box = stacked(self)
        box.setContentsMargins(0, MARGIN, 0, 0)
        heading = label(say("Trail · one change at a time"), "heading")
        heading.setContentsMargins(MARGIN, 0, MARGIN, 0)
        heading.setFixedHeight(HEAD_PX)
        self._empty = label(
            say("The trail begins with the baseline: stock, measured often enough to know the noise."), "muted", True
        )
        self._empty.setContentsMargins(MARGIN, 0, MARGIN, 0)
        self._space = QWidget()
        box.addWidget(heading)
        box.addWidget(self._empty)
        box.addWidget(self.trail, 1)
        box.addWidget(self._space, 1)

    def show_rows(self, rows: TrailRows) -> None:
        """Show the steps, or how a trail begins."""
        self.trail.show_rows(rows)
        self._empty.setVisible(not rows)
        self.trail.setVisible(bool(rows))
        self._space.setVisible(not rows)


class RulersPanel(QWidget):
    """The rulers under their heading, no higher than they need; a rig with many knobs gets a filter."""

    def __init__(self, theme: Theme, filtered: bool) -> None:
        super().__init__()
        self.rulers = Rulers(theme)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText(say("Filter knobs  Ctrl+F"))
        self.filter.setToolTip(say("A name, a group, or: changed, tried, by hand"))
        self.filter.setAccessibleName(say("Filter knobs"))
        clearable(self.filter)
        self.filter.setFixedSize(FILTER_WIDTH, HEAD_PX)
        self.filter.setProperty("role", "tight")
        self.filter.textChanged.connect(self.rulers.filter_by)
        head = abreast()
        heading = Eliding(say("Rulers · drag a marker, or press ← → to propose the next value"), "heading")
        heading.setFixedHeight(HEAD_PX)
        head.addWidget(heading, 1)
        head.addWidget(self.filter)
        box = stacked(self)
        box.addLayout(head)
        self.filter.setVisible(filtered)
        self._above = HEAD_PX + box.spacing()
        box.addWidget(self.rulers, 1)
        box.setSizeConstraint(QLayout.SizeConstraint.SetMinAndMaxSize)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)

    def allow(self, height: int) -> None:
        """Take no more than this height."""
        self.rulers.allow(height - self._above)


class Middle(QWidget):
    """The rulers, no higher than their share or than ends between two of them, and the chart in all that is left."""

    def __init__(self, rulers: RulersPanel, chart: QWidget) -> None:
        super().__init__()
        self.setObjectName("middle")
        self._rulers = rulers
        self._box = stacked(self)
        self._box.setContentsMargins(MARGIN, MARGIN, MARGIN, 8)
        self._box.addWidget(rulers, RULERS_PARTS)
        self._box.addWidget(chart, CHART_PARTS)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Share the height anew."""
        super().resizeEvent(event)
        room = self._box.contentsRect().height() - self._box.spacing()
        self._rulers.allow(room * RULERS_PARTS // (RULERS_PARTS + CHART_PARTS))
