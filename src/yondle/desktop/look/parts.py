"""Parts beside each other whose widths the tuner draws, kept for the next time."""

from __future__ import annotations

from platformdirs import user_config_path
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QSplitter, QWidget


class KeptSplitter(QSplitter):
    """Parts beside each other; the one whose usual width is 0 takes what is left. Widths are kept by name, for all books."""

    def __init__(self, name: str, parts: tuple[QWidget, ...], usual: tuple[int, ...]) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._name, self._wanted = name, list(usual)
        self._free = usual.index(0)
        self.setHandleWidth(1)
        self.setChildrenCollapsible(False)
        for i, part in enumerate(parts):
            self.addWidget(part)
            self.setStretchFactor(i, int(i == self._free))
        kept = _settings().value(self._name)
        if isinstance(kept, list) and len(kept) == len(usual) and all(str(each).isdigit() for each in kept):
            self._wanted = [int(each) for each in kept]
        self.splitterMoved.connect(self._keep)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep every part as wide as it was drawn; what is left is the free part's."""
        super().resizeEvent(event)
        sizes = list(self._wanted)
        sizes[self._free] = 0
        sizes[self._free] = max(self.width() - sum(sizes) - self.handleWidth() * (len(sizes) - 1), 1)
        self.setSizes(sizes)

    def _keep(self) -> None:
        self._wanted = [0 if i == self._free else size for i, size in enumerate(self.sizes())]
        _settings().setValue(self._name, self._wanted)


def _settings() -> QSettings:
    """Give the file of widths, in the user's folder of settings."""
    path = user_config_path("yondle", appauthor=False) / "widths.ini"
    return QSettings(str(path), QSettings.Format.IniFormat)
