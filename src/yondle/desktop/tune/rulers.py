"""All rulers of a rig in foldable groups, with a filter, and what has to be said or asked under one of them."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QBoxLayout, QScrollArea, QSizePolicy, QWidget

from yondle.desktop.look.basics import label, tip
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.look.layouts import stacked
from yondle.desktop.look.theme import BODY_PX, SMALL_PX, Theme, font, mixed
from yondle.desktop.tune.ruler import HEIGHT, Ruler
from yondle.language.saying import capital, named, say
from yondle.model.knobs import Subsystem
from yondle.model.quantities import count
from yondle.model.verdicts import Verdict
from yondle.views.tune.rulers import Holding, RulerView

GROUP_HEIGHT = 28
GROUPED_FROM = 7
"""So many knobs and more are shown in groups."""


class GroupHead(QAbstractButton):
    """The heading of a group of rulers: folds and unfolds it, and says what is changed in it while it is folded."""

    def __init__(self, theme: Theme, subsystem: Subsystem) -> None:
        super().__init__()
        self._theme = theme
        self.subsystem = subsystem
        self.unfolded = False
        self._summary = ""
        self.setFixedHeight(GROUP_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        theme.changed.connect(self.update)

    @property
    def summary(self) -> str:
        """What the heading says beside the group's name."""
        return self._summary

    def show_group(self, views: list[RulerView], unfolded: bool) -> None:
        """Show how many knobs the group has, and those of them that aren't at stock."""
        self.unfolded = unfolded
        changed = [f"{v.knob.name} {v.knob.text(v.in_force)}" for v in views if v.in_force != v.knob.stock]
        self._summary = (
            " · ".join(changed) if changed else say("{knobs}, all at stock", knobs=count(len(views), "knob"))
        )
        if unfolded and changed:
            self._summary = say("{changed} of {knobs} changed", changed=len(changed), knobs=count(len(views), "knob"))
        state = say("expanded") if unfolded else say("collapsed")
        self.setText(capital(named(self.subsystem)))
        self.setAccessibleName(f"{named(self.subsystem)}, {state}: {self._summary}")
        self.setToolTip(tip(f"{capital(named(self.subsystem))}: {self._summary}"))
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Space folds and unfolds, as do left and right."""
        key = event.key()
        wants = {Qt.Key.Key_Left: False, Qt.Key.Key_Right: True, Qt.Key.Key_Space: not self.unfolded}
        if key in wants and wants[Qt.Key(key)] != self.unfolded:
            self.click()
        elif key not in wants:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint a small arrow, the name, and the summary."""
        c = self._theme.colours
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = self.height() / 2
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.ink if self.hasFocus() else c.muted)
        points = ((0, -2.5), (8, -2.5), (4, 3.0)) if self.unfolded else ((1.5, -4), (1.5, 4), (7, 0))
        painter.drawPolygon(QPolygonF([QPointF(10 + x, middle + y) for x, y in points]))
        name_font = font(BODY_PX)
        name_font.setBold(True)
        painter.setFont(name_font)
        painter.setPen(c.ink)
        name = capital(named(self.subsystem))
        wide = painter.fontMetrics().horizontalAdvance(name)
        painter.drawText(26, 0, wide + 4, self.height(), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(font(SMALL_PX))
        painter.setPen(c.muted)
        room = self.width() - 26 - wide - 30
        shown = painter.fontMetrics().elidedText(self._summary, Qt.TextElideMode.ElideRight, room)
        painter.drawText(26 + wide + 14, 0, room, self.height(), Qt.AlignmentFlag.AlignVCenter, shown)
        painter.setPen(QPen(mixed(c.rule, c.ground, 0.2), 1))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)


class Rulers(QScrollArea):
    """The rulers. Up and down arrow go from one to the next."""

    moved = Signal(str, float)
    entered = Signal(str)
    step_chosen = Signal(int)
    limit_moved = Signal(str, float)
    folds_changed = Signal(list)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._rulers: dict[str, Ruler] = {}
        self._heads: dict[Subsystem, GroupHead] = {}
        self._unfolded: set[str] = set()
        self._filter = ""
        self._views: list[RulerView] = []
        self._in_play = ""
        self._question: Card | None = None
        self._allowed: int | None = None
        self._inner = QWidget()
        self._inner.setObjectName("middle")
        self._layout = stacked(self._inner, 0)
        self._nothing = label(say("No knob of that name. Esc clears the filter."), "muted")
        self._nothing.setContentsMargins(12, 8, 0, 8)
        self._nothing.hide()
        self._layout.addWidget(self._nothing)
        self._layout.addStretch(1)
        self.setWidget(self._inner)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        self.verticalScrollBar().valueChanged.connect(self._settle_soon)

    def ruler(self, knob: str) -> Ruler | None:
        """Give a knob's ruler."""
        return self._rulers.get(knob)

    def head(self, subsystem: Subsystem) -> GroupHead | None:
        """Give a group's heading; none where there are too few knobs for groups."""
        return self._heads.get(subsystem)

    @property
    def shown(self) -> list[str]:
        """The knobs whose rulers can be seen, in order."""
        return [knob for knob, ruler in self._rulers.items() if not ruler.isHidden()]

    @property
    def question(self) -> Card | None:
        """The card standing under a ruler."""
        return self._question

    def unfold(self, groups: list[str]) -> None:
        """Unfold these groups and fold the others."""
        self._unfolded = set(groups)
        self._arrange()

    def filter_by(self, text: str) -> None:
        """Show only knobs with these words in their name or group, or those 'changed' or 'tried'; all when empty."""
        self._filter = text.strip().casefold()
        self._arrange()

    def show_views(self, views: list[RulerView], in_play: str, locked: bool, held: Holding | None) -> None:
        """Show the rulers; `in_play` names the one whose chances to hold are shown."""
        if [v.knob.id for v in views] != list(self._rulers):
            self._rebuild(views)
        self._views = views
        moved_on = self._in_play != "" and in_play != self._in_play
        self._in_play = in_play
        for view in views:
            ours = view.knob.id == in_play
            self._rulers[view.knob.id].show_view(view, ours, locked, held if ours else None)
        if moved_on:
            self._unfolded |= {str(v.knob.subsystem) for v in views if v.knob.id == in_play}
        self._arrange()
        if moved_on:
            QTimer.singleShot(0, self, self._show_in_play)

    def _show_in_play(self) -> None:
        ruler = self._rulers.get(self._in_play)
        if ruler is not None and not ruler.isHidden():
            self.ensureWidgetVisible(ruler, 0, HEIGHT // 2)

    def focus_on(self, knob: str) -> None:
        """Give a ruler the keyboard."""
        ruler = self._rulers.get(knob) or next(iter(self._rulers.values()), None)
        if ruler is not None:
            ruler.setFocus(Qt.FocusReason.ShortcutFocusReason)
            self.ensureWidgetVisible(ruler)

    def ask(self, under: str, title: str, text: str, actions: list[CardAction]) -> None:
        """Put a question under a ruler."""
        along = QBoxLayout.Direction.LeftToRight
        self.put_under(under, Card(self._theme, title, text, actions, Verdict.REFUSED, along))

    def put_under(self, knob: str, card: Card) -> None:
        """Put a card under a ruler, in place of any other."""
        self.drop_question()
        ruler = self._rulers.get(knob)
        if ruler is None:
            card.deleteLater()
            return
        self._question = card
        self._layout.insertWidget(self._layout.indexOf(ruler) + 1, card)
        card.show()
        self._fit()
        self._inner.adjustSize()
        self.ensureWidgetVisible(card)

    def drop_question(self) -> None:
        """Take the card away."""
        if self._question is not None:
            self._layout.removeWidget(self._question)
            self._question.hide()
            self._question.deleteLater()
            self._question = None
            self._fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the ruler or heading above or below."""
        if event.key() not in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            super().keyPressEvent(event)
            return
        lines = [w for w in self._lines() if not w.isHidden()]
        at = next((i for i, line in enumerate(lines) if line.hasFocus()), 0)
        to = at + (1 if event.key() == Qt.Key.Key_Down else -1)
        if 0 <= to < len(lines):
            lines[to].setFocus(Qt.FocusReason.TabFocusReason)
            self.ensureWidgetVisible(lines[to])

    def resizeEvent(self, event: QResizeEvent) -> None:
        """End between two rulers at another size, too."""
        super().resizeEvent(event)
        if event.size().height() != event.oldSize().height():
            self._settle_soon()

    def sizeHint(self) -> QSize:
        """As high as all that is shown."""
        return QSize(640, self._content_height())

    def _lines(self) -> list[QWidget]:
        items = (self._layout.itemAt(i) for i in range(self._layout.count()))
        widgets = (item.widget() for item in items if item is not None)
        return [w for w in widgets if isinstance(w, Ruler | GroupHead)]

    def _rebuild(self, views: list[RulerView]) -> None:
        self.drop_question()
        for line in self._lines():
            self._layout.removeWidget(line)
            line.deleteLater()
        self._rulers, self._heads = {}, {}
        at = 0
        for view in views:
            subsystem = view.knob.subsystem
            if len(views) >= GROUPED_FROM and subsystem not in self._heads:
                head = GroupHead(self._theme, subsystem)
                head.clicked.connect(lambda _=False, group=str(subsystem): self._toggle(group))
                self._heads[subsystem] = head
                self._layout.insertWidget(at, head)
                at += 1
            ruler = Ruler(self._theme)
            ruler.moved.connect(self.moved)
            ruler.entered.connect(self.entered)
            ruler.step_chosen.connect(self.step_chosen)
            ruler.limit_moved.connect(self.limit_moved)
            self._layout.insertWidget(at, ruler)
            self._rulers[view.knob.id] = ruler
            at += 1

    def _toggle(self, group: str) -> None:
        self._unfolded ^= {group}
        self._arrange()
        self.folds_changed.emit(sorted(self._unfolded))

    def _arrange(self) -> None:
        """Show and hide by group and filter."""
        matching = {v.knob.id for v in self._views if self._matches(v)}
        for view in self._views:
            open_ = not self._heads or bool(self._filter) or str(view.knob.subsystem) in self._unfolded
            ruler, shown = self._rulers[view.knob.id], view.knob.id in matching and open_
            if ruler.hasFocus() and not shown and view.knob.subsystem in self._heads:
                self._heads[view.knob.subsystem].setFocus()
            ruler.setVisible(shown)
        for subsystem, head in self._heads.items():
            own = [v for v in self._views if v.knob.subsystem is subsystem]
            head.show_group(own, bool(self._filter) or str(subsystem) in self._unfolded)
            head.setVisible(any(v.knob.id in matching for v in own))
        self._nothing.setVisible(bool(self._views) and not matching)
        self._fit()

    def _matches(self, view: RulerView) -> bool:
        knob = view.knob
        words = f"{knob.name} {knob.id} {named(knob.subsystem)} {named(knob.when)} {knob.about}"
        words += say(" changed") if view.in_force != knob.stock else ""
        words += say(" tried") if len(view.marks) > 1 else ""
        return all(word in words.casefold() for word in self._filter.split())

    def _content_height(self) -> int:
        return (self._ends() or [0])[-1]

    def allow(self, height: int) -> None:
        """Take no more than this height, and where not everything fits end between two rulers."""
        if height != self._allowed:
            self._allowed = height
            self._fit()

    def _fit(self) -> None:
        whole = self._content_height()
        room = whole if self._allowed is None or whole <= self._allowed else self._ending(self._allowed)
        self.setMaximumHeight(max(room, HEIGHT))
        self.updateGeometry()
        self._settle_soon()

    def _ending(self, below: int) -> int:
        """Give the lowest end of a line that lies no lower than this."""
        return max((end for end in self._ends() if end <= below), default=below)

    def _ends(self) -> list[int]:
        """List where each line ends that is shown, from the top of them all."""
        ends, at = [], 0
        for i in range(self._layout.count()):
            item = self._layout.itemAt(i)
            widget = item.widget() if item is not None else None
            if widget is not None and not widget.isHidden():
                at += self._height_of(widget)
                ends.append(at)
        return ends

    def _height_of(self, line: QWidget) -> int:
        if isinstance(line, Ruler):
            return HEIGHT
        if isinstance(line, GroupHead):
            return GROUP_HEIGHT
        width = max(self.viewport().width(), 400)
        return line.heightForWidth(width) if line.hasHeightForWidth() else line.sizeHint().height()

    def _settle_soon(self) -> None:
        QTimer.singleShot(0, self, self._settle)

    def _settle(self) -> None:
        """Have the first line begin at the top and the last one end at the foot: none is cut in half."""
        bar, ends = self.verticalScrollBar(), self._ends()
        room = self.height()
        if not ends or ends[-1] <= room:
            self.setViewportMargins(0, 0, 0, 0)
            return
        begins = [0, *ends[:-1]]
        last = next(begin for begin in begins if ends[-1] - begin <= room or begin == begins[-1])
        top = min(min(begins, key=lambda begin: abs(begin - bar.value())), last)
        rest = room - (max((end for end in ends if end <= top + room), default=top + room) - top)
        if self.viewportMargins().bottom() != rest:
            self.setViewportMargins(0, 0, 0, rest)
        if bar.value() != top:
            bar.setValue(top)
