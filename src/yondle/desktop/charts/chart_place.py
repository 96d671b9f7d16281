"""What places with one large chart share: the page without figures, and copying the chart as a picture or a table."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, Protocol, TypeVar

from PySide6.QtCore import QPoint, QRect, QRectF, QSize, QSizeF, Qt, Signal
from PySide6.QtGui import (
    QAction,
    QContextMenuEvent,
    QGuiApplication,
    QImage,
    QKeySequence,
    QPageLayout,
    QPainter,
    QPixmap,
)
from PySide6.QtWidgets import QFileDialog, QLayout, QMenu, QStackedWidget, QWidget

from yondle.app.session.commands import Command
from yondle.desktop.charts.beside import Beside
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import button, label
from yondle.desktop.look.empty import EmptyLeaf
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import MARGIN, Theme, font
from yondle.desktop.look.turns import Turns
from yondle.formats.whole_files import written_whole
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.tables.writing import OutTable, as_cells, table_of_lines, write_table

if TYPE_CHECKING:
    from PySide6.QtPrintSupport import QPrinter

T = TypeVar("T")
PRINTED_FINER = 4
"""A printed chart has so many dots for each on the screen."""
_CAPTION_SHARE = 0.014
KINDS = later("Drawing (*.svg);;Picture (*.png);;Figures (*.csv);;Spreadsheet (*.xlsx);;Markdown (*.md)")
CHART_MENU = ("figures", "copy_picture", "copy_table", "save", "print")
TABLE_KINDS = (".csv", ".xlsx", ".md")

_WORDS_PX = 560
"""How wide sentences run where a place is empty."""


class ShownChart(Protocol):
    """A chart that can be copied and saved."""

    def size(self) -> QSize:
        """Give its size in pixels."""

    def logicalDpiX(self) -> int:
        """Give the dots an inch it is painted with."""

    def draw(self, painter: QPainter) -> None:
        """Draw it onto something else."""

    def grab(self) -> QPixmap:
        """Give its picture."""

    def table(self) -> str:
        """Give its figures as tab-separated lines."""


class ChartPlace(QWidget):
    """A place that shows either its `whole` page or what to do so that there is something to show.

    `wants_step` and `wants_figure` are sent with a step's number that is to be shown, or asked a figure for; `wants_trace` with
    an attempt, `proposed` with values of knobs to test next, `wrote` when something was written that others show, too,
    `wants_command` with a command of Tune that would put something here.
    """

    sketch: ClassVar[str]
    """How it is sketched while it is empty, as in `look/empty.py`."""

    wants_step = Signal(int)
    wants_trace = Signal(int)
    wants_figure = Signal(int)
    proposed = Signal(dict)
    wrote = Signal()
    wants_command = Signal(str)

    def __init__(
        self, theme: Theme, book: OpenBook, name: str, nothing: str, chart: Callable[[], ShownChart | None]
    ) -> None:
        super().__init__()
        self.setObjectName("page")
        self._theme, self._book = theme, book
        self._seen = -1
        self._turns = Turns(self)
        self._name, self._shown_chart = name, chart
        self.whole = QWidget()
        empty = QWidget()
        box = stacked(empty, MARGIN)
        words = label(nothing, "muted", wrap=True)
        words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        words.setMaximumWidth(_WORDS_PX)
        line = abreast()
        line.addStretch(1)
        line.addWidget(words, 10)
        line.addStretch(1)
        self.fill_button = button("", "main")
        self.fill_button.clicked.connect(lambda: self.wants_command.emit(self._fills()))
        box.addStretch(3)
        box.addWidget(EmptyLeaf(theme, self.sketch), 0, Qt.AlignmentFlag.AlignCenter)
        box.addLayout(line)
        box.addWidget(self.fill_button, 0, Qt.AlignmentFlag.AlignCenter)
        box.addStretch(4)
        self.trouble = label("", "warning", wrap=True)
        self.trouble.setContentsMargins(MARGIN, 4, MARGIN, 0)
        self.trouble.hide()
        self._pages = QStackedWidget()
        for page in (QWidget(), empty, self.whole):
            self._pages.addWidget(page)
        outer = stacked(self)
        outer.addWidget(self.trouble)
        outer.addWidget(self._pages)
        self.actions_by_name: dict[str, QAction] = {}
        self.beside: Beside | None = None
        self.add_action("copy_picture", say("copy the chart as a picture"), "Ctrl+C", self._copy_picture)
        self.add_action("copy_table", say("copy the chart as a table"), "Ctrl+Shift+C", self._copy_table)
        self.add_action("save", say("save the chart as SVG, PNG or CSV …"), "Ctrl+S", self._ask_to_save)
        self.add_action("print", say("print the chart …"), "Ctrl+Shift+P", self._ask_to_print)

    def refresh(self) -> None:
        """Bring what is shown up to date, now."""
        self.refresh_by_turns()
        self._turns.finish()

    def refresh_by_turns(self) -> None:
        """Bring what is shown up to date, where anything has changed since; the window answers meanwhile."""
        if self._seen != self._book.now.version:
            self._seen = self._book.now.version
            self._turns.begin(self.pieces())

    @property
    def complete(self) -> bool:
        """Tell whether what is shown is up to date."""
        return self._seen == self._book.now.version and not self._turns.active

    def pieces(self) -> Iterator[None]:
        """Bring what is shown up to date in pieces; what was chosen between two of them is shown by the next."""
        raise NotImplementedError

    def follow(self) -> None:
        """Follow what the engine says while the place is shown; most have nothing to follow."""

    def take_focus(self) -> None:
        """Let keys go to the chart."""
        chart = self._shown_chart()
        if isinstance(chart, QWidget):
            chart.setFocus()

    def _fills(self) -> str:
        """Name the command of Tune that would put something here: stock is measured first, then a knob is swept."""
        return "sweep" if self._book.now.baseline_step is not None else "baseline"

    def show_whole(self, whole: bool) -> None:
        """Show the figures, or what to do to get some."""
        words = {"sweep": say("Sweep a knob in Tune"), "baseline": say("Measure the baseline in Tune")}
        self.fill_button.setText(words[self._fills()])
        self.fill_button.setAccessibleName(self.fill_button.text())
        self.fill_button.setVisible(not self._book.now.elsewhere)
        self._pages.setCurrentIndex(2 if whole else 1)

    def put_together(self, head: QLayout | None, large: QWidget | QLayout, side: QWidget, *below: QWidget) -> None:
        """Lay out the whole page: choices above, something large with its side beside it, and what stands below."""
        middle = abreast(gap=MARGIN)
        if isinstance(large, QLayout):
            middle.addLayout(large, 1)
        else:
            middle.addWidget(large, 1)
        middle.addWidget(side)
        box = stacked(self.whole)
        box.setContentsMargins(MARGIN, 8, MARGIN, 8)
        if head is not None:
            box.addLayout(head)
        box.addLayout(middle, 1)
        for each in below:
            box.addWidget(each)

    def with_table(self, chart: QWidget | QLayout) -> Beside:
        """Give the chart with room for the table of its figures, and offer that."""
        if isinstance(chart, QLayout):
            chart.setContentsMargins(0, 0, 0, 0)
            holder = QWidget()
            holder.setLayout(chart)
            chart = holder
        self.beside = Beside(chart, self.shown_for_table)
        self.add_action("figures", say("the chart's figures as a table beside it"), "T", self.beside.turn)
        return self.beside

    def shown_for_table(self) -> ShownChart | None:
        """Give the chart whose figures the table shows."""
        return self._shown_chart()

    def renew_table(self) -> None:
        """Have the table follow the chart."""
        if self.beside is not None:
            self.beside.renew()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what can be done with what lies under the pointer, or with the chart."""
        menu = QMenu(self)
        menu.setAccessibleName(self._name)
        under = self.childAt(event.pos())
        for step in self._steps_under(under, event.globalPos()):
            entry = menu.addAction(say("Show step {step} in Tune", step=step))
            entry.triggered.connect(lambda _=False, step=step: self.wants_step.emit(step))
        self.offer_under(menu, under, event.globalPos())
        if not menu.isEmpty():
            menu.addSeparator()
        for name in CHART_MENU:
            if name in self.actions_by_name:
                menu.addAction(self.actions_by_name[name])
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def offer_under(self, menu: QMenu, under: QWidget | None, at: QPoint) -> None:
        """Put into a menu what can be done with what lies under a point of the screen; most places have the chart alone."""

    def _steps_under(self, under: QWidget | None, at: QPoint) -> tuple[int, ...]:
        while under is not None and under is not self:
            steps = getattr(under, "steps_at", None)
            if steps is not None:
                found: tuple[int, ...] = steps(under.mapFromGlobal(at))
                return found
            under = under.parentWidget()
        return ()

    def add_action(self, name: str, text: str, keys: str, do: Callable[[], object]) -> None:
        """Add something that can be done here, by key and from the command list."""
        action = QAction(f"{self._name}: {text}", self)
        action.setShortcut(QKeySequence(keys))
        action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        action.triggered.connect(lambda _=False: do())
        self.addAction(action)
        self.actions_by_name[name] = action

    def save(self, path: Path) -> None:
        """Write the chart as a picture, or its figures; raises KnownError for another kind and where it can't be written."""
        chart = self._shown_chart()
        if chart is None:
            raise _no_chart()
        kind = path.suffix.lower()
        if kind in TABLE_KINDS:
            whole = table_of_lines(chart.table(), say("everything"))
            out = self.out_table() if kind != ".csv" else None
            write_table(path, out or whole, whole if out is not None else None)
        elif kind == ".png":
            with written_whole(path) as new:
                _must_be_written(chart.grab().save(str(new), "PNG"), path)
        elif kind == ".svg":
            with written_whole(path) as new:
                _must_be_written(_as_svg(chart, new), path)
        else:
            raise KnownError(
                say("A chart isn't written as '{kind}'.", kind=kind),
                say("End the name in .svg, .png, .csv, .xlsx or .md."),
            )

    def out_table(self) -> OutTable | None:
        """Give what is shown as a table to take out; None where the chart's own lines are all there is."""
        return None

    def caption(self) -> str:
        """Say what the chart shows, for a page it is printed on."""
        raise NotImplementedError

    def print_on(self, printer: QPrinter) -> None:
        """Print the chart with its caption on one page; raises KnownError where there is none."""
        chart = self._shown_chart()
        if not isinstance(chart, QWidget):
            raise _no_chart()
        picture = QImage(chart.size() * PRINTED_FINER, QImage.Format.Format_RGB32)
        picture.setDevicePixelRatio(PRINTED_FINER)
        picture.fill(Qt.GlobalColor.white)
        with self._theme.printed():
            inner = QPainter(picture)
            QWidget.render(chart, inner, QPoint())
            inner.end()
        painter = QPainter()
        if not painter.begin(printer):
            raise KnownError(say("The printer doesn't take it."), say("Choose another, or save the chart."))
        page = QRectF(painter.viewport())
        painter.setFont(font(round(page.width() * _CAPTION_SHARE)))
        flags = int(Qt.TextFlag.TextWordWrap) | int(Qt.AlignmentFlag.AlignLeft)
        words = painter.boundingRect(page, flags, self.caption())
        painter.drawText(words, flags, self.caption())
        room = page.adjusted(0, words.height() * 1.3, 0, 0)
        scale = min(room.width() / picture.width(), room.height() / picture.height())
        painter.drawImage(QRectF(room.topLeft(), QSizeF(picture.size()) * scale), picture, QRectF(picture.rect()))
        painter.end()

    def _ask_to_print(self) -> None:
        from PySide6.QtPrintSupport import QPrintDialog, QPrinter

        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setPageOrientation(QPageLayout.Orientation.Landscape)
        if QPrintDialog(printer, self).exec():
            self._change(lambda: self.print_on(printer))

    def _ask_to_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, say("Save the chart"), f"{self._name.lower()}.svg", named(KINDS))
        if not name:
            return
        self._change(lambda: self.save(Path(name)))

    def _change(self, do: Callable[[], object]) -> None:
        """Do something, and say in place where it can't be done."""
        try:
            do()
        except KnownError as error:
            self.say_trouble(error)
        else:
            self.trouble.hide()

    def ask(self, command: Command[T], then: Callable[[T], object] = lambda _: None) -> None:
        """Carry out a command, and say in place where it can't be done; while a test runs it may be done a little later."""

        def done(result: T) -> None:
            self.trouble.hide()
            then(result)

        self._book.ask(command, done, self.say_trouble)

    def say_trouble(self, error: KnownError) -> None:
        """Say above the chart what couldn't be done."""
        self.trouble.setText(f"{error.problem} {error.remedy}")
        self.trouble.show()

    def _copy_picture(self) -> None:
        chart = self._shown_chart()
        if chart is not None:
            QGuiApplication.clipboard().setPixmap(chart.grab())

    def _copy_table(self) -> None:
        chart = self._shown_chart()
        if chart is not None:
            out = self.out_table()
            QGuiApplication.clipboard().setText(as_cells(out) if out is not None else chart.table())


def _no_chart() -> KnownError:
    return KnownError(say("There is no chart yet."), say("Measure two values of a knob first."))


def _must_be_written(written: bool, path: Path) -> None:
    if not written:
        raise KnownError(say("{path} can't be written.", path=path), say("Choose another place."))


def _as_svg(chart: ShownChart, path: Path) -> bool:
    """Draw the chart at the resolution of the screen, so that what keeps its size in pixels stands where it stood."""
    from PySide6.QtSvg import QSvgGenerator

    drawing = QSvgGenerator()
    drawing.setFileName(str(path))
    drawing.setResolution(chart.logicalDpiX())
    drawing.setSize(chart.size())
    drawing.setViewBox(QRect(QPoint(), chart.size()))
    painter = QPainter()
    if not painter.begin(drawing):
        return False
    chart.draw(painter)
    return painter.end()
