"""What is shown over the places until it is left: a table on its way in, and the grid of a step's figures."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QFileDialog, QStackedWidget, QWidget

from yondle.desktop.link.bridge import Bridge, OpenBook
from yondle.desktop.look.theme import Theme
from yondle.language.saying import say
from yondle.model.errors import KnownError

if TYPE_CHECKING:
    from yondle.app.session.recording import Recorded
    from yondle.app.session.tables import Sheet
    from yondle.desktop.shell.first import FirstPage
    from yondle.desktop.shell.rooms import Rooms
    from yondle.desktop.tune.place import TunePlace

TEXTS = (".csv", ".tsv", ".txt", ".tab")
TABLES = (*TEXTS, ".xlsx", ".ods")


class Window(Protocol):
    """What of the window they need."""

    bridge: Bridge
    book: OpenBook | None
    places: Rooms | None
    first: FirstPage | None

    @property
    def tune(self) -> TunePlace | None:
        """The place where the work is done."""

    def go_to(self, place: int) -> None:
        """Show a place."""

    def open_anew(self) -> None:
        """Open the logbook anew."""

    def show_tabs(self, shown: bool) -> None:
        """Show the places' tabs, or hide them."""


class OverPlaces:
    """Shows one page at a time over the places of a window."""

    def __init__(self, window: Window, pages: QStackedWidget, theme: Theme) -> None:
        self._window, self._pages, self._theme = window, pages, theme
        self._knobs: list[str] = []
        self.page: QWidget | None = None
        self._beneath: QWidget | None = None

    def begin(self, book: OpenBook) -> None:
        """Another logbook is shown; whatever was over the other has gone with it."""
        self.page = self._beneath = None
        self._knobs = _knobs(book)

    # -- tables --------------------------------------------------------------------------------------------------------

    def ask_for_table(self) -> None:
        """Let the tuner choose a table, and show what it would make."""
        kinds = say("Tables ({kinds});;All files (*)", kinds=" ".join(f"*{kind}" for kind in TABLES))
        name, _ = QFileDialog.getOpenFileName(self._pages, say("Bring in a table"), "", kinds)
        if name:
            self.bring(Path(name))

    def takes(self, path: Path) -> bool:
        """Tell whether a file may be a table, and a logbook is there to take it."""
        return self._window.book is not None and path.suffix.lower() in TABLES

    def bring_all(self, paths: tuple[Path, ...]) -> bool:
        """Take files that were dropped: one is a table or a log, several are logs of one step; tells whether they were taken."""
        tune = self._window.tune
        if tune is None or not paths or not all(self.takes(path) for path in paths):
            return False
        if len(paths) > 1:
            self._window.go_to(0)
            tune.bringing.logs(paths)
        else:
            self.bring(paths[0])
        return True

    def bring(self, path: Path) -> None:
        """Read a table, and show what it would make; a workbook takes a moment. A log of frames or sensors is kept at once."""
        tune, bridge = self._window.tune, self._window.bridge
        if tune is None:
            return
        from yondle.app.session.results import are_logs
        from yondle.app.session.tables import read_sheets

        if path.suffix.lower() in TEXTS and are_logs((path,)):
            self._window.go_to(0)
            tune.bringing.logs((path,))
            return
        read: list[tuple[Sheet, ...] | KnownError] = []

        def look() -> None:
            try:
                read.append(read_sheets(path))
            except KnownError as error:
                read.append(error)

        def shown(prepared: object) -> None:
            if prepared is look:
                bridge.prepared.disconnect(shown)
                self._show_table(read[0])

        bridge.prepared.connect(shown)
        bridge.prepare(look)

    def paste(self) -> None:
        """Show what the table on the clipboard would make."""
        from yondle.app.session.tables import sheet_of_text

        try:
            self._show_table((sheet_of_text(QGuiApplication.clipboard().text(), say("the clipboard")),))
        except KnownError as error:
            self._show_table(error)

    def _show_table(self, read: tuple[Sheet, ...] | KnownError) -> None:
        book, tune = self._window.book, self._window.tune
        if book is None or tune is None:
            return
        if isinstance(read, KnownError):
            self._window.go_to(0)
            tune.tell(read)
            return
        from yondle.desktop.tables.page import TablePage

        page = TablePage(self._theme, book, read)
        page.left.connect(self.leave)
        page.brought.connect(self._is_in)
        self._show(page)

    def _is_in(self, made: Recorded) -> None:
        """Tell what came of a table; one that brought knobs has the places made anew, with their rulers."""
        self.leave()
        book, tune = self._window.book, self._window.tune
        if book is None or tune is None:
            return
        if _knobs(book) != self._knobs:
            self._window.open_anew()
            return
        self._window.go_to(0)
        tune.bringing.tell_recorded(made)

    # -- figures -------------------------------------------------------------------------------------------------------

    def show_grid(self, step: int) -> None:
        """Show the figures of a step as a grid to type into."""
        if self._window.book is None:
            return
        from yondle.desktop.tables.grid import GridPage

        page = GridPage(self._theme, self._window.book, step)
        page.left.connect(self.leave)
        self._show(page)

    # -- preferences ---------------------------------------------------------------------------------------------------

    def show_preferences(self) -> None:
        """Show the page of preferences."""
        from yondle.desktop.shell.preferences import PreferencesPage

        tune = self._window.tune
        page = PreferencesPage(self._theme, self._window.book, tune.actions_by_name if tune is not None else {})
        page.left.connect(self.leave)
        page.wanted.connect(self.go_on_in_tune)
        self._show_over(page)
        page.setFocus()

    def show_help(self) -> None:
        """Show the section of the help that is about what has the focus."""
        from yondle.desktop.shell.help import HelpPage, about

        page = HelpPage(about(QApplication.focusWidget()))
        page.left.connect(self.leave)
        self._show_over(page)
        page.list.setFocus()

    def go_on_in_tune(self, command: str) -> None:
        """Carry out a command of Tune, there."""
        self._leave_all()
        self._window.go_to(0)
        if self._window.tune is not None:
            self._window.tune.actions_by_name[command].trigger()

    # -- the page ------------------------------------------------------------------------------------------------------

    def _show(self, page: QWidget) -> None:
        self._leave_all()
        self._put_up(page)

    def _show_over(self, page: QWidget) -> None:
        """Show a page that is only looked into: a table on its way in stays beneath it as it is."""
        if self._beneath is not None or isinstance(self.page, type(page)):
            self.leave()
        self._beneath = self.page
        self._put_up(page)

    def _leave_all(self) -> None:
        while self.page is not None:
            self.leave()

    def _put_up(self, page: QWidget) -> None:
        self.page = page
        self._pages.addWidget(page)
        self._theme.wear(page)
        self._pages.setCurrentWidget(page)
        self._window.show_tabs(False)

    def leave(self) -> None:
        """Show the places again."""
        page, self.page, self._beneath = self.page, self._beneath, None
        under = self.page or self._window.places or self._window.first
        if page is None or under is None:
            return
        self._pages.setCurrentWidget(under)
        self._pages.removeWidget(page)
        page.deleteLater()
        self._window.show_tabs(self.page is None and self._window.places is not None)
        if self._window.tune is not None:
            self._window.tune.refresh()


def _knobs(book: OpenBook) -> list[str]:
    return [knob.id for knob in book.now.declaration.knobs]
