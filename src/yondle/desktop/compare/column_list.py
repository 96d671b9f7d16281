"""What can be compared, by where it comes from, each with a tick; other logbooks are read when they are opened."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem

from yondle.app.books.columns import Offer
from yondle.desktop.look.basics import children, tip, top_items
from yondle.language.saying import say
from yondle.model.errors import KnownError

_ADDRESS, _FILE = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1


class ColumnList(QTreeWidget):
    """The list. `chosen` is sent with an address and whether it is wanted; `read` reads another logbook.

    Both come after the list is done with the item, since what follows may fill it anew.
    """

    chosen = Signal(str, bool)
    _later = Signal(str, bool)
    _wanted = Signal(str)

    def __init__(self, read: Callable[[Path], None]) -> None:
        super().__init__()
        self._read = read
        self._filling = False
        self.setHeaderHidden(True)
        self.setIndentation(14)
        self.setAccessibleName(say("What can be compared"))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._shown: tuple[object, ...] = ()
        self._later.connect(self.chosen, Qt.ConnectionType.QueuedConnection)
        self.itemChanged.connect(self._ticked)
        self.itemExpanded.connect(self._opened)
        self._wanted.connect(self._read_book, Qt.ConnectionType.QueuedConnection)

    def show_offers(self, offers: tuple[Offer, ...], chosen: tuple[str, ...], unread: tuple[Path, ...]) -> None:
        """Show what there is, what is chosen, and logbooks that could be read."""
        if (offers, unread) == self._shown:
            self._tick(chosen)
            return
        self._shown = (offers, unread)
        open_before = {item.text(0) for item in top_items(self) if item.isExpanded()}
        first = self.topLevelItemCount() == 0
        self._filling = True
        self.clear()
        sources: dict[str, QTreeWidgetItem] = {}
        for offer in offers:
            if offer.source not in sources:
                sources[offer.source] = QTreeWidgetItem([offer.source])
                self.addTopLevelItem(sources[offer.source])
            item = QTreeWidgetItem([offer.name])
            item.setToolTip(0, tip(offer.name))
            item.setData(0, _ADDRESS, offer.address)
            item.setCheckState(0, Qt.CheckState.Checked if offer.address in chosen else Qt.CheckState.Unchecked)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsSelectable)
            sources[offer.source].addChild(item)
        for path in unread:
            item = QTreeWidgetItem([path.stem])
            item.setData(0, _FILE, str(path))
            item.setToolTip(0, tip(str(path)))
            item.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
            self.addTopLevelItem(item)
        for name, item in sources.items():
            wanted = any(o.source == name and o.address in chosen for o in offers)
            item.setExpanded(name in open_before or (first and wanted))
        self._filling = False

    def _tick(self, chosen: tuple[str, ...]) -> None:
        self._filling = True
        for item in (child for top in top_items(self) for child in children(top)):
            if address := item.data(0, _ADDRESS):
                item.setCheckState(0, Qt.CheckState.Checked if address in chosen else Qt.CheckState.Unchecked)
        self._filling = False

    def _ticked(self, item: QTreeWidgetItem) -> None:
        address = item.data(0, _ADDRESS)
        if not self._filling and address:
            self._later.emit(str(address), item.checkState(0) is Qt.CheckState.Checked)

    def _opened(self, item: QTreeWidgetItem) -> None:
        """Have a logbook read when it is first opened: later, since that fills the list anew while Qt still opens the row.

        What comes later is told the file, never the row, which is gone if the list was filled anew meanwhile.
        """
        file = item.data(0, _FILE)
        if not self._filling and file and not item.childCount():
            self._wanted.emit(str(file))

    def _read_book(self, file: str) -> None:
        """Read a logbook; why it can't be read stands in its place."""
        try:
            self._read(Path(file))
        except KnownError as error:
            item = next((top for top in top_items(self) if top.data(0, _FILE) == file), None)
            if item is None or item.childCount():
                return
            told = QTreeWidgetItem([f"{error.problem} {error.remedy}"])
            told.setToolTip(0, tip(told.text(0)))
            told.setFlags(Qt.ItemFlag.ItemIsEnabled)
            item.addChild(told)
