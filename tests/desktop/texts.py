"""Walks every text of all places and cards at five sizes; prints each that is cut, elided untold, on another, or faint.

`python -m tests.desktop.texts FOLDER` prints what was found and a table of counts; the exit code tells whether there was any.
`YONDLE_LANGUAGE=de` walks the German window. Texts are looked at where they stand once laid out: those that Qt paints by their
widgets, those that are painted by hand or on charts by what is really drawn.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetrics, QHelpEvent, QImage, QPainter, QPicture
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QApplication,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QTableView,
    QToolTip,
    QTreeView,
    QWidget,
)  # fmt: skip
from tools.screenshots import Camera, demo_logbook

from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.app.session.requests import SetPace
from yondle.desktop.charts.beside import Beside
from yondle.desktop.look.basics import Eliding

SIZES = ((1100, 700), (1280, 800), (1600, 900), (1920, 1080), (2560, 1440))
CARDS = (
    "limits", "sensors", "sweep", "edge", "conditions", "benchmarks", "result", "profiles", "keep", "next", "own", "record",
    "note",
)  # fmt: skip
TABLE = Path(__file__).parent.parent.parent / "docs" / "examples" / "wren-power.csv"
IN_PANELS = SIZES[:2]
"""What differs from card to card, and from step to step, stands in panels whose width is the same in all larger windows."""
COLOURED = SIZES[:2]
"""Colours are looked at there: they don't change with the size."""
STEPS = (0, 3, 11, 14)
LEAST_CONTRAST = 4.5
SLACK_PX, OVERLAP_PX = 1.5, 2.5
_END_LETTERS, _HOVER_MS = 12, 40
ENLARGED = 3
"""Letters are drawn so much larger to see their colour without the blur of their edges."""


class Painted(NamedTuple):
    """A text as it was drawn by hand: where on its widget, what room it was given, and in which colour."""

    on: QWidget
    rect: QRectF
    room: QRectF
    text: str
    ink: QColor


class Found(NamedTuple):
    """Something that is wrong with a text."""

    kind: str
    where: str
    text: str


class Listener:
    """Hears every text that Python code draws, from now on."""

    def __init__(self) -> None:
        self.painted: list[Painted] = []
        really = QPainter.drawText

        def draw(painter: QPainter, *what: Any) -> Any:
            self._hear(painter, what)
            return really(painter, *what)

        QPainter.drawText = draw  # type: ignore[method-assign]

    def _hear(self, painter: QPainter, what: tuple[Any, ...]) -> None:
        text = next((each for each in what if isinstance(each, str)), "")
        on = painter.device()
        if not text.strip() or not isinstance(on, QWidget):
            return
        first, metrics = what[0], painter.fontMetrics()
        if isinstance(first, QRect | QRectF):
            room = QRectF(first)
            flags = next(int(f) if isinstance(f, int) else f.value for f in what[1:] if not isinstance(f, str))
            free = bool(flags & Qt.TextFlag.TextDontClip.value)
            rect = QRectF(painter.boundingRect(room, flags, text))
            room = rect if free else room
        else:
            at = QPointF(first) if isinstance(first, QPoint | QPointF) else QPointF(float(what[0]), float(what[1]))
            rect = QRectF(at.x(), at.y() - metrics.ascent(), metrics.horizontalAdvance(text), metrics.height())
            room = rect
        world = painter.worldTransform()
        ink = QColor(painter.pen().color())
        ink.setAlphaF(ink.alphaF() * painter.opacity())
        self.painted.append(Painted(on, world.mapRect(rect), world.mapRect(room), text, ink))


def contrast(a: QColor, b: QColor) -> float:
    """Give the ratio of two colours' luminances (WCAG 2)."""
    return _ratio(np.array([a.redF(), a.greenF(), a.blueF()]), np.array([b.redF(), b.greenF(), b.blueF()]))


def _ratio(a: np.ndarray, b: np.ndarray) -> float:
    first, second = (
        float(np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4) @ (0.2126, 0.7152, 0.0722))
        for c in (a, b)
    )
    return (max(first, second) + 0.05) / (min(first, second) + 0.05)


def pixels(image: QImage) -> np.ndarray:
    """Give the pixels, each as red, green, blue."""
    plain = image.convertToFormat(QImage.Format.Format_RGB32)
    rows = np.frombuffer(plain.constBits(), np.uint8).reshape(plain.height(), plain.bytesPerLine() // 4, 4)
    return rows[:, : plain.width(), 2::-1].copy()


def colours_of(part: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Give the colours of a part of a picture, shape (colours, 3), and how many pixels have each."""
    flat = part.reshape(-1, 3).astype(np.uint32)
    keys, counts = np.unique(flat[:, 0] << 16 | flat[:, 1] << 8 | flat[:, 2], return_counts=True)
    return np.stack([keys >> 16, (keys >> 8) & 255, keys & 255], axis=1), counts


def ground_of(part: np.ndarray) -> QColor:
    """Give the colour that most of a part of a picture has."""
    colours, counts = colours_of(part)
    return QColor(*(int(c) for c in colours[counts.argmax()]))


class Walk:
    """Looks at a window at all its sizes, and gathers what is wrong."""

    def __init__(self, app: QApplication, listener: Listener) -> None:
        self._app, self._listener = app, listener
        self.found: dict[Found, str] = {}
        self.looked = 0
        self._known: dict[tuple[object, ...], float] = {}
        self._known_told: set[tuple[type, str]] = set()

    def look(self, window: QWidget, where: str, sizes: tuple[tuple[int, int], ...] = SIZES) -> None:
        """Look at everything that is shown now, at every size."""
        for width, height in sizes:
            window.resize(width, height)
            self.settle()
            self._listener.painted.clear()
            grabbed = window.grab()
            picture = pixels(grabbed.toImage()) if (width, height) in COLOURED else np.empty((0, 0, 3), np.uint8)
            for found in self._all(window, picture, where):
                self.found.setdefault(found, f"{width}x{height}")

    def settle(self) -> None:
        """Let everything find its place."""
        for _ in range(5):
            self._app.processEvents()

    def _all(self, window: QWidget, picture: np.ndarray, where: str) -> Iterator[Found]:
        inside = (w for w in window.findChildren(QWidget) if w.window() is window and w.isVisibleTo(window))
        shown = [w for w in inside if not _inner(w).visibleRegion().isEmpty()]
        rects: list[tuple[QRect, str]] = []
        drawn = list(self._listener.painted)
        for widget in shown:
            text = _text_of(widget)
            if text.strip():
                self.looked += 1
                at = QRect(widget.mapTo(window, QPoint(0, 0)), widget.size())
                yield from (Found(kind, where, text) for kind in self._widget(widget, text))
                if widget.isEnabled() and self._faint(widget, at, picture):
                    yield Found("faint", where, text)
                if isinstance(widget, QLabel):
                    rects.append((at & _window_rect(widget, window), text))
            if isinstance(widget, QTableView | QTreeView):
                yield from (Found("elided", where, each) for each in self._cells(widget))
            if isinstance(widget, QHeaderView):
                yield from (Found("elided", where, each) for each in self._headers(widget))
        yield from (Found("overlapping", where, both) for both in _overlapping([(QRectF(r), t) for r, t in rects]))
        yield from self._by_hand(window, drawn, picture, where)
        for plot in (each for each in shown if isinstance(each, pg.PlotWidget)):
            yield from self._chart(plot, drawn, where)

    # -- what Qt paints ------------------------------------------------------------------------------------------------

    def _widget(self, widget: QWidget, text: str) -> Iterator[str]:
        needed = _needed(widget, text)
        if isinstance(widget, Eliding | QComboBox):
            if needed.width() > widget.width() + SLACK_PX and not self._told(widget, widget.rect().center(), text):
                yield "elided"
            if needed.height() > widget.height() + SLACK_PX:
                yield "cut"
        elif (
            needed.width() > widget.width() + SLACK_PX
            or needed.height() > widget.height() + SLACK_PX
            or _cut_by_parents(widget)
        ):
            yield "cut"

    def _faint(self, widget: QWidget, at: QRect, picture: np.ndarray) -> bool:
        part = picture[max(at.top(), 0) : at.bottom() + 1, max(at.left(), 0) : at.right() + 1]
        if not part.size:
            return False
        ground = ground_of(part)
        checked = isinstance(widget, QAbstractButton) and widget.isChecked()
        kind = (
            type(widget),
            widget.property("role"),
            widget.property("kind"),
            checked,
            widget.styleSheet(),
            ground.rgb(),
        )
        known = self._known
        if kind not in known:
            image = QImage(widget.size() * ENLARGED, QImage.Format.Format_RGB32)
            image.fill(ground)
            painter = QPainter(image)
            painter.scale(ENLARGED, ENLARGED)
            widget.render(painter, QPoint(), renderFlags=QWidget.RenderFlag(0))
            painter.end()
            seen, counts = colours_of(pixels(image))
            back = seen[counts.argmax()] / 255.0
            known[kind] = max(_ratio(each / 255.0, back) for each in seen)
        return known[kind] < LEAST_CONTRAST

    def _told(self, widget: QWidget, at: QPoint, text: str) -> bool:
        """Tell whether a tool tip says what is elided; what was told once by a part of its kind isn't asked for again."""
        if (type(widget), text) in self._known_told:
            return True
        QToolTip.hideText()
        if isinstance(widget.parentWidget(), pg.GraphicsView):
            QTest.mouseMove(widget, at)
            QTest.qWait(_HOVER_MS)
        for on in (widget, widget.parentWidget()):
            if on is not None:
                place = widget.mapTo(on, at)
                self._app.sendEvent(on, QHelpEvent(QEvent.Type.ToolTip, place, widget.mapToGlobal(at)))
        begun = text.split("…")[0].strip()[-_END_LETTERS:]
        told = QToolTip.text() or widget.toolTip()
        if isinstance(widget.parentWidget(), pg.GraphicsView):
            self._app.sendEvent(widget.parentWidget(), QEvent(QEvent.Type.Leave))
        QToolTip.hideText()
        if begun in told:
            self._known_told.add((type(widget), text))
        return begun in told

    def _cells(self, view: QTableView | QTreeView) -> Iterator[str]:
        model, area = view.model(), view.viewport().rect()
        seen: set[int] = set()
        y = 1
        while model is not None and y < area.height():
            index = view.indexAt(QPoint(2, y))
            y += max(view.visualRect(index).height(), 8) if index.isValid() else 20
            if not index.isValid() or index.row() in seen:
                continue
            for column in range(model.columnCount(index.parent())):
                cell = index.siblingAtColumn(column)
                text, rect = str(cell.data() or ""), view.visualRect(cell)
                if (
                    not text
                    or not area.intersects(rect)
                    or view.isColumnHidden(column)
                    or view.indexWidget(cell) is not None
                ):
                    continue
                self.looked += 1
                spans = isinstance(view, QTableView) and view.columnSpan(cell.row(), column) > 1
                tight = view.sizeHintForIndex(cell).width() > rect.width() + SLACK_PX
                if tight and not spans and not cell.data(Qt.ItemDataRole.ToolTipRole):
                    yield text

    def _headers(self, header: QHeaderView) -> Iterator[str]:
        model = header.model()
        if model is None or header.orientation() is not Qt.Orientation.Horizontal:
            return
        for section in range(header.count()):
            if header.isSectionHidden(section) or header.sectionViewportPosition(section) > header.width():
                continue
            text = str(model.headerData(section, header.orientation()) or "")
            tight = header.sectionSizeFromContents(section).width() > header.sectionSize(section) + SLACK_PX
            if text and tight and not model.headerData(section, header.orientation(), Qt.ItemDataRole.ToolTipRole):
                yield text

    # -- what is painted by hand ---------------------------------------------------------------------------------------

    def _by_hand(self, window: QWidget, drawn: list[Painted], picture: np.ndarray, where: str) -> Iterator[Found]:
        by_widget: dict[QWidget, list[tuple[QRectF, str]]] = {}
        for on, rect, room, text, ink in drawn:
            if on.window() is not window or isinstance(on, Eliding):
                continue
            self.looked += 1
            if text.endswith("…") and not text.endswith(" …") and not self._told(on, rect.center().toPoint(), text):
                yield Found("elided", where, text)
            outside = rect.left() < -SLACK_PX or rect.right() > on.width() + SLACK_PX
            if outside or rect.width() > room.width() + SLACK_PX or rect.height() > room.height() + 2 * SLACK_PX:
                yield Found("cut", where, text)
            by_widget.setdefault(on, []).append((rect, text))
            at = QRectF(rect).translated(QPointF(on.mapTo(window, QPoint(0, 0)))).toAlignedRect()
            part = picture[max(at.top(), 0) : at.bottom() + 1, max(at.left(), 0) : at.right() + 1]
            if part.size and on.isEnabled():
                ground = ground_of(part)
                if contrast(_over(ink, ground), ground) < LEAST_CONTRAST:
                    yield Found("faint", where, text)
        for texts in by_widget.values():
            yield from (Found("overlapping", where, both) for both in _overlapping(texts))

    def _chart(self, plot: pg.PlotWidget, drawn: list[Painted], where: str) -> Iterator[Found]:
        """Look at a chart: its ticks and titles, the words on it, and whether these lie on each other or on points."""
        texts = [(each.rect, each.text) for each in drawn if each.on is plot.viewport()]
        texts += [t for t in _scene_texts(plot) if t not in texts]
        self.looked += len(texts)
        area = QRectF(plot.viewport().rect()).adjusted(-SLACK_PX, -SLACK_PX, SLACK_PX, SLACK_PX)
        for rect, text in texts:
            if not area.contains(rect) and area.intersects(rect):
                yield Found("cut", where, text)
        yield from (Found("overlapping", where, both) for both in _overlapping(texts))
        marks = list(_marks(plot))
        for rect, text in texts:
            if any(rect.intersects(mark) for mark in marks):
                yield Found("on a point", where, text)


def _over(ink: QColor, ground: QColor) -> QColor:
    share = ink.alphaF()
    mix = [getattr(ink, c)() * share + getattr(ground, c)() * (1 - share) for c in ("redF", "greenF", "blueF")]
    return QColor.fromRgbF(*mix)


def _text_of(widget: QWidget) -> str:
    if isinstance(widget, QLabel | QAbstractButton):
        return "" if isinstance(widget, QLabel) and widget.pixmap() and not widget.pixmap().isNull() else widget.text()
    if isinstance(widget, QComboBox):
        return widget.currentText()
    if isinstance(widget, QLineEdit) and not widget.text() and not widget.hasFocus():
        return widget.placeholderText()
    return ""


def _needed(widget: QWidget, text: str) -> QSize:
    """Give the room that a text takes."""
    metrics = QFontMetrics(widget.font())
    if isinstance(widget, QLabel) and widget.wordWrap() and not isinstance(widget, Eliding):
        longest = max((metrics.horizontalAdvance(word) for word in text.split()), default=0)
        return QSize(longest, widget.heightForWidth(widget.width()))
    if isinstance(widget, QComboBox):
        return QSize(metrics.horizontalAdvance(text) + 28, metrics.height())
    if isinstance(widget, QLineEdit):
        return QSize(metrics.horizontalAdvance(text) + 10, metrics.height())
    if isinstance(widget, QAbstractButton):
        widest = max((metrics.horizontalAdvance(line) for line in text.replace("&", "").split("\n")), default=0)
        return QSize(widest, metrics.height())
    hint = QSize(metrics.horizontalAdvance(text), metrics.height())
    return hint if isinstance(widget, Eliding) else widget.sizeHint()


def _inner(widget: QWidget) -> QWidget:
    """Give what of a widget is painted on: a scroll area lies wholly under its inner part."""
    return widget.viewport() if isinstance(widget, QAbstractScrollArea) else widget


def _scrolls(widget: QWidget) -> bool:
    return isinstance(widget.parentWidget(), QAbstractItemView) or widget.objectName() == "qt_scrollarea_viewport"


def _cut_by_parents(widget: QWidget) -> bool:
    """Tell whether a part of a widget lies outside of those it stands in, and can't be scrolled to."""
    rect, inner = widget.rect(), widget
    outer = widget.parentWidget()
    while outer is not None:
        rect = QRect(inner.mapTo(outer, rect.topLeft()), rect.size())
        if not outer.rect().adjusted(-2, -2, 2, 2).contains(rect):
            return not _scrolls(outer) or rect.left() < -2 or rect.right() > outer.width() + 2
        if outer.isWindow():
            return False
        inner, outer = outer, outer.parentWidget()
    return False


def _window_rect(widget: QWidget, window: QWidget) -> QRect:
    seen = widget.visibleRegion().boundingRect()
    return QRect(widget.mapTo(window, seen.topLeft()), seen.size())


def _overlapping(texts: list[tuple[QRectF, str]]) -> Iterator[str]:
    for i, (one, first) in enumerate(texts):
        for other, second in texts[i + 1 :]:
            both = one & other
            if both.width() > OVERLAP_PX and both.height() > OVERLAP_PX and first != second:
                yield f"{first} / {second}"


def _scene_texts(plot: pg.PlotWidget) -> Iterator[tuple[QRectF, str]]:
    def on_view(item: Any, rect: QRectF) -> QRectF:
        return QRectF(plot.mapFromScene(item.mapRectToScene(rect)).boundingRect())

    for item in plot.scene().items():
        if isinstance(item, pg.TextItem) and item.isVisible():
            yield on_view(item.textItem, item.textItem.boundingRect()), item.toPlainText()
        elif isinstance(item, pg.AxisItem) and item.isVisible():
            picture = QPicture()
            painter = QPainter(picture)
            specs = None
            with suppress(AttributeError, TypeError):
                specs = item.generateDrawSpecs(painter)
            painter.end()
            for rect, _, text in specs[2] if specs else ():
                yield on_view(item, rect), text
            if item.label.isVisible():
                margin = item.label.document().documentMargin()
                inner = item.label.boundingRect().adjusted(margin, margin, -margin, -margin)
                yield on_view(item.label, inner), item.label.toPlainText().strip()


def _marks(plot: pg.PlotWidget) -> Iterator[QRectF]:
    for item in plot.scene().items():
        if isinstance(item, pg.ScatterPlotItem) and item.isVisible():
            for spot in item.points():
                at = QPointF(plot.mapFromScene(item.mapToScene(spot.pos())))
                half = max(spot.size() / 2.0 - 1.5, 1.0)
                if spot.size() >= 8:
                    yield QRectF(at.x() - half, at.y() - half, 2 * half, 2 * half)


def walk(folder: Path) -> Walk:
    """Open everything, and look at all of it."""
    from yondle.desktop.shell.rooms import NAMES

    book = folder / "heron.yondle"
    if not book.exists():
        demo_logbook(book)
    camera = Camera(folder, folder)
    walked = Walk(camera.app, Listener())
    with camera.window() as window:
        camera.until(lambda: window.first.here.text().strip() != "")
        walked.look(window, "first page")
        create_logbook(folder / "empty.yondle", choose_rig("heron")).close()
        camera.open(window, folder / "empty.yondle")
        for i, name in enumerate(NAMES):
            window.go_to(i)
            camera.until(lambda: getattr(window.places.currentWidget(), "complete", True))
            walked.look(window, f"{name}, empty", IN_PANELS)
        camera.open(window, book)
        tune = window.tune
        assert tune is not None
        assert window.places is not None
        for number in STEPS:
            tune.trail.choose(number)
            walked.look(window, f"step {number}", IN_PANELS)
        for name in CARDS:
            tune.actions_by_name[name].trigger()
            camera.until(lambda: not window.bridge.busy)
            walked.look(window, f"card {name}", SIZES if name in ("limits", "next") else IN_PANELS)
            tune.actions_by_name["dismiss"].trigger()
            tune.rulers.drop_question()
        tune.actions_by_name["tour"].trigger()
        walked.look(window, "tour", IN_PANELS)
        tune.tour.leave()
        for page in (window.over.show_preferences, window.over.show_help):
            page()
            walked.look(window, page.__name__)
            window.over.leave()
        window._open_commands()
        walked.look(window, "command list")
        window.commands.hide()
        tune.actions_by_name["figures"].trigger()
        walked.look(window, "figures beside the chart")
        tune.actions_by_name["figures"].trigger()
        window.over.show_grid(2)
        walked.look(window, "grid")
        window.over.leave()
        window.over.bring(TABLE)
        camera.until(lambda: window.over.page is not None)
        walked.look(window, "table")
        window.over.leave()
        tune._propose("core_clock", 4750)
        tune.side.next.own.more.click()
        walked.look(window, "proposal")
        tune._propose("memory_rate", 6000)
        walked.look(window, "second knob")
        tune._drop()
        tune._drop()
        for i, name in enumerate(NAMES):
            window.go_to(i)
            camera.until(lambda: getattr(window.places.currentWidget(), "complete", True))
            walked.look(window, name)
            beside = getattr(window.places.currentWidget(), "beside", None)
            if isinstance(beside, Beside):
                beside.turn()
                walked.look(window, f"{name} with its figures")
                beside.turn()
        window.go_to(0)
        tune._propose("core_clock", 4725)
        window.book.ask(SetPace(200.0))
        tune.actions_by_name["test"].trigger()
        camera.until(lambda: tune.progress.number >= 3)
        walked.look(window, "running")
        window.book.ask(SetPace(None))
        camera.until(lambda: not window.bridge.busy)
        walked.look(window, "verdict")
        camera.theme.force("night")
        for i, name in enumerate(NAMES):
            window.go_to(i)
            camera.until(lambda: getattr(window.places.currentWidget(), "complete", True))
            walked.look(window, f"{name} at night", COLOURED)
        camera.theme.force("paper")
        window.go_to(0)
        tune._propose("core_clock", 5100)
        tune.actions_by_name["test"].trigger()
        camera.until(lambda: not window.bridge.busy)
        walked.look(window, "failed")
    return walked


def main() -> int:
    """Print what was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    walked = walk(parser.parse_args().folder)
    for found, size in sorted(walked.found.items()):
        print(f"{found.kind} at {size} in {found.where}: {found.text[:160]!r}")
    counts = Counter(found.kind for found in walked.found)
    print(f"{walked.looked} texts looked at; " + (", ".join(f"{n} {k}" for k, n in counts.items()) or "nothing wrong"))
    return 1 if walked.found else 0


if __name__ == "__main__":
    sys.exit(main())
