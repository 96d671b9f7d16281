"""The window around the logbooks that are open: one is shown, each goes on with its own test in a thread of its own."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QCloseEvent, QKeySequence
from PySide6.QtWidgets import QFrame, QMainWindow, QPushButton, QStackedWidget, QWidget

from yondle.desktop.look.basics import button, clear, tip
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import MARGIN, Theme
from yondle.desktop.shell.window import SMALLEST, USUAL, MainWindow
from yondle.language.saying import say

_STRIP_PX = 32


class Shelf(QMainWindow):
    """Shows one of the open logbooks, and above it, once there are several, a tab for each."""

    def __init__(self, theme: Theme, first_page: bool = True) -> None:
        """Without its `first_page` the window is empty until a logbook is opened, which is then to be done at once."""
        super().__init__()
        self._theme = theme
        self._closing = False
        self._strip = QFrame()
        self._strip.setObjectName("bar")
        self._strip.setFixedHeight(_STRIP_PX)
        self._tabs = abreast(self._strip)
        self._tabs.setContentsMargins(MARGIN, 0, MARGIN, 0)
        self._stack = QStackedWidget()
        whole = QWidget()
        whole.setObjectName("page")
        box = stacked(whole, 0)
        box.addWidget(self._strip)
        box.addWidget(self._stack, 1)
        self.setCentralWidget(whole)
        self.setMinimumSize(*SMALLEST)
        self.resize(*USUAL)
        for keys, by in (("Ctrl+Tab", 1), ("Ctrl+Shift+Tab", -1)):
            action = QAction(self)
            action.setShortcut(QKeySequence(keys))
            action.triggered.connect(lambda _=False, by=by: self._step(by))
            self.addAction(action)
        theme.changed.connect(self._wear)
        self.add(first_page)
        self._wear()

    @property
    def books(self) -> list[MainWindow]:
        """What is open, in the order of the tabs."""
        every = (self._stack.widget(i) for i in range(self._stack.count()))
        return [each for each in every if isinstance(each, MainWindow)]

    @property
    def shown(self) -> MainWindow:
        """The one that is shown."""
        shown = self._stack.currentWidget()
        assert isinstance(shown, MainWindow)
        return shown

    def add(self, first_page: bool = True) -> MainWindow:
        """Make room for another logbook, and show it."""
        made = MainWindow(self._theme, first_page)
        made.setWindowFlags(Qt.WindowType.Widget)
        made.setMinimumSize(SMALLEST[0], SMALLEST[1] - _STRIP_PX)
        made.shelve(self._open_beside, self._paths)
        made.windowTitleChanged.connect(lambda _: self._show_tabs())
        made.bridge.busy_changed.connect(lambda _: self._show_tabs())
        made.left.connect(lambda: self._take_away(made))
        made.gone.connect(lambda: self._forget(made))
        self._stack.addWidget(made)
        self.show_book(made)
        return made

    def show_book(self, book: MainWindow) -> None:
        """Show one of those that are open."""
        self._stack.setCurrentWidget(book)
        book.setFocus()
        self._show_tabs()

    def _open_beside(self, path: Path | None, opens: Callable[[MainWindow], None]) -> None:
        """Open another logbook beside what is open; one that is open already is shown."""
        for each in self.books:
            if path is not None and each.book is not None and each.book.now.path.resolve() == path.resolve():
                self.show_book(each)
                return
        free = next((each for each in self.books if each.book is None and each.first is not None), None)
        if free is not None:
            self.show_book(free)
        opens(free or self.add(first_page=path is None))

    def _paths(self) -> tuple[Path, ...]:
        return tuple(each.book.now.path.resolve() for each in self.books if each.book is not None)

    def _take_away(self, book: MainWindow) -> None:
        """Take away one whose logbook was closed; the last stays, with its first page."""
        if len(self.books) > 1:
            book.close()

    def _forget(self, book: MainWindow) -> None:
        self._stack.removeWidget(book)
        book.deleteLater()
        if self._closing or not self.books:
            self.close()
            return
        self._show_tabs()

    def _step(self, by: int) -> None:
        books = self.books
        self.show_book(books[(books.index(self.shown) + by) % len(books)])

    def _show_tabs(self) -> None:
        books = self.books
        self.setWindowTitle(self.shown.windowTitle() if books else "Yondle")
        self._strip.setVisible(len(books) > 1)
        clear(self._tabs)
        for each in books if len(books) > 1 else ():
            self._tabs.addWidget(self._tab(each))
        self._tabs.addStretch(1)

    def _tab(self, book: MainWindow) -> QPushButton:
        name = book.book.now.declaration.info.name if book.book is not None else say("First page")
        text = say("{name} · testing", name=name) if book.bridge.busy else name
        made = button(text, "flat", say("Logbook {name}", name=name))
        made.setCheckable(True)
        made.setChecked(book is self.shown)
        made.setToolTip(tip(str(book.book.now.path)) if book.book is not None else "")
        made.clicked.connect(lambda: self.show_book(book))
        return made

    def _wear(self) -> None:
        self._theme.wear(self._strip)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Close all logbooks; where a test runs it is stopped first, and the window closes when it has ended."""
        self._closing = True
        for each in self.books:
            if each.bridge.busy:
                self.show_book(each)
            each.close()
        if self.books:
            event.ignore()
        else:
            event.accept()

    def end(self) -> None:
        """Have every thread end."""
        for each in self.books:
            each.bridge.close()
