"""The one window: the bar with the rig and the places, the place itself, and the foot line.

What opening a logbook takes is loaded when one is opened, in the owner's thread: the first page doesn't wait for it.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeySequence,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QFrame,
    QMainWindow,
    QStackedWidget,
    QTabBar,
    QToolButton,
    QWidget,
)

from yondle.app.session.owner import Answer, Closed, Opens
from yondle.app.system.folders import data_folder, free_name
from yondle.app.system.preferences import recent_books, remember_book
from yondle.desktop.link.bridge import Bridge, OpenBook
from yondle.desktop.look.basics import Eliding, button, label, tip
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import MARGIN, Theme
from yondle.desktop.look.turns import put_off_painting
from yondle.desktop.shell import books
from yondle.desktop.shell.command_list import CommandList
from yondle.desktop.shell.first import FirstPage, ask_for_book
from yondle.desktop.shell.foot import Foot
from yondle.desktop.shell.news import DesktopNews
from yondle.desktop.shell.over_places import OverPlaces
from yondle.desktop.shell.rooms import NAMES, Rooms
from yondle.desktop.shell.stop_keys import StopKeys
from yondle.formats.kinds import BOOK, DESCRIPTION
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import quantity
from yondle.model.rigs import ELSEWHERE

if TYPE_CHECKING:
    from yondle.app.machine.before import Beforehand
    from yondle.desktop.charts.chart_place import ChartPlace
    from yondle.desktop.tune.place import TunePlace
    from yondle.views.shared.snapshot import Snapshot

Beside = Callable[[Path | None, Callable[["MainWindow"], None]], None]
"""Opens a logbook beside another: which, and what opens it in the room it is given."""
BENCH = "bench"
SMALLEST = (1100, 700)
USUAL = (1280, 800)
FOOT_EVERY_MS = 5000
_BEFOREHAND_MS = 60
DEFAULT_PACE = 20.0


class MainWindow(QMainWindow):
    """Opens logbooks and shows their places; one at a time, and others beside it where it stands on a shelf.

    `left` is sent when its logbook was closed, `gone` when it is over itself.
    """

    left = Signal()
    gone = Signal()

    def __init__(self, theme: Theme, first_page: bool = True) -> None:
        """Without its `first_page` the window is empty until a logbook is opened, which is then to be done at once."""
        super().__init__()
        self._theme = theme
        self.bridge = Bridge()
        self.book: OpenBook | None = None
        self.places: Rooms | None = None
        self.first: FirstPage | None = None
        self._evening_wanted = False
        self._pace: float | None = DEFAULT_PACE
        self._closing = False
        self._opening: Opens | None = None
        self._afterwards: Callable[[], None] | None = None
        self._neighbours_stopped = False
        self._gone_back = ""
        self._beside: Beside | None = None
        self._others: Callable[[], tuple[Path, ...]] = tuple
        self.setAcceptDrops(True)
        self.setWindowTitle("Yondle")
        self.setMinimumSize(*SMALLEST)
        self.resize(*USUAL)
        self._build()
        self._make_actions()
        self.bridge.opened.connect(self._opened)
        self.bridge.not_opened.connect(self._not_opened)
        self.bridge.closed.connect(self._closed)
        self.bridge.ended.connect(self._ended)
        self.bridge.busy_changed.connect(self._busy)
        self.bridge.records.connect(lambda _: self.places.follow() if self.places is not None else None)
        self._stop_keys = StopKeys(self, self._halt)
        self.news = DesktopNews(self)
        self._looking: Callable[[], None] | None = None
        self._beforehand: Beforehand | None = None
        self.bridge.prepared.connect(self._show_beforehand)
        self._foot_timer = QTimer(self)
        self._foot_timer.timeout.connect(self._look_at_foot)
        self._foot_timer.start(FOOT_EVERY_MS)
        self._show_no_book()
        if first_page:
            self._show_first()

    @property
    def tune(self) -> TunePlace | None:
        """The place where the work is done, while a logbook is open."""
        return self.places.tune if self.places is not None else None

    def shelve(self, beside: Beside, others: Callable[[], tuple[Path, ...]]) -> None:
        """Have logbooks opened beside this one from now on, by whoever holds them all; `others` gives all that are open."""
        self._beside, self._others = beside, others

    # -- opening -------------------------------------------------------------------------------------------------------

    def open_logbook(self, path: Path, pace: float | None = DEFAULT_PACE, evening: bool = False) -> None:
        """Open a logbook; with `evening` Heron's example is run in it first.

        What is open stays open beside it on a shelf; else a running test has to be stopped before.
        """
        if self._beside is not None and self.book is not None and self.book.now.path.resolve() != path.resolve():
            self._beside(path, lambda other: other.open_logbook(path, pace, evening))
            return

        def open_() -> None:
            self._pace = pace
            self._begin_opening(path, evening, lambda: books.open_for_window(path, None if evening else pace))

        self._once_nothing_runs(open_)

    def start_demo(self) -> None:
        """Open Heron's logbook, or make it."""
        path = data_folder() / "heron.yondle"
        if path.exists():
            self.open_logbook(path)
            return
        self._create(path, "heron", evening=True)

    def start_bench(self, address: str) -> None:
        """Open the logbook of a machine across the room, or start one; `address` is what ssh takes."""
        from yondle.app.machine.machines import bench_at

        where = bench_at(address)
        path = data_folder() / f"{where.host}{f'-{where.port}' if where.port else ''}.yondle"
        if path.exists():
            self.open_logbook(path)
            return
        self._create(path, str(where), evening=False)

    def _start_bench(self, address: str) -> None:
        try:
            self.start_bench(address)
        except KnownError as error:
            assert self.first is not None
            self.first.cards.put("error", error.problem, error.remedy)

    def start_elsewhere(self, name: str) -> None:
        """Open the logbook of a machine that runs no Yondle, or start one."""
        bare = "-".join("".join(c if c.isalnum() else " " for c in name).split()).lower() or "elsewhere"
        path = data_folder() / f"{bare}.yondle"
        if path.exists():
            self.open_logbook(path)
            return
        self._create(path, ELSEWHERE, evening=False, name=name.strip())

    def start_this(self) -> None:
        """Open this machine's logbook, or start one."""
        path = data_folder() / "this-machine.yondle"
        if path.exists():
            self.open_logbook(path)
            return
        self._create(path, "this", evening=False)

    def run_neighbours(self) -> None:
        """Run Heron II and Bittern into logbooks beside this one, or in the usual folder."""
        beside = self.book.now.path.parent if self.book is not None else data_folder()

        def run() -> None:
            self._neighbours_stopped = False
            if self.tune is not None:
                self.tune.tell_neighbours()
            from yondle.app.demo import RunNeighbours

            self.bridge.order(RunNeighbours(beside, lambda: self._neighbours_stopped))

        self._once_nothing_runs(run)

    def _create(self, path: Path, rig: str, evening: bool, name: str = "") -> None:
        if self._beside is not None and self.book is not None:
            self._beside(path, lambda other: other._create(path, rig, evening, name))
            return

        def create() -> None:
            pace = None if evening else self._pace
            self._begin_opening(path, evening, lambda: books.create_for_window(path, rig, pace, name))

        self._once_nothing_runs(create)

    def _begin_opening(self, path: Path, evening: bool, opens: Opens) -> None:
        """Leave what is open and open another logbook; only the one asked for last is shown."""
        self._evening_wanted = evening
        self._leave_session()
        self._show_opening(path.name)
        self._opening = opens
        self.bridge.open(opens)

    def _once_nothing_runs(self, do: Callable[[], None]) -> None:
        """Do something that leaves the open logbook; while something runs in it the tuner is asked first.

        A test must never run on unseen: it belongs to the logbook on the screen, where it can be stopped.
        """
        if self.book is None or self.tune is None or not self.bridge.busy:
            do()
            return
        self.go_to(0)
        self.tune.ask_to_stop_first(lambda: self._stop_then(do))

    def _stop_then(self, do: Callable[[], None]) -> None:
        self._afterwards = do
        self._stop_everything()

    def _stop_everything(self) -> None:
        """Stop whatever runs; the rig is put back."""
        self._neighbours_stopped = True
        if self.tune is not None and self.bridge.busy:
            self.tune.stop()

    def _halt(self) -> None:
        if self.tune is not None and self.bridge.busy:
            self.tune.halt()

    def _fresh_demo(self) -> None:
        self._create(free_name(data_folder(), "heron"), "heron", evening=True)

    def _leave_session(self) -> None:
        book = self.book
        self.book = None
        if self.places is not None:
            for action in self._stops():
                self.removeAction(action)
            self.places.leave()
            self.places = None
        if book is not None:
            self.bridge.close_book()

    def _opened(self, opens: object, book: OpenBook) -> None:
        if opens is self._opening and not self._closing:
            self._show_book(book)

    def _not_opened(self, opens: object, error: object) -> None:
        if opens is not self._opening or self.book is not None:
            return
        self._show_first()
        assert self.first is not None
        if isinstance(error, KnownError):
            self.first.cards.put("error", error.problem, error.remedy)
        else:
            self.first.cards.put("error", say("A fault of the program"), f"{type(error).__name__}: {error}")

    def _closed(self, told: Closed) -> None:
        if told.put_back and self.book is None and self.first is not None:
            from yondle.views.shared.steps import put_back_words

            self.first.cards.put("put back", say("Put back"), put_back_words(told.book.declaration, told.put_back))

    def _ended(self, order: object, answer: Answer[Any]) -> None:
        from yondle.app.demo import RunEvening, RunNeighbours

        if isinstance(order, RunNeighbours) and self.places is not None and answer.error is None:
            self.go_to(NAMES.index("Compare"))
            for path in answer.result or ():
                self.places.place("Compare").read(path)
        elif isinstance(order, RunEvening) and self.book is not None:
            self._set_pace(self._pace)

    # -- building ------------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        bar = QFrame()
        bar.setObjectName("bar")
        bar.setFixedHeight(44)
        self._bar = abreast(bar)
        self._bar.setContentsMargins(MARGIN, 0, MARGIN, 0)
        self._rig_name = label("Yondle", "strong")
        self.tabs = QTabBar()
        self.tabs.setObjectName("places")
        self.tabs.setAccessibleName(say("Places"))
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setUsesScrollButtons(False)
        self.tabs.setElideMode(Qt.TextElideMode.ElideNone)
        self.tabs.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        for i, name in enumerate(NAMES):
            self.tabs.addTab(named(name))
            self.tabs.setTabToolTip(i, f"Ctrl+{i + 1}")
        for arrow, words in zip(
            self.tabs.findChildren(QToolButton), (say("Places before"), say("Places after")), strict=False
        ):
            arrow.setAccessibleName(words)
        self.tabs.currentChanged.connect(self.visit)
        self._conditions = Eliding(right=True)
        self._pace_button = button("", "flat", say("Pace of the simulated rig"))
        self._pace_button.clicked.connect(self._next_pace)
        self._pace_button.setToolTip(say("Virtual seconds per second; press to change"))
        self._commands_button = button(say("Commands  Ctrl+K"), "flat", say("Command list"))
        self._commands_button.clicked.connect(self._open_commands)
        self._bar.addWidget(self._rig_name)
        self._bar.addWidget(self.tabs)
        self._bar.addWidget(self._conditions, 1)
        self._bar.addWidget(self._pace_button)
        self._bar.addWidget(self._commands_button)
        self._foot = Foot()
        self._pages = QStackedWidget()
        self.over = OverPlaces(self, self._pages, self._theme)
        whole = QWidget()
        whole.setObjectName("page")
        box = stacked(whole, 0)
        box.addWidget(bar)
        box.addWidget(self._pages, 1)
        box.addWidget(self._foot)
        self.setCentralWidget(whole)
        self.commands = CommandList(whole)
        self._always_seen = (bar, self._foot, self.commands)
        self._wear()
        self._theme.changed.connect(self._scheme_changed)

    def _scheme_changed(self) -> None:
        if self.isVisible() and not self._theme.printing:
            put_off_painting(self)
        self._wear()

    def _wear(self) -> None:
        """Have what is seen wear the scheme; a place that isn't does so when it is gone to."""
        here = self.places.currentWidget() if self.places is not None else self._pages.currentWidget()
        for part in (*self._always_seen, here):
            if part is not None:
                self._theme.wear(part)

    def _make_actions(self) -> None:
        self._actions: list[QAction] = []
        self._recents: list[QAction] = []
        for text, keys, do in (
            (say("Show the command list"), "Ctrl+K", self._open_commands),
            (say("Open Heron's logbook"), "", self.start_demo),
            (say("Run Heron's evening in a new logbook"), "", self._fresh_demo),
            (say("Run Heron II and Bittern, to compare with"), "", self.run_neighbours),
            (say("Open this machine's logbook"), "", self.start_this),
            (say("Open a logbook …"), "Ctrl+O", self._ask_for_file),
            (say("Bring in a table …"), "Ctrl+I", self.over.ask_for_table),
            (say("Bring in the table on the clipboard"), "Ctrl+Shift+V", self.over.paste),
            (say("Start another logbook beside this one"), "Ctrl+N", self._begin_another),
            (say("Close the logbook"), "Ctrl+W", self._close_book),
            *(
                (say("Go to {name}", name=named(name)), f"Ctrl+{i + 1}", lambda i=i: self.visit(i))
                for i, name in enumerate(NAMES)
            ),
            (say("Change the pace of the simulated rig"), "Ctrl+P", self._next_pace),
            (say("Help about what has the focus"), "F1", self.over.show_help),
            (say("Preferences"), "Ctrl+,", self.over.show_preferences),
            (say("Use the paper scheme"), "", lambda: self._theme.force("paper")),
            (say("Use the night scheme"), "", lambda: self._theme.force("night")),
            (say("Follow the desktop's colour scheme"), "", lambda: self._theme.force(None)),
            (say("Quit"), "Ctrl+Q", self.close),
        ):  # fmt: skip
            action = QAction(text, self)
            if keys:
                action.setShortcut(QKeySequence(keys))
            action.triggered.connect(lambda _=False, do=do: do())
            self.addAction(action)
            self._actions.append(action)

    def _show_page(self, page: QWidget) -> None:
        for i in reversed(range(self._pages.count())):
            old = self._pages.widget(i)
            if old is not None and old is not page:
                self._pages.removeWidget(old)
                old.deleteLater()
        if self._pages.indexOf(page) < 0:
            self._pages.addWidget(page)
        if page is not self.places:
            self._theme.wear(page)
        self._pages.setCurrentWidget(page)

    def _show_first(self) -> None:
        self.places = None
        self.first = FirstPage(self._theme, _books_to_offer())
        self.first.wants_demo.connect(self.start_demo)
        self.first.wants_this.connect(self.start_this)
        self.first.wants_bench.connect(self._start_bench)
        self.first.wants_elsewhere.connect(self.start_elsewhere)
        self.first.wants_file.connect(self.open_logbook)
        self._show_page(self.first)
        self.first.demo_button.setFocus()
        QTimer.singleShot(_BEFOREHAND_MS, self.first, self._look_beforehand)
        self._show_no_book()

    def _look_beforehand(self) -> None:
        """Look in a thread of its own what the first page can show of Heron and of this machine, once the page is painted."""

        def look() -> None:
            from yondle.app.machine.before import look_beforehand
            from yondle.desktop.tune import ruler

            assert ruler is not None
            self._beforehand = look_beforehand()

        self._looking = look
        self.bridge.prepare(look)

    def _show_beforehand(self, prepared: object) -> None:
        first, told = self.first, self._beforehand
        if prepared is self._looking and told is not None and first is not None and self.book is None:
            first.show_beforehand(told)

    def _show_no_book(self) -> None:
        self._rig_name.setText("Yondle")
        self.show_tabs(False)
        self._pace_button.hide()
        self._conditions.set_text("")
        self._show_foot()

    def _show_opening(self, name: str) -> None:
        page = QWidget()
        page.setObjectName("page")
        box = stacked(page)
        box.addStretch(1)
        words = label(say("Opening {name} …", name=name), "title")
        row = abreast()
        row.addStretch(1)
        row.addWidget(words)
        row.addStretch(1)
        box.addLayout(row)
        box.addStretch(1)
        self.first = None
        self._show_page(page)

    def _show_book(self, book: OpenBook) -> None:
        self.book = book
        remember_book(book.now.path)
        info = book.now.declaration.info
        self._rig_name.setText(info.name if info.id == BENCH else f"{info.name} · {info.place}")
        self._rig_name.setToolTip(tip(info.place))
        self.setWindowTitle(f"{info.name} · Yondle")
        self.show_tabs(True)
        self._pace_button.setVisible(book.now.simulated)
        self.over.begin(book)
        self.places = places = Rooms(self._theme, self.bridge, book)
        self.addActions(self._stops())
        book.beside = self._others
        places.made.connect(self._connect)
        places.tune.stopped.connect(self._neighbours_stop)
        places.tune.settled.connect(self._show_settled)
        places.tune.whole.connect(places.load)
        places.tune.wants_grid.connect(self.over.show_grid)
        places.tune.wants_compared.connect(self._compare)
        for reopen in (places.tune.own.reopen, places.tune.reopen):
            reopen.connect(self.open_anew)
        self._show_page(places)
        self.go_to(0)
        self._show_settled()
        if self._evening_wanted:
            self._evening_wanted = False
            places.tune.run_evening()

    def _connect(self, place: ChartPlace) -> None:
        place.wants_step.connect(self.show_step)
        place.wants_trace.connect(self.show_trace)
        place.wants_figure.connect(self._ask_for_figure)
        place.proposed.connect(self._propose_from_map)
        place.wants_command.connect(self.over.go_on_in_tune)

    def go_to(self, place: int) -> None:
        """Show a place, up to date when this returns."""
        if self.places is not None:
            self._check_tab(place)
            self.places.show_now(place)

    def visit(self, place: int) -> None:
        """Show a place, which brings itself up to date by and by: keys and clicks are answered meanwhile."""
        if self.places is not None:
            self._check_tab(place)
            self.places.visit(place)

    def _check_tab(self, place: int) -> None:
        self.tabs.blockSignals(True)
        self.tabs.setCurrentIndex(place)
        self.tabs.blockSignals(False)

    def show_step(self, number: int) -> None:
        """Show a step on the trail."""
        self.go_to(0)
        if self.tune is not None:
            self.tune.trail.choose(number)

    def _ask_for_figure(self, step: int) -> None:
        """Ask in Tune for a figure measured at a step, where what comes of it is seen, too."""
        self.show_step(step)
        if self.tune is not None:
            self.tune.bench.ask_result(step)

    def _compare(self, steps: tuple[int, ...]) -> None:
        if self.places is not None:
            self.places.place("Compare").compare_steps(steps)
            self.visit(NAMES.index("Compare"))

    def show_trace(self, attempt: int) -> None:
        """Show the trace of a test."""
        if self.places is not None:
            self.places.place("Traces").show_run(attempt)
            self.visit(NAMES.index("Traces"))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take logbooks, and tables where one is open."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        if any(path.suffix in (BOOK, DESCRIPTION) or self.over.takes(path) for path in paths):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open a logbook, show what a plan or a table would do, or keep a profile or description."""
        paths = tuple(Path(url.toLocalFile()) for url in event.mimeData().urls())
        book = next((path for path in paths if path.suffix == BOOK), None)
        description = next((path for path in paths if path.suffix == DESCRIPTION), None)
        if book is not None:
            self.open_logbook(book)
        elif description is not None and self.tune is not None:
            self.go_to(0)
            self.tune.bringing.description(description)
        elif description is not None and self.first is not None:
            title = say("Which logbook is {path} for?", path=description.name)
            self.first.cards.put("error", title, say("Open one, then drop it there."))
        elif not self.over.bring_all(paths):
            return
        event.acceptProposedAction()

    def open_anew(self) -> None:
        """Open the logbook anew."""
        if self.book is not None:
            self.open_logbook(self.book.now.path, self._pace)

    def _propose_from_map(self, values: dict[str, float]) -> None:
        self.go_to(0)
        if self.tune is not None:
            self.tune.propose_together(values)

    def show_tabs(self, shown: bool) -> None:
        """Show the places' tabs, or hide them."""
        self.tabs.setVisible(shown)

    # -- showing -------------------------------------------------------------------------------------------------------

    def _busy(self, busy: bool) -> None:
        self._stop_keys.listen(busy)
        if self._closing and not busy:
            self.close()
        elif self._afterwards is not None and not busy:
            do, self._afterwards = self._afterwards, None
            do()

    def _show_settled(self) -> None:
        if self.book is None:
            return
        from yondle.views.shared.power import power_hint
        from yondle.views.shared.rooms import ROOM

        if self.places is not None:
            self.places.refresh_here()
        now = self.book.now
        facts = now.looked.facts if now.simulated else {}
        parts = []
        room = facts.get(ROOM)
        if isinstance(room, float):
            parts.append(say("{room} outside", room=quantity(room, "°C", 1)))
        if facts.get("power"):
            parts.append(str(facts["power"]))
        parts.append(_where(now))
        if not self.bridge.busy and not now.looked.away:
            parts += [hint] if (hint := power_hint(now)) else []
        self._conditions.set_text(" · ".join(parts))
        if now.simulated:
            self._pace_button.setText(say("as fast as it goes") if now.pace is None else f"×{now.pace:g}")
        self._show_foot()

    def _show_foot(self) -> None:
        now = self.book.now if self.book is not None else None
        if now is not None and now.looked.away:
            self._foot.show_away()
            return
        if now is not None and now.elsewhere:
            self._foot.show_elsewhere()
            return
        if now is None or now.verified is None:
            self._foot.show_nothing()
            return
        progress = self.tune.progress if self.tune is not None else None
        running = progress is not None and progress.running
        lent = now.declaration.lends and now.in_force != now.declaration.stock
        self._foot.show_settings(now.verified, now.looked.at_s, running, lent)

    def _look_at_foot(self) -> None:
        if not self.isVisible():
            return
        self._foot.measure()
        self._look_at_machine()
        self._show_foot()

    def _look_at_machine(self) -> None:
        """Look whether settings may have gone back by themselves, or the machine is away; say so, once for each time."""
        if self.book is None or self.bridge.busy:
            return
        from yondle.app.session.returning import Look

        looked, before = self.book.do(Look()), self._gone_back
        self._gone_back = looked.away or looked.gone_back
        if not self._gone_back or self._gone_back == before or self.tune is None:
            return
        if looked.away:
            self.tune.tell_away(looked.away)
            self._show_settled()
        else:
            self.tune.verify_again(looked.gone_back)

    # -- doing ---------------------------------------------------------------------------------------------------------

    def _open_commands(self) -> None:
        place = self.places.here if self.places is not None else None
        places = list(place.actions_by_name.values()) if place is not None else []
        stops = [action for action in self._stops() if action.isEnabled() and action not in places]
        self.commands.open_with([*stops, *places, *self._actions[1:], *self._recent()])

    def _recent(self) -> list[QAction]:
        """Offer the logbooks that were open last."""
        for action in self._recents:
            action.deleteLater()
        self._recents = []
        here = self.book.now.path.resolve() if self.book is not None else None
        for path in recent_books():
            if path != here:
                action = QAction(say("Open {stem} again · {folder}", stem=path.stem, folder=path.parent), self)
                action.triggered.connect(lambda _=False, path=path: self.open_logbook(path))
                self._recents.append(action)
        return self._recents

    def _stops(self) -> list[QAction]:
        """What stops a test: heard in every place, not only where the test is shown."""
        by_name = self.tune.actions_by_name if self.tune is not None else {}
        return [by_name[name] for name in ("stop", "halt", "pause") if name in by_name]

    def _neighbours_stop(self) -> None:
        self._neighbours_stopped = True

    def _ask_for_file(self) -> None:
        path = ask_for_book(self)
        if path is not None:
            self.open_logbook(path)

    def _close_book(self) -> None:
        def close() -> None:
            self._leave_session()
            self._show_first()
            self.left.emit()

        self._once_nothing_runs(close)

    def _begin_another(self) -> None:
        """Have a first page beside what is open."""
        if self._beside is not None and self.book is not None:
            self._beside(None, lambda other: None)

    def _next_pace(self) -> None:
        from yondle.app.machine.machines import PACES

        pace = self.book.now.pace if self.book is not None else None
        if pace is not None:
            self._set_pace(next((each for each in PACES if each > pace), PACES[0]))

    def _set_pace(self, pace: float | None) -> None:
        if self.book is not None and self.book.now.simulated:
            from yondle.app.session.requests import SetPace

            self._pace = pace
            self.book.ask(SetPace(pace), lambda _: self._show_settled())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Close the command list, which was placed for the old size."""
        self.commands.hide()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Stop a running test, which puts the rig back, and close when it has ended."""
        if self.bridge.busy:
            self._closing = True
            self._stop_everything()
            if self.tune is not None:
                self.tune.side.cards.put(
                    "closing", say("Closing"), say("The test is being stopped and the rig put back first.")
                )
            event.ignore()
            return
        self._foot_timer.stop()
        self._stop_keys.listen(False)
        self._leave_session()
        self.news.close()
        self.bridge.close()
        event.accept()
        self.gone.emit()


def _books_to_offer() -> list[Path]:
    """List the logbooks that were open last, then those in the usual folder, each once."""
    recent = list(recent_books())
    try:
        usual = sorted(data_folder().glob("*.yondle"), key=lambda p: p.stat().st_mtime, reverse=True)
    except KnownError:
        usual = []
    return [*recent, *(path for path in usual if path.resolve() not in recent)]


def _where(now: Snapshot) -> str:
    """Say where the machine is, and whether it can be reached."""
    if now.simulated:
        return say("simulated rig")
    if now.elsewhere:
        return say("runs no Yondle")
    if now.declaration.info.id != BENCH:
        return say("this machine")
    return say("across the room, away now") if now.looked.away else say("across the room")
