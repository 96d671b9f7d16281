"""Cards of goals: what is worth trying next, with the goal it is for, and a climb as it goes."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton, QWidget

from yondle.desktop.look.basics import button, clear, label
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.desktop.tune.goal_form import GoalForm
from yondle.language.saying import say
from yondle.model.quantities import duration, signed_percent
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.planning.goals.goal import Goal
from yondle.planning.goals.ways import Way
from yondle.views.next.climb import ClimbView
from yondle.views.next.next import NextView, way_figures

_PLOT_HEIGHT, _BARS_TOLD, _LEAST_BAR, _APART = 118, 6, 0.0005, 5


class NextCard(Card):
    """What is worth trying next: the goal, up to five ways with what they would bring, and a climb that tries them."""

    changed = Signal()
    proposed = Signal(str, float)
    climbs = Signal()

    def __init__(self, theme: Theme, declaration: RigDeclaration, goal: Goal, close: Callable[[], None]) -> None:
        super().__init__(theme, say("Worth trying next"), "", [])
        self._theme = theme
        self._proposing: list[QPushButton] = []
        self.form = GoalForm(declaration, goal)
        self.form.changed.connect(self.changed)
        self.body.addWidget(self.form)
        self._ways = QWidget()
        self._list = form_rows(self._ways)
        self._list.setContentsMargins(0, 4, 0, 0)
        self._list.setColumnStretch(0, 1)
        self.body.addWidget(self._ways)
        self.caveat = label("", "small", wrap=True)
        self.climb = button(say("Climb toward it"), "main")
        self.climb.clicked.connect(self.climbs.emit)
        leave = button(say("Leave it"))
        leave.clicked.connect(close)
        for widget in (self.caveat, self.climb, leave):
            self.body.addWidget(widget)
        self.wait()

    def goal(self) -> Goal:
        """Give the goal as it is chosen."""
        return self.form.goal()

    def wait(self) -> None:
        """Say that it is being worked out."""
        self._say(say("Working it out …"))

    def tell(self, words: str) -> None:
        """Say why there is nothing to tell."""
        self._say(words)

    def show_ways(self, view: NextView, free: bool) -> None:
        """Show the ways; their first steps can be proposed while the rig is free."""
        clear(self._list)
        self._proposing = [self.climb]
        for number, way in enumerate(view.ways, start=1):
            self._add(number, way)
        self._bars(view)
        self.caveat.setText(view.caveat)
        self.set_free(free)

    def set_free(self, free: bool) -> None:
        """Let what tests something be clicked, or not while something runs."""
        for each in self._proposing:
            each.setEnabled(free)

    def _add(self, number: int, way: Way) -> None:
        row = self._list.rowCount() + 1
        self._list.setRowMinimumHeight(row - 1, _APART)
        self._list.addWidget(label(f"{number}. {way.title}", "strong", wrap=True), row, 0)
        lines = [way_figures(way), way.reason]
        if way.unknown:
            lines.append(say("Unknown: {what}.", what=way.unknown))
        for i, words in enumerate(filter(None, lines), start=1):
            self._list.addWidget(label(words, "" if i == 1 else "small", wrap=True), row + i, 0)
        if way.first is not None:
            knob, value = way.first
            made = button(say("Propose its first step"))
            self._proposing.append(made)
            made.clicked.connect(lambda: self.proposed.emit(knob, value))
            self._list.addWidget(made, row + 4, 0, alignment=Qt.AlignmentFlag.AlignLeft)

    def _bars(self, view: NextView) -> None:
        worth = [(name, each) for name, each in view.worth if each >= _LEAST_BAR][:_BARS_TOLD]
        if worth:
            row = self._list.rowCount()
            self._list.addWidget(label(say("What each knob is worth now"), "muted"), row, 0)
            self._list.addWidget(Bars(self._theme, worth), row + 1, 0)

    def _say(self, words: str) -> None:
        clear(self._list)
        self._proposing = []
        self._list.addWidget(label(words, "muted", wrap=True), 0, 0)
        self.caveat.setText("")
        self.climb.setEnabled(False)


class Bars(QWidget):
    """What each of some knobs is worth, as bars with their names and figures."""

    def __init__(self, theme: Theme, worth: list[tuple[str, float]]) -> None:
        super().__init__()
        self._theme, self._worth = theme, worth
        self.setMinimumHeight(19 * len(worth) + 2)
        words = ", ".join(f"{name} {signed_percent(each, 1)}" for name, each in worth)
        self.setAccessibleName(say("What each knob is worth now: {worth}.", worth=words))
        theme.changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the bars, the longest over all the width that is left beside names and figures."""
        painter, c = QPainter(self), self._theme.colours
        painter.setFont(font(SMALL_PX))
        metrics = painter.fontMetrics()
        names = max(metrics.horizontalAdvance(name) for name, _ in self._worth) + 8
        figures = max(metrics.horizontalAdvance(signed_percent(each, 1)) for _, each in self._worth) + 6
        room, most = max(self.width() - names - figures, 10), max(each for _, each in self._worth)
        for i, (name, each) in enumerate(self._worth):
            line = QRectF(0, 19 * i, self.width(), 18)
            painter.setPen(c.ink)
            painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, name)
            painter.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, signed_percent(each, 1))
            painter.fillRect(QRectF(names, 19 * i + 5, max(room * each / most, 1.0), 8), faded(c.ink, 0.5))


class ClimbCard(Card):
    """A climb under way or ended: the way it took, where it stands, what is left to be had, and what comes next."""

    def __init__(self, theme: Theme, title: str, view: ClimbView, last: str, actions: list[CardAction]) -> None:
        super().__init__(theme, title, "", [])
        self.plot = _WayTaken(theme, view)
        self.body.addWidget(self.plot)
        self.words = label(view.sentence, "strong", wrap=True)
        self.body.addWidget(self.words)
        for text in filter(
            None, (view.setup and say("It stands at: {setup}.", setup=view.setup), view.remaining, view.tested, last)
        ):
            self.body.addWidget(label(text, "", wrap=True))
        worth = [(name, each) for name, each in view.worth if each >= _LEAST_BAR][:_BARS_TOLD]
        if worth:
            self.body.addWidget(label(say("What each knob is worth now"), "muted"))
            self.body.addWidget(Bars(theme, worth))
        for action in actions:
            made = button(action.text, action.kind)
            made.clicked.connect(action.do)
            self.body.addWidget(made)
            self.buttons.append(made)


class _WayTaken(QWidget):
    """Hours along, upward the score against stock, and power as a second line; failures as their marks below."""

    def __init__(self, theme: Theme, view: ClimbView) -> None:
        super().__init__()
        self._theme, self._view = theme, view
        self.setMinimumHeight(_PLOT_HEIGHT)
        self.setAccessibleName(say("The way taken so far. {sentence}", sentence=view.sentence))
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """Wide as the card."""
        return QSize(240, _PLOT_HEIGHT)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint both lines from stock on, what failed, and the ends of the axes."""
        painter, c, view = QPainter(self), self._theme.colours, self._view
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL_PX))
        box = QRectF(6, 18, self.width() - 12, self.height() - 50)
        hours = max(view.goal.hours, view.hours, 0.1)
        values = [0.0, *(s.score for s in view.way), *(s.power for s in view.way if s.power is not None)]
        low, high = min(values), max(max(values), min(values) + 0.01)

        def at(when: float, value: float) -> QPointF:
            return QPointF(
                box.left() + box.width() * when / hours, box.bottom() - box.height() * (value - low) / (high - low)
            )

        painter.setPen(QPen(c.rule, 1.0))
        painter.drawLine(at(0.0, 0.0), at(hours, 0.0))
        painter.drawLine(QPointF(box.left(), box.bottom() + 16), QPointF(box.right(), box.bottom() + 16))
        powers = [(s.hours, s.power) for s in view.way if s.power is not None]
        for points, colour in (
            (powers, c.verdicts[Verdict.HELD_BACK]),
            ([(s.hours, s.score) for s in view.way], c.in_play),
        ):
            path, last = QPainterPath(at(0.0, 0.0)), 0.0
            for when, value in points:
                path.lineTo(at(when, last))
                path.lineTo(at(when, value))
                last = value
            path.lineTo(at(max(view.hours, 0.0), last))
            painter.setPen(QPen(colour, 1.8))
            painter.drawPath(path)
        for stand in view.way:
            if stand.verdict not in (Verdict.HELD, Verdict.UNPROVEN):
                colour = faded(c.verdicts[stand.verdict], 0.9)
                paint_mark(painter, QPointF(at(stand.hours, low).x(), box.bottom() + 9), 3.5, stand.verdict, colour)
        self._legend(painter, box, hours)

    def _legend(self, painter: QPainter, box: QRectF, hours: float) -> None:
        c, last = self._theme.colours, self._view.way[-1] if self._view.way else None
        top = QRectF(box.left(), 0, box.width(), 16)
        if last is not None:
            painter.setPen(c.in_play)
            painter.drawText(
                top, Qt.AlignmentFlag.AlignVCenter, say("score {score}", score=signed_percent(last.score, 1))
            )
            if last.power is not None:
                painter.setPen(c.verdicts[Verdict.HELD_BACK])
                words = say("power {power}", power=signed_percent(last.power, 0))
                painter.drawText(top, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, words)
        painter.setPen(c.muted)
        foot = QRectF(box.left(), box.bottom() + 17, box.width(), 14)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, say("0 h"))
        end = duration(hours * 3600.0)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, end)
