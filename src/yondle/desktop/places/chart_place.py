"""What places with one large chart share: the page without figures, and copying the chart as a picture or a table."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QGuiApplication, QKeySequence, QPixmap
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from yondle.desktop.widgets.basics import label


class Chart(Protocol):
    """A chart that can be copied."""

    def grab(self) -> QPixmap:
        """Give its picture."""

    def table(self) -> str:
        """Give its figures as tab-separated lines."""


class ChartPlace(QWidget):
    """A place that shows either its `whole` page or what to do so that there is something to show."""

    def __init__(self, name: str, nothing: str, chart: Callable[[], Chart | None]) -> None:
        super().__init__()
        self.setObjectName("page")
        self._name, self._shown_chart = name, chart
        self.whole = QWidget()
        empty = QWidget()
        box = QVBoxLayout(empty)
        words = label(nothing, "muted", wrap=True)
        words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        box.addWidget(words)
        self._pages = QStackedWidget()
        self._pages.addWidget(empty)
        self._pages.addWidget(self.whole)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(self._pages)
        self.actions_by_name: dict[str, QAction] = {}
        self.add_action("copy_picture", "copy the chart as a picture", "Ctrl+C", self._copy_picture)
        self.add_action("copy_table", "copy the chart as a table", "Ctrl+Shift+C", self._copy_table)

    def show_whole(self, whole: bool) -> None:
        """Show the figures, or what to do to get some."""
        self._pages.setCurrentIndex(int(whole))

    def add_action(self, name: str, text: str, keys: str, do: Callable[[], object]) -> None:
        """Add something that can be done here, by key and from the command list."""
        action = QAction(f"{self._name}: {text}", self)
        action.setShortcut(QKeySequence(keys))
        action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        action.triggered.connect(lambda _=False: do())
        self.addAction(action)
        self.actions_by_name[name] = action

    def _copy_picture(self) -> None:
        chart = self._shown_chart()
        if chart is not None:
            QGuiApplication.clipboard().setPixmap(chart.grab())

    def _copy_table(self) -> None:
        chart = self._shown_chart()
        if chart is not None:
            QGuiApplication.clipboard().setText(chart.table())
