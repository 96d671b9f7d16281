"""A knob as a ruler: its range as a scale, what was tried as marks on it, and a marker to drag to the next value."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFont,
    QFontMetrics,
    QKeyEvent,
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PySide6.QtWidgets import QAbstractSlider, QToolTip

from yondle.desktop.look.marks import paint_mark
from yondle.desktop.look.theme import BODY_PX, SMALL_PX, TITLE_PX, Theme, faded, font, mixed
from yondle.language.saying import named, say
from yondle.model.knobs import When
from yondle.model.quantities import figure, number, unit_shown
from yondle.model.verdicts import Verdict
from yondle.views.tune.proposal import NEARLY_SURE
from yondle.views.tune.rulers import Holding, RulerMark, RulerView

HEIGHT = 52
NAME_WIDTH = 142
VALUE_WIDTH = 98
SCALE_LEFT = NAME_WIDTH + VALUE_WIDTH + 18
SCALE_RIGHT = 18
SCALE_Y = 29.0
MARK_Y, MARK_R = 15.0, 4.5
FAINT = 0.42
COARSE_NOTCHES = 4
_MOST_DIGITS, _OFF = 6, 1e-6
_CLOSEST_TICKS_PX = 5.0
_CLOSEST_MARKS_PX = 9.0
_HANDLE_PX = 6.0
_END_LABEL_PX = 44.0


class Ruler(QAbstractSlider):
    """One knob. `moved` is sent with the value the tuner would like next; the ruler shows it once it is proposed.

    To a screen reader it is a slider in whole parts of the knob's unit: of a voltage, thousandths.
    """

    moved = Signal(str, float)
    entered = Signal(str)
    step_chosen = Signal(int)
    limit_moved = Signal(str, float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._limit_at: float | None = None
        self._view: RulerView | None = None
        self._in_play = False
        self._locked = False
        self._held: Holding | None = None
        self._dragging = False
        self._parts = 1
        self.setOrientation(Qt.Orientation.Horizontal)
        self.valueChanged.connect(self._set_from_outside)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setFixedHeight(HEIGHT)
        theme.changed.connect(self.update)

    @property
    def view(self) -> RulerView | None:
        """What the ruler shows."""
        return self._view

    def show_view(self, view: RulerView, in_play: bool, locked: bool, held: Holding | None) -> None:
        """Show a knob's history; `held` is how each value would hold, for the knob in play."""
        self._view, self._in_play, self._locked, self._held = view, in_play, locked, held
        knob = view.knob
        proposed = "" if view.proposed is None else say(", proposed {proposed}", proposed=knob.text(view.proposed))
        self.setAccessibleName(
            say(
                "{knob}, {in_force} in force{proposed}",
                knob=knob.name,
                in_force=knob.text(view.in_force),
                proposed=proposed,
            )
        )
        self.setAccessibleDescription(say("Left and right arrow propose the next value"))
        self._tell_slider(view)
        self.update()

    def _tell_slider(self, view: RulerView) -> None:
        """Say as a slider what the knob takes and where it is."""
        knob = view.knob
        digits = next(
            (d for d in range(_MOST_DIGITS) if abs(knob.step * 10**d - round(knob.step * 10**d)) < _OFF), _MOST_DIGITS
        )
        self._parts = 10**digits
        low, high, step, now = (
            round(each * self._parts)
            for each in (knob.low, knob.high, knob.step, view.in_force if view.proposed is None else view.proposed)
        )
        self.blockSignals(True)
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setPageStep(step * COARSE_NOTCHES)
        self.setValue(now)
        self.blockSignals(False)

    def _set_from_outside(self, value: int) -> None:
        """Propose what a screen reader has set."""
        if self._view is not None:
            self.moved.emit(self._view.knob.id, self._view.knob.nearest(value / self._parts))

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Let the rulers scroll: no knob is turned in passing."""
        event.ignore()

    def sizeHint(self) -> QSize:
        """One line of the rulers."""
        return QSize(640, HEIGHT)

    def minimumSizeHint(self) -> QSize:
        """Narrow enough for the smallest window."""
        return QSize(SCALE_LEFT + 160, HEIGHT)

    def centre_of(self, value: float) -> QPointF:
        """Give where a value lies on the scale, in the widget's coordinates."""
        return QPointF(self._x(value), SCALE_Y)

    # -- input ---------------------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows move the proposal by a notch, with Shift by four; Home takes it back."""
        view = self._view
        if view is None:
            return
        stride = COARSE_NOTCHES if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        match event.key():
            case Qt.Key.Key_Left:
                self._nudge(-stride)
            case Qt.Key.Key_Right:
                self._nudge(stride)
            case Qt.Key.Key_Home:
                self.moved.emit(view.knob.id, view.in_force)
            case _:
                event.ignore()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A press on the scale starts a drag; one on a mark chooses its step, one on a limit's handle moves the limit."""
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        if event.button() != Qt.MouseButton.LeftButton or self._view is None:
            return
        mark = self._mark_at(event.position())
        if mark is not None:
            self.step_chosen.emit(mark.step)
        elif self._on_limit(event.position()) and not self._locked:
            self._limit_at = self._view.ceiling
        elif event.position().x() >= SCALE_LEFT - 8:
            self._dragging = True
            self._drag_to(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the marker, or tell what a mark under the pointer stands for."""
        view = self._view
        if view is None:
            return
        if self._limit_at is not None:
            self._limit_at = self._value_at(event.position().x())
            QToolTip.showText(
                event.globalPosition().toPoint(),
                say("own limit {limit_at}", limit_at=view.knob.text(self._limit_at)),
                self,
            )
            self.update()
            return
        if self._dragging:
            self._drag_to(event.position().x())
            return
        mark = self._mark_at(event.position())
        if mark is not None:
            others = "" if mark.strong else say(", with other settings elsewhere")
            text = say(
                "{mark}: {verdict}{others} (step {step})",
                mark=view.knob.text(mark.value),
                verdict=mark.verdict,
                others=others,
                step=mark.step,
            )
            QToolTip.showText(event.globalPosition().toPoint(), text, self)
        elif self._on_limit(event.position()):
            QToolTip.showText(
                event.globalPosition().toPoint(), say("Drag to change your own limit; L for exact values"), self
            )
        elif event.position().x() < SCALE_LEFT:
            QToolTip.showText(event.globalPosition().toPoint(), _told(view), self)
        elif self._held is not None:
            QToolTip.showText(event.globalPosition().toPoint(), self._told_at(event.position().x(), self._held), self)
        else:
            QToolTip.hideText()
        on_scale = event.position().x() >= SCALE_LEFT - 8 and mark is None and not self._locked
        self.setCursor(Qt.CursorShape.SizeHorCursor if on_scale else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End a drag; a limit that was dragged is set."""
        self._dragging = False
        limit, self._limit_at = self._limit_at, None
        if limit is not None and self._view is not None and limit != self._view.ceiling:
            self.limit_moved.emit(self._view.knob.id, limit)
        self.update()

    def focusInEvent(self, event: object) -> None:
        """Tell that the ruler is the one being looked at."""
        if self._view is not None:
            self.entered.emit(self._view.knob.id)
        self.update()

    def focusOutEvent(self, event: object) -> None:
        """Redraw without the focus line."""
        self.update()

    def _nudge(self, notches: int) -> None:
        assert self._view is not None
        knob = self._view.knob
        now = self._view.in_force if self._view.proposed is None else self._view.proposed
        target = knob.at(knob.notch_of(now) + notches)
        if target != now:
            self.moved.emit(knob.id, target)

    def _drag_to(self, x: float) -> None:
        assert self._view is not None
        view, value = self._view, self._value_at(x)
        if view.ceiling is not None:
            value = min(value, view.ceiling)
        if view.floor is not None:
            value = max(value, view.floor)
        now = view.in_force if view.proposed is None else view.proposed
        if value != now:
            self.moved.emit(view.knob.id, value)

    def _value_at(self, x: float) -> float:
        assert self._view is not None
        knob = self._view.knob
        left, right = self._ends()
        share = min(max((x - left) / (right - left), 0.0), 1.0)
        return knob.nearest(knob.low + share * (knob.high - knob.low))

    def _told_at(self, x: float, held: Holding) -> str:
        """Say what is believed of a value and of the edge."""
        assert self._view is not None
        knob, value = self._view.knob, self._value_at(x)
        low, high = (knob.bare(knob.nearest(v)) for v in held.edge)
        chance = number(100 * min(held.chances.get(value, 0.0), NEARLY_SURE))
        edge = say("edge between {low} and {high} {unit} (95 %)", low=low, high=high, unit=unit_shown(knob.unit))
        return say("{value}: {chance} % to hold this check\n{edge}", value=knob.text(value), chance=chance, edge=edge)

    def _on_limit(self, where: QPointF) -> bool:
        view = self._view
        if view is None or view.ceiling is None:
            return False
        return abs(where.x() - self._x(view.ceiling)) <= _HANDLE_PX and where.y() > SCALE_Y + 2

    def _mark_at(self, where: QPointF) -> RulerMark | None:
        if self._view is None or abs(where.y() - MARK_Y) > MARK_R + 2:
            return None
        near = [(abs(self._x(m.value) - where.x()), m) for m in self._view.marks]
        distance, mark = min(near, key=lambda pair: pair[0], default=(math.inf, None))
        return mark if distance <= MARK_R + 2 else None

    # -- painting ------------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint name, value, scale, history, band and markers."""
        view = self._view
        if view is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_card(painter)
        self._paint_words(painter, view)
        self._paint_scale(painter, view)
        self._paint_ceiling(painter, view)
        self._paint_history(painter, view)
        self._paint_markers(painter, view)

    def _paint_card(self, painter: QPainter) -> None:
        c = self._theme.colours
        frame = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        if self._in_play:
            painter.setPen(QPen(c.in_play, 1.4))
            painter.setBrush(c.panel)
            painter.drawRoundedRect(frame, 6, 6)
        elif self.hasFocus():
            painter.setPen(QPen(mixed(c.rule, c.ink, 0.35), 1.0, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(frame, 6, 6)

    def _paint_words(self, painter: QPainter, view: RulerView) -> None:
        c, knob = self._theme.colours, view.knob
        name_font, small = font(BODY_PX, QFont.Weight.DemiBold), font(SMALL_PX)
        painter.setFont(name_font)
        painter.setPen(c.ink)
        elide = Qt.TextElideMode.ElideRight
        name = QFontMetrics(name_font).elidedText(knob.name, elide, NAME_WIDTH - 6)
        painter.drawText(QRectF(12, 6, NAME_WIDTH, 18), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(small)
        painter.setPen(c.muted)
        words = [*(value for _, value in view.derived), *([] if knob.when is When.LIVE else [named(knob.when)])]
        metrics = QFontMetrics(small)
        while len(words) > 1 and metrics.horizontalAdvance(" · ".join(words)) > NAME_WIDTH + 4:
            words.pop()
        about = metrics.elidedText(" · ".join(words), elide, NAME_WIDTH + 4)
        painter.drawText(QRectF(12, 25, NAME_WIDTH + 6, 16), Qt.AlignmentFlag.AlignVCenter, about)
        value = view.in_force if view.proposed is None else view.proposed
        painter.setFont(font(TITLE_PX, QFont.Weight.DemiBold))
        painter.setPen(c.in_play if view.proposed is not None else c.ink)
        box = QRectF(NAME_WIDTH, 4, VALUE_WIDTH, 22)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, knob.text(value))
        if view.proposed is not None:
            painter.setFont(small)
            painter.setPen(c.muted)
            box = QRectF(NAME_WIDTH + 6, 25, VALUE_WIDTH - 6, 16)
            painter.drawText(
                box,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                say("now {in_force}", in_force=knob.bare(view.in_force)),
            )

    def _paint_scale(self, painter: QPainter, view: RulerView) -> None:
        c, knob = self._theme.colours, view.knob
        left, right = self._ends()
        if self._in_play and self._held is not None:
            self._paint_band(painter, self._held, left, right)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        line = mixed(c.muted, c.ground, 0.25)
        painter.setPen(QPen(line, 1))
        painter.drawLine(QPointF(left, SCALE_Y), QPointF(right, SCALE_Y))
        stride = _tick_stride(knob.notches, right - left)
        for notch in range(0, knob.notches + 1, stride):
            x = self._x(knob.at(notch))
            tall = (notch // stride) % 5 == 0 or notch == knob.notches
            painter.drawLine(QPointF(x, SCALE_Y - (6 if tall else 3)), QPointF(x, SCALE_Y))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        if knob.choices:
            low, high = knob.choices[0], knob.choices[-1]
        else:
            low, high = (figure(end, knob.unit, _end_digits(end)) for end in (knob.low, knob.high))
        standing = (view.in_force, view.proposed, knob.stock)
        if knob.low not in standing:
            painter.drawText(QRectF(left, SCALE_Y + 6, 80, 16), Qt.AlignmentFlag.AlignLeft, low)
        limit = right if view.ceiling is None else self._x(view.ceiling)
        if knob.high not in standing and not right - _END_LABEL_PX < limit < right:
            painter.drawText(QRectF(right - 80, SCALE_Y + 6, 80, 16), Qt.AlignmentFlag.AlignRight, high)

    def _paint_band(self, painter: QPainter, by_value: Holding, left: float, right: float) -> None:
        """Paint the chance to hold as a band, and under it the range in which the edge lies as a bracket."""
        c = self._theme.colours
        held, down = c.verdicts[Verdict.HELD], c.verdicts[Verdict.DOWN]
        gradient = QLinearGradient(left, 0, right, 0)
        last = max(len(by_value.chances) - 1, 1)
        for i, chance in enumerate(by_value.chances.values()):
            strength = 0.25 + 0.55 * abs(2 * chance - 1)
            gradient.setColorAt(i / last, faded(mixed(down, held, chance), strength))
        painter.fillRect(QRectF(left, SCALE_Y + 1, right - left, 5), gradient)
        low, high = (self._x(value) for value in by_value.edge)
        painter.setPen(QPen(down, 1.4))
        foot = SCALE_Y + 10
        painter.drawPolyline(
            QPolygonF([QPointF(low, foot - 3), QPointF(low, foot), QPointF(high, foot), QPointF(high, foot - 3)])
        )

    def _paint_ceiling(self, painter: QPainter, view: RulerView) -> None:
        left, right = self._ends()
        ceiling = view.ceiling if self._limit_at is None else self._limit_at
        if ceiling is not None and (ceiling < view.knob.high or self._limit_at is not None):
            self._paint_beyond(painter, self._x(ceiling), right, self._x(ceiling))
        if view.floor is not None and view.floor > view.knob.low:
            self._paint_beyond(painter, left, self._x(view.floor), self._x(view.floor))

    def _paint_beyond(self, painter: QPainter, left: float, right: float, edge: float) -> None:
        """Hatch what the tuner doesn't stand for, with a line and a handle where it begins."""
        colour = self._theme.colours.verdicts[Verdict.DOWN]
        beyond = QRectF(left, SCALE_Y - 12, right - left, 12)
        painter.save()
        painter.setClipRect(beyond)
        painter.setPen(QPen(faded(colour, 0.5), 1))
        offset = beyond.left() - 12
        while offset < beyond.right():
            painter.drawLine(QPointF(offset, beyond.bottom()), QPointF(offset + 12, beyond.top()))
            offset += 5
        painter.restore()
        painter.setPen(QPen(colour, 1.6))
        painter.drawLine(QPointF(edge, SCALE_Y - 14), QPointF(edge, SCALE_Y + 5))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        painter.drawRoundedRect(QRectF(edge - 3, SCALE_Y + 4, 6, 6), 1.5, 1.5)

    def _paint_history(self, painter: QPainter, view: RulerView) -> None:
        c = self._theme.colours
        stock = self._x(view.knob.stock)
        triangle = QPolygonF(
            [QPointF(stock, SCALE_Y + 8), QPointF(stock - 4, SCALE_Y + 14), QPointF(stock + 4, SCALE_Y + 14)]
        )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.muted)
        painter.drawPolygon(triangle)
        taken: list[float] = []
        for mark in sorted(view.marks, key=lambda m: (not m.strong, -m.step)):
            x = self._x(mark.value)
            if not mark.strong and any(abs(x - other) < _CLOSEST_MARKS_PX for other in taken):
                continue
            taken.append(x)
            colour = c.verdicts[mark.verdict]
            paint_mark(
                painter, QPointF(x, MARK_Y), MARK_R, mark.verdict, colour if mark.strong else faded(colour, FAINT),
                mark.recorded,
            )  # fmt: skip

    def _paint_markers(self, painter: QPainter, view: RulerView) -> None:
        c = self._theme.colours
        x = self._x(view.in_force)
        painter.fillRect(
            QRectF(x - 1.5, SCALE_Y - 10, 3, 20), faded(c.ink, 0.35) if view.proposed is not None else c.ink
        )
        if view.proposed is not None:
            at = self._x(view.proposed)
            painter.setPen(QPen(c.in_play, 1.8))
            painter.setBrush(faded(c.panel, 0.85))
            painter.drawRoundedRect(QRectF(at - 4.5, SCALE_Y - 10, 9, 20), 2, 2)
            painter.setPen(QPen(c.in_play, 1.2))
            painter.drawLine(QPointF(at, SCALE_Y - 6), QPointF(at, SCALE_Y + 6))

    def enterEvent(self, event: object) -> None:
        """Show that the marker can be moved."""
        self.update()

    def leaveEvent(self, event: object) -> None:
        """Show the marker at rest."""
        self.update()

    def _ends(self) -> tuple[float, float]:
        return float(SCALE_LEFT), float(self.width() - SCALE_RIGHT)

    def _x(self, value: float) -> float:
        assert self._view is not None
        knob = self._view.knob
        left, right = self._ends()
        inside = min(max(value, knob.low), knob.high)
        return left + (right - left) * (inside - knob.low) / (knob.high - knob.low)


def _told(view: RulerView) -> str:
    """Say in a tooltip all there is no room for."""
    knob = view.knob
    lines = [f"{knob.name} · {knob.subsystem} · {knob.when}"]
    lines += [knob.about] if knob.about else []
    lines += [f"{name} {value}" for name, value in view.derived]
    lines.append(say("stock {stock}", stock=knob.text(knob.stock)))
    if view.ceiling is not None:
        lines.append(say("own limit {ceiling}", ceiling=knob.text(view.ceiling)))
    return "\n".join(lines)


def _tick_stride(notches: int, pixels: float) -> int:
    """Choose how many notches lie between two ticks, so that ticks don't merge."""
    for stride in (1, 2, 4, 5, 10, 20, 50, 100, 200, 500, 1000):
        if pixels * stride / max(notches, 1) >= _CLOSEST_TICKS_PX:
            return stride
    return max(notches, 1)


def _end_digits(value: float) -> int:
    return 0 if value == round(value) else 2
