"""The places of one open logbook: Tune at once, each other one when it is first gone to, or soon after Tune stands."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QStackedWidget, QWidget

from yondle.desktop.link.bridge import Bridge, OpenBook
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later

if TYPE_CHECKING:
    from yondle.desktop.charts.chart_place import ChartPlace
    from yondle.desktop.tune.place import TunePlace


@dataclass(frozen=True, slots=True)
class Room:
    """A place by its name, and where its class is; it is loaded when it is made."""

    name: str
    module: str
    kind: str


ROOMS = (
    Room(later("Tune"), "yondle.desktop.tune.place", "TunePlace"),
    Room(later("Scaling"), "yondle.desktop.scaling.place", "ScalingPlace"),
    Room(later("Map"), "yondle.desktop.map.place", "MapPlace"),
    Room(later("Compare"), "yondle.desktop.compare.place", "ComparePlace"),
    Room(later("Traces"), "yondle.desktop.traces.place", "TracesPlace"),
    Room(later("Logbook"), "yondle.desktop.logbook.place", "LogbookPlace"),
    Room(later("Report"), "yondle.desktop.report.place", "ReportPlace"),
)
"""Every place, in the order of its tab; a new one is a folder and a line here."""
NAMES = tuple(room.name for room in ROOMS)


def load_tune() -> None:
    """Load what the first place needs; slow, so better not in the window's thread."""
    import_module(ROOMS[0].module)


class Rooms(QStackedWidget):
    """`made` is sent with every place but Tune once it is there."""

    made = Signal(object)

    def __init__(self, theme: Theme, bridge: Bridge, book: OpenBook) -> None:
        super().__init__()
        self._theme, self._bridge, self._book = theme, bridge, book
        self._made: dict[int, ChartPlace] = {}
        self._stale = False
        self.tune: TunePlace = getattr(import_module(ROOMS[0].module), ROOMS[0].kind)(theme, bridge, book)
        self.addWidget(self.tune)
        for _ in ROOMS[1:]:
            self.addWidget(QWidget())
        bridge.prepared.connect(self._make_by_turns)

    def leave(self) -> None:
        """Hear nothing any more: another logbook is opened, and these places go away."""
        self._bridge.prepared.disconnect(self._make_by_turns)
        self.tune.leave()

    @property
    def here(self) -> TunePlace | ChartPlace | None:
        """The place that is shown."""
        return self.tune if self.currentIndex() == 0 else self._made.get(self.currentIndex())

    def place(self, name: str) -> Any:
        """Give a place other than Tune by its name, as what it is; made now where it isn't there yet."""
        return self._place(NAMES.index(name))

    def visit(self, at: int) -> None:
        """Show a place, which brings itself up to date by and by: keys and clicks are answered meanwhile."""
        shown = self._place(at) if at else self.tune
        self._theme.wear(shown)
        self.setCurrentIndex(at)
        self.refresh_here()
        if shown is not self.tune:
            self._place(at).take_focus()

    def refresh_here(self) -> None:
        """Bring the place that is shown up to date; Tune does so by itself, but for what another place has written."""
        if self.currentIndex() != 0:
            self._place(self.currentIndex()).refresh_by_turns()
        elif self._stale:
            self._stale = False
            self.tune.refresh()

    def show_now(self, at: int) -> None:
        """Show a place, up to date when this returns."""
        self.visit(at)
        if at:
            self._place(at).refresh()
            self._place(at).take_focus()

    def follow(self) -> None:
        """Let the place that is shown follow what the engine says."""
        here = self._made.get(self.currentIndex())
        if here is not None:
            here.follow()

    def _place(self, at: int) -> ChartPlace:
        if at not in self._made:
            room = ROOMS[at]
            made: ChartPlace = getattr(import_module(room.module), room.kind)(self._theme, self._book, self.tune.views)
            made.wrote.connect(self._wrote)
            self._made[at] = made
            before, shown = self.widget(at), self.currentIndex()
            if before is not None:
                self.removeWidget(before)
                before.deleteLater()
            self.insertWidget(at, made)
            self.setCurrentIndex(shown)
            self.made.emit(made)
        return self._made[at]

    def _wrote(self) -> None:
        self._stale = True

    def load(self) -> None:
        """Load the other places in a thread of its own, then make them one a turn, so that none is waited for."""
        self._bridge.prepare(_load_others)

    def _make_by_turns(self, prepared: object) -> None:
        if prepared is _load_others:
            for after, at in enumerate(range(1, len(ROOMS)), 1):
                QTimer.singleShot(after, self, lambda at=at: self._place(at))


def _load_others() -> None:
    for room in ROOMS[1:]:
        import_module(room.module)
