"""Whether the window comes to rest: `python -m tests.desktop.rest BOOK` says where it doesn't, at the scale QT_SCALE_FACTOR has.

At rest nothing is laid out, resized or painted. Events are counted, not time: a window that goes on asking for another layout
does so in every turn of the event loop.
"""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

from PySide6.QtCore import QEvent, QEventLoop, QObject
from PySide6.QtWidgets import QApplication

from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.rooms import NAMES
from yondle.desktop.shell.window import MainWindow

SIZES = (
    (1100, 700), (1101, 999), (1278, 798), (1280, 800), (1366, 768), (1440, 900), (1600, 900), (1920, 1080), (2560, 1440),
    (3840, 2160),
)  # fmt: skip
_WORK = frozenset({QEvent.Type.LayoutRequest, QEvent.Type.Resize, QEvent.Type.Paint, QEvent.Type.UpdateRequest})
_TURNS, _SILENT = 120, 40
_TURN_MS = 50
_MOST_IN_A_TURN = 5_000
"""A layout that asks for another one before it is done never ends its turn: then it is cut short."""


class Listener(QObject):
    """Counts what the window does."""

    def __init__(self, app: QApplication) -> None:
        super().__init__()
        self._app = app
        self.seen: Counter[str] = Counter()
        self._stuck = False

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802 - Qt's own name
        if event.type() in _WORK:
            self.seen[f"{type(watched).__name__} {event.type().name}"] += 1
        self._stuck = self._stuck or self.seen.total() > _MOST_IN_A_TURN
        return self._stuck and event.type() is QEvent.Type.LayoutRequest

    def unrest(self) -> str:
        """Turn the event loop until it is silent; gives what goes on where it never is."""
        self._app.installEventFilter(self)
        silent, self._stuck = 0, False
        for _ in range(_TURNS):
            self.seen.clear()
            self._app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, _TURN_MS)
            silent = 0 if self.seen else silent + 1
            if self._stuck or silent >= _SILENT:
                break
        self._app.removeEventFilter(self)
        return "" if silent >= _SILENT else ", ".join(f"{n} x {what}" for what, n in self.seen.most_common(4))


def unrest_everywhere(
    app: QApplication, window: MainWindow, theme: Theme, scheme: str, sizes: tuple[tuple[int, int], ...] = SIZES
) -> list[str]:
    """Look at every place at these sizes in a scheme; gives the first size of each at which there is no rest."""
    listener, found = Listener(app), []
    theme.force(scheme)
    for i, place in enumerate(NAMES):
        window.go_to(i)
        for size in sizes:
            window.resize(*size)
            told = listener.unrest()
            if told:
                found.append(f"{place} at {size[0]}x{size[1]}, {scheme}: {told}")
                break
    return found


def main() -> int:
    """Open a logbook and look; 1 where there is no rest."""
    app = QApplication([])
    theme = Theme(app, "paper")
    window = MainWindow(theme)
    window.show()
    window.open_logbook(Path(sys.argv[1]), None)
    while window.tune is None or not window.tune.complete:
        app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, _TURN_MS)
    found = unrest_everywhere(app, window, theme, "paper", SIZES[::2])
    print("\n".join(found) or "at rest everywhere")
    window.close()
    while window.isVisible():
        app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, _TURN_MS)
    return int(bool(found))


if __name__ == "__main__":
    sys.exit(main())
