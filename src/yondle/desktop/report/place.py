"""Report: a live preview of what will be written, with its question and its sections chosen and ordered."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QRectF, QSize, Qt, QTimer, QUrl
from PySide6.QtGui import QImage, QPainter, QTextDocument
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
)

from yondle.app.reports.report_choices import HEADINGS, AskQuestion, ChooseSections, question, sections_chosen
from yondle.app.reports.report_files import Report, report_bytes, report_preview, write_report
from yondle.app.reports.reporting import report_in_pieces, report_of
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import button, label
from yondle.desktop.look.layouts import abreast
from yondle.desktop.look.side import Side
from yondle.desktop.look.theme import Redrawn, Theme
from yondle.language.saying import later, named, say
from yondle.model.parts import Part
from yondle.views.kept import ViewCache

if TYPE_CHECKING:
    from PySide6.QtPrintSupport import QPrinter

_SIDE_WIDTH = 300
_PICTURES_FINER = 2
_PAGE_MARGIN = 22
_LATER_MS = 400
_ROW_PX = 24
_PART = Qt.ItemDataRole.UserRole
FILES = later("Web page (*.html);;PDF (*.pdf);;Markdown (*.md)")
NOTHING = later(
    "There is nothing to report yet.\nMeasure the baseline in Tune; the report grows with every step from then on."
)


class Page(QTextBrowser):
    """The preview: plain HTML whose pictures are drawn from SVG when they are asked for."""

    def __init__(self) -> None:
        super().__init__()
        self._pictures: dict[str, str] = {}
        self.setOpenLinks(False)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.document().setDocumentMargin(_PAGE_MARGIN)
        self.document().setDefaultStyleSheet("h1 { font-size: 20px; } h2 { font-size: 15px; margin-top: 26px; }")
        self.setAccessibleName(say("Preview of the report"))

    def show_page(self, html: str, pictures: dict[str, str]) -> None:
        """Show another page, scrolled as it was."""
        self._pictures = pictures
        at = self.verticalScrollBar().value()
        self.document().clear()
        self.setHtml(html)
        self.verticalScrollBar().setValue(at)

    def loadResource(self, kind: int, name: QUrl | str) -> object:
        """Draw a picture; nothing is fetched from anywhere else."""
        from PySide6.QtSvg import QSvgRenderer

        svg = self._pictures.get(name if isinstance(name, str) else name.toString())
        if svg is None or kind != QTextDocument.ResourceType.ImageResource.value:
            return None
        renderer = QSvgRenderer(QByteArray(svg.encode()))
        size = renderer.viewBox().size() * _PICTURES_FINER
        picture = QImage(QSize(max(size.width(), 1), max(size.height(), 1)), QImage.Format.Format_ARGB32_Premultiplied)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        renderer.render(painter, QRectF(picture.rect()))
        painter.end()
        return picture


class ReportPlace(Redrawn, ChartPlace):
    """The Report place for one logbook."""

    sketch = "report"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        super().__init__(theme, book, say("Report"), named(NOTHING), lambda: None)
        self._views = views
        self._report: Report | None = None
        self.page = Page()
        self.question = QLineEdit(question(book.now))
        self.question.setPlaceholderText(say("The question this report answers"))
        self.question.setAccessibleName(say("Question"))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_LATER_MS)
        self._later.timeout.connect(self._keep_question)
        self.question.textEdited.connect(lambda: self._later.start())
        self.question.editingFinished.connect(self._keep_question)
        self.parts = QListWidget()
        self.parts.setAccessibleName(say("Sections, in their order"))
        self.parts.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.parts.itemChanged.connect(lambda _: self._keep_sections())
        self.parts.model().rowsMoved.connect(lambda: self._keep_sections())
        self.up, self.down = button(say("Up"), "", say("Section up")), button(say("Down"), "", say("Section down"))
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        self.write_button = button(say("Write it as …"), "main")
        self.write_button.clicked.connect(self._ask_to_save)
        self._done = label("", "muted", wrap=True)
        self._list_sections()
        self._lay_out()
        self.redraw_with(theme, self._show_again)
        self.add_action("up", say("section up"), "Alt+Up", lambda: self._move(-1))
        self.add_action("down", say("section down"), "Alt+Down", lambda: self._move(1))
        self.actions_by_name["save"].setText(say("Report: write it as a web page, PDF or Markdown …"))
        self.actions_by_name["copy_table"].setText(say("Report: copy it as Markdown"))

    def pieces(self) -> Iterator[None]:
        """Gather the report again, section by section."""
        if not self._book.now.steps:
            self.show_whole(False)
            return
        gathered = report_in_pieces(self._book.now, views=self._views)
        self._report = yield from gathered
        yield
        html, pictures = report_preview(self._report, self._theme.colours.night)
        yield
        self.page.show_page(html, pictures)
        self.show_whole(True)

    def take_focus(self) -> None:
        """Let keys scroll the page."""
        self.page.setFocus()

    def caption(self) -> str:
        """Name the report."""
        return report_of(self._book.now, views=self._views).title

    def save(self, path: Path) -> None:
        """Write the report; the ending of the name says as what."""
        written = write_report(self._book.now, path)
        self._done.setText(say("{path} is written, {written} KiB.", path=path.name, written=written // 1024 + 1))

    def print_on(self, printer: QPrinter) -> None:
        """Print the report in the paper scheme."""
        html, pictures = report_preview(report_of(self._book.now, views=self._views), night=False)
        printed = Page()
        printed.show_page(html, pictures)
        printed.print_(printer)

    def choose(self, parts: tuple[Part, ...]) -> None:
        """Have these sections, in this order."""
        self.ask(ChooseSections(parts), self._sections_kept)

    def _sections_kept(self, _: None) -> None:
        self._list_sections()
        self._show()

    def _show(self) -> None:
        self._turns.begin(self.pieces())

    def _show_again(self) -> None:
        """Show what was gathered, in the colours there are now."""
        if self._report is None:
            return
        html, pictures = report_preview(self._report, self._theme.colours.night)
        self.page.show_page(html, pictures)

    def _keep_question(self) -> None:
        self._later.stop()
        if self.question.text().strip() != question(self._book.now):
            self.ask(AskQuestion(self.question.text()), lambda _: self._show())

    def _list_sections(self) -> None:
        chosen = sections_chosen(self._book.now)
        self.parts.blockSignals(True)
        self.parts.clear()
        for part in (*chosen, *(p for p in Part if p not in chosen)):
            item = QListWidgetItem(named(HEADINGS[part]))
            item.setData(_PART, str(part))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if part in chosen else Qt.CheckState.Unchecked)
            self.parts.addItem(item)
        self.parts.blockSignals(False)

    def _keep_sections(self) -> None:
        items = [self.parts.item(i) for i in range(self.parts.count())]
        chosen = tuple(Part(i.data(_PART)) for i in items if i.checkState() is Qt.CheckState.Checked)
        self.ask(ChooseSections(chosen), lambda _: self._show())

    def _move(self, by: int) -> None:
        at = self.parts.currentRow()
        if 0 <= at + by < self.parts.count() and at >= 0:
            self.parts.blockSignals(True)
            self.parts.insertItem(at + by, self.parts.takeItem(at))
            self.parts.setCurrentRow(at + by)
            self.parts.blockSignals(False)
            self._keep_sections()

    def _ask_to_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, say("Write the report"), "report.html", named(FILES))
        if name:
            self._done.setText("")
            self._change(lambda: self.save(Path(name)))

    def _copy_table(self) -> None:
        from PySide6.QtGui import QGuiApplication

        made = report_bytes(report_of(self._book.now, views=self._views), ".md")
        QGuiApplication.clipboard().setText(made.decode())

    def _copy_picture(self) -> None:
        from PySide6.QtGui import QGuiApplication

        QGuiApplication.clipboard().setPixmap(self.page.grab())

    def _lay_out(self) -> None:
        side = Side(_SIDE_WIDTH, say("What the report has"))
        side.heading(say("The question it answers"))
        side.box.addWidget(self.question)
        side.heading(say("Sections, in their order"))
        side.box.addWidget(self.parts)
        row = abreast()
        row.addWidget(self.up)
        row.addWidget(self.down)
        row.addStretch(1)
        side.box.addLayout(row)
        side.box.addSpacing(8)
        side.box.addWidget(self.write_button)
        side.box.addWidget(self._done)
        side.box.addStretch(1)
        self.parts.setFixedHeight(_ROW_PX * len(Part))
        self.put_together(None, self.page, side)
