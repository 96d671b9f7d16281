"""The command list: everything the program can do, found by typing, with its shortcut (Ctrl+K)."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QRect, Qt
from PySide6.QtGui import QAction, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QFrame, QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QWidget

from yondle.desktop.look.layouts import stacked
from yondle.language.saying import say

WIDTH, HEIGHT = 560, 380


class CommandList(QFrame):
    """A panel over the window; Escape closes it, Enter carries out the chosen command."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAccessibleName(say("Command list"))
        self._actions: list[QAction] = []
        self._field = QLineEdit()
        self._field.setPlaceholderText(say("Type what you want to do"))
        self._field.textChanged.connect(self._filter)
        self._field.installEventFilter(self)
        self._list = QTreeWidget()
        self._list.setColumnCount(2)
        self._list.setHeaderHidden(True)
        self._list.setRootIsDecorated(False)
        self._list.setFrameShape(QFrame.Shape.NoFrame)
        self._list.header().setStretchLastSection(False)
        self._list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self._list.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self._list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._list.itemClicked.connect(self._carry_out)
        layout = stacked(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(self._field)
        layout.addWidget(self._list)
        self.hide()

    def open_with(self, actions: list[QAction]) -> None:
        """Show the commands that can be carried out now first, the others greyed with their reason as a tooltip."""
        self._actions = sorted(actions, key=lambda action: not action.isEnabled())
        parent = self.parentWidget()
        assert parent is not None
        width = min(WIDTH, parent.width() - 40)
        self.setGeometry(QRect((parent.width() - width) // 2, 64, width, min(HEIGHT, parent.height() - 120)))
        self._field.clear()
        self._filter("")
        self.show()
        self.raise_()
        self._field.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Arrows and Enter in the field drive the list; losing the focus closes it."""
        if event.type() == QEvent.Type.FocusOut and self.isVisible():
            self.hide()
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
            return True
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            match event.key():
                case Qt.Key.Key_Escape:
                    self.hide()
                    return True
                case Qt.Key.Key_Down | Qt.Key.Key_Up:
                    stride = 1 if event.key() == Qt.Key.Key_Down else -1
                    row = self._list.currentIndex().row() + stride
                    self._choose(min(max(row, 0), self._list.topLevelItemCount() - 1))
                    return True
                case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                    item = self._list.currentItem()
                    if item is not None:
                        self._carry_out(item)
                    return True
        return False

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self._list.clear()
        for i, action in enumerate(self._actions):
            title = action.text()
            if all(word in title.lower() for word in words):
                keys = action.shortcut().toString(QKeySequence.SequenceFormat.NativeText)
                item = QTreeWidgetItem([title, keys])
                item.setData(0, Qt.ItemDataRole.UserRole, i)
                item.setDisabled(not action.isEnabled())
                self._list.addTopLevelItem(item)
        if not self._list.topLevelItemCount():
            item = QTreeWidgetItem([say("No command of that name"), ""])
            item.setDisabled(True)
            self._list.addTopLevelItem(item)
        self._choose(0)

    def _choose(self, row: int) -> None:
        self._list.setCurrentIndex(self._list.model().index(row, 0))

    def _carry_out(self, item: QTreeWidgetItem) -> None:
        i = item.data(0, Qt.ItemDataRole.UserRole)
        if i is None or item.isDisabled():
            return
        self.hide()
        self._actions[i].trigger()
