"""Cards of the search for an edge: what to search and what a crash may cost, and the search as it narrows."""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import pairwise

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QLineEdit, QWidget

from yondle.analysis.runs import Run
from yondle.analysis.stability import STANDARD_WORDS, Standard
from yondle.desktop.look.basics import Choice, Number, Whole, button, label, tip
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import SMALL_PX, Theme, faded, font
from yondle.desktop.tune.fields import FIELD_WIDTH, value_box
from yondle.language.saying import capital, in_sentence, later, named, say
from yondle.model.knobs import Knob, Risk
from yondle.model.quantities import unit_shown
from yondle.model.verdicts import Verdict
from yondle.planning.edge_search import CRASH_PRICE_S, Style
from yondle.planning.finding import Edge
from yondle.planning.plan_files import MOST_ROOM
from yondle.views.edge.edge import EdgeView

_PLOT_HEIGHT = 128
_LONGEST_S = 3600.0
_HERE = later("nothing else")
_USUAL_AT = 5


class EdgeCard(Card):
    """What to search: the load it has to hold, how rarely it may fail, what a crash may cost, how far and how long."""

    wanted = Signal()
    changed = Signal()

    def __init__(
        self,
        theme: Theme,
        knob: Knob,
        limit: float,
        loads: list[tuple[str, str]],
        others: list[tuple[Knob, tuple[float, float]]],
        close: Callable[[], None],
    ) -> None:
        text = say(
            "Tests chosen one by one: each is the one that tells most for its price. The rig ends at what is "
            "recommended."
        )
        super().__init__(theme, say("Find the edge of {knob}", knob=in_sentence(knob.name)), text, [])
        self.knob = knob
        self._loads = [id_ for id_, _ in loads]
        self._others = others
        self.load = Choice([name for _, name in loads], say("Load"))
        self.standard = Choice([named(s) for s in Standard], say("Standard"))
        self.standard.setCurrentText(named(Standard.DAILY))
        self.crashes = Choice([named(s) for s in Style], say("Style"))
        self.crashes.setCurrentText(named(Style.EVEN))
        self.limit = value_box(knob, limit, say("Not beyond"))
        self.hours = Number()
        self.hours.setRange(0.0, 100.0)
        self.hours.setSingleStep(0.5)
        self.hours.setDecimals(1)
        self.hours.setSuffix(" h")
        self.hours.setSpecialValueText(say("no limit"))
        self.hours.setMinimumWidth(FIELD_WIDTH)
        self.hours.setAccessibleName(say("At most under load"))
        self.room = Whole()
        self.room.setRange(0, MOST_ROOM)
        self.room.setSpecialValueText(say("none"))
        self.room.setSuffix(say(" notches"))
        self.room.setMinimumWidth(FIELD_WIDTH)
        self.room.setAccessibleName(say("Room below what is recommended"))
        self.along = Choice([named(_HERE), *(k.name for k, _ in others)], say("Over a second knob"))
        self.at = QLineEdit()
        self.at.setAccessibleName(say("Values of the second knob"))
        self.at.setProperty("role", "tight")
        grid = form_rows()
        fields = (
            (say("holds"), self.load),
            (say("standard"), self.standard),
            (say("crashes"), self.crashes),
            (say("not beyond"), self.limit),
            (say("at most"), self.hours),
            (say("room kept"), self.room),
            (say("over"), self.along),
            ("", self.at),
        )
        for i, (name, box) in enumerate(fields):
            grid.addWidget(label(name, "muted"), i, 0)
            grid.addWidget(box, i, 1)
        grid.setColumnStretch(1, 1)
        self.body.addLayout(grid)
        self.meaning = label("", "small", wrap=True)
        self.told = label("", "", wrap=True)
        self.run_button = button(say("Find the edge"), "main")
        self.run_button.clicked.connect(self.wanted.emit)
        leave = button(say("Leave it"))
        leave.clicked.connect(close)
        for widget in (self.meaning, self.told, self.run_button, leave):
            self.body.addWidget(widget)
        self.at.hide()
        self.along.currentIndexChanged.connect(self._choose_along)
        for choice in (self.load, self.standard, self.crashes):
            choice.currentTextChanged.connect(self._turn)
        for box in (self.limit, self.hours, self.room):
            box.valueChanged.connect(self._turn)
        self.at.editingFinished.connect(lambda: self._turn(None))
        self._say_meaning()

    def part(self) -> Edge:
        """Give what is to be searched; raises KnownError for a value of the second knob that it doesn't take."""
        load, along = self._loads[self.load.currentIndex()], self._along()
        standard = tuple(Standard)[self.standard.currentIndex()]
        style = tuple(Style)[self.crashes.currentIndex()]
        at = tuple(along.parsed(words) for words in self.at.text().split(";") if words.strip()) if along else ()
        room, over = (self.room.value(), None) if along is None else (0, along.id)
        limit, hours = self.limit.value(), self.hours.value() or None
        return Edge(self.knob.id, (load,), standard, style, limit, hours, room, over, at)

    def tell(self, words: str, can_run: bool) -> None:
        """Say what it would take, or what is wrong."""
        self.told.setText(words)
        self.run_button.setEnabled(can_run)

    def _along(self) -> Knob | None:
        chosen = self.along.currentIndex()
        return self._others[chosen - 1][0] if chosen > 0 else None

    def _choose_along(self, chosen: int) -> None:
        """Offer values of the second knob, spread over what the tuner stands for."""
        along = self._along()
        if along is not None:
            low, high = self._others[chosen - 1][1]
            spread = (low + (high - low) * i / (_USUAL_AT - 1) for i in range(_USUAL_AT))
            written = along.bare if unit_shown(along.unit) == along.unit else along.text
            self.at.setText("; ".join(dict.fromkeys(written(along.nearest(v)) for v in spread)))
            self.at.setCursorPosition(0)
            words = say(
                "Values of {along} in {unit}, with semicolons between them",
                along=in_sentence(along.name),
                unit=unit_shown(along.unit),
            )
            self.at.setToolTip(tip(words))
        self.at.setVisible(along is not None)
        self.room.setEnabled(along is None)
        self._turn(None)

    def _turn(self, _: object) -> None:
        self._say_meaning()
        self.changed.emit()

    def _say_meaning(self) -> None:
        standard = tuple(Standard)[self.standard.currentIndex()]
        style = tuple(Style)[self.crashes.currentIndex()]
        words = say(
            "{standard}: fails {standard_words}. {style}: a crash counts {crash_price_s:.0f} min beyond its restart.",
            standard=capital(named(standard)),
            standard_words=named(STANDARD_WORDS[standard]),
            style=capital(named(style)),
            crash_price_s=CRASH_PRICE_S[style] / 60,
        )
        if self._along() is not None:
            words += say(
                " Searched at each of these values, each search telling the next; the rig ends where it is now."
            )
        self.meaning.setText(words)


class SearchCard(Card):
    """A search under way or ended: the chance of every value to meet the standard, the tests made, and what comes next."""

    def __init__(self, theme: Theme, title: str, view: EdgeView, last: str, actions: list[CardAction]) -> None:
        super().__init__(theme, title, "", [])
        self.plot = _Plot(theme, view)
        self.body.addWidget(self.plot)
        self.words = label(view.verdict, "strong", wrap=True)
        self.body.addWidget(self.words)
        if view.line:
            self.body.addWidget(label("\n".join(view.line_words), "strong"))
        for text in (view.tested, last):
            self.body.addWidget(label(text, "", wrap=True))
        for action in actions:
            made = button(action.text, action.kind)
            made.clicked.connect(action.do)
            self.body.addWidget(made)
            self.buttons.append(made)


class _Plot(QWidget):
    """Values along, upward the chance to meet the standard; tests as marks, higher the longer they ran."""

    def __init__(self, theme: Theme, view: EdgeView) -> None:
        super().__init__()
        self._theme = theme
        self._view = view
        self._low, self._high = _span(view)
        self.setMinimumHeight(_PLOT_HEIGHT)
        self.setAccessibleName(say("Search of {knob}. {verdict}", knob=view.knob.name, verdict=view.verdict))
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """Wide as the card."""
        return QSize(240, _PLOT_HEIGHT)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the chance, the edge's range, the tests and the recommended value."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(4, 16, self.width() - 8, self.height() - 34)
        self._paint_edge(painter, box)
        self._paint_chance(painter, box)
        self._paint_recommended(painter, box)
        for run in self._view.runs:
            self._paint_run(painter, box, run)
        self._paint_ends(painter, box)

    def _paint_edge(self, painter: QPainter, box: QRectF) -> None:
        """The range the edge lies in with 95 % probability, as a bracket on the axis."""
        c = self._theme.colours
        left, right = sorted(self._x(box, v) for v in self._view.edge)
        painter.setPen(QPen(c.verdicts[Verdict.DOWN], 2.0))
        painter.drawLine(QPointF(left, box.bottom()), QPointF(max(right, left + 1), box.bottom()))
        for x in (left, right):
            painter.drawLine(QPointF(x, box.bottom() - 4), QPointF(x, box.bottom() + 1))

    def _paint_chance(self, painter: QPainter, box: QRectF) -> None:
        c = self._theme.colours
        held = c.verdicts[Verdict.HELD]
        points = sorted((self._x(box, value), chance) for value, chance in self._view.chances)
        inside = [(x, p) for x, p in points if box.left() - 1 <= x <= box.right() + 1]
        if not inside:
            return
        path = QPainterPath(QPointF(inside[0][0], box.bottom()))
        for x, p in inside:
            path.lineTo(x, box.bottom() - p * box.height())
        path.lineTo(inside[-1][0], box.bottom())
        painter.fillPath(path, faded(held, 0.18))
        painter.setPen(QPen(c.rule, 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.setPen(QPen(held, 1.4))
        for (x1, p1), (x2, p2) in pairwise(inside):
            painter.drawLine(
                QPointF(x1, box.bottom() - p1 * box.height()), QPointF(x2, box.bottom() - p2 * box.height())
            )

    def _paint_recommended(self, painter: QPainter, box: QRectF) -> None:
        c, view = self._theme.colours, self._view
        x = self._x(box, view.recommended)
        painter.setPen(QPen(c.in_play, 1.6))
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        painter.setFont(font(SMALL_PX, QFont.Weight.DemiBold))
        words = view.knob.text(view.recommended)
        width = painter.fontMetrics().horizontalAdvance(words) + 2
        left = min(max(x - width / 2, 0.0), self.width() - width)
        painter.drawText(QRectF(left, 0, width, 15), Qt.AlignmentFlag.AlignCenter, words)

    def _paint_run(self, painter: QPainter, box: QRectF, run: Run) -> None:
        if not self._low <= run.value <= self._high:
            return
        verdict = Verdict.DOWN if run.down else Verdict.WRONG if run.failures else Verdict.HELD
        share = math.log1p(run.seconds) / math.log1p(_LONGEST_S)
        y = box.bottom() - 9 - min(share, 1.0) * (box.height() - 18)
        paint_mark(painter, QPointF(self._x(box, run.value), y), 3.6, verdict, self._theme.colours.verdicts[verdict])

    def _paint_ends(self, painter: QPainter, box: QRectF) -> None:
        knob, c = self._view.knob, self._theme.colours
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        below = QRectF(box.left(), box.bottom() + 2, box.width(), 15)
        first, last = (self._low, self._high) if knob.risk is Risk.UP else (self._high, self._low)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, knob.bare(knob.nearest(first)))
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, knob.text(knob.nearest(last)))

    def _x(self, box: QRectF, value: float) -> float:
        share = (value - self._low) / (self._high - self._low)
        share = share if self._view.knob.risk is Risk.UP else 1.0 - share
        return box.left() + min(max(share, 0.0), 1.0) * box.width()


def _span(view: EdgeView) -> tuple[float, float]:
    """The values worth showing: where the chance is neither sure nor nil, what was tested, and a little more."""
    knob = view.knob
    open_ = [value for value, p in view.chances if 0.02 < p < 0.98]
    shown = [*open_, *(run.value for run in view.runs), view.recommended, *view.edge]
    low, high = max(min(shown) - 2 * knob.step, knob.low), min(max(shown) + 2 * knob.step, knob.high)
    return (low, high) if low < high else (knob.low, knob.high)
