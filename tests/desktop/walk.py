"""A random walk through the window: actions in no order, then what panel, trail, foot and engine owe each other.

`python -m tests.desktop.walk --actions 20000 --seeds 10` runs it in processes of its own and prints what it found; a short one
is part of the tests. The engine runs in its thread as always, so that actions fall into every moment of a test.
"""

from __future__ import annotations

import argparse
import faulthandler
import os
import re
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from random import Random
from typing import Any

from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.desktop.shell.rooms import NAMES

if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    os.environ["YONDLE_LANGUAGE"] = "en"

from PySide6.QtCore import QEventLoop, Qt
from PySide6.QtGui import QAction
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QPushButton, QTextEdit, QWidget
from tests.conftest import quick_rig

from yondle.app.machine.machines import RigChoice
from yondle.app.session.session import Session
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.place import TunePlace
from yondle.desktop.tune.trail import TrailModel
from yondle.engine.states import State
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, Record, StateChanged, StepOpened
from yondle.views.shared.snapshot import Snapshot

ENDS_WITHIN_S, _LONGEST_WAIT_S = 60.0, 3.0
NOT_TAKEN = (
    "Quit",
    "print the chart",
    "Open a logbook …",
    "Run Heron",
    "Open Heron",
    "Open this machine",
    "Close the logbook",
    "Change the pace",
)
"""Commands that open a dialog or leave the walk; opening and closing have actions of their own."""


class Truth:
    """What the engine itself says, heard in its own thread."""

    def __init__(self, session: Session) -> None:
        waits = session.snapshot.waiting.step if session.snapshot.waiting is not None else None
        self.step = waits.number if waits is not None else None
        self.state = session.engine.state.name
        session.subscribe(self.take)

    def take(self, record: Record) -> None:
        match record:
            case StepOpened():
                self.step = record.step.number
            case StateChanged():
                self.state = record.state
            case AttemptClosed():
                self.step = None
            case _:
                pass


class Walk:
    """One walk over a window with a small simulated rig."""

    def __init__(self, app: QApplication, folder: Path, seed: int) -> None:
        self._app, self._folder = app, folder
        self.chance = Random(seed)
        self.done: list[str] = []
        self.found: list[str] = []
        self.counts: Counter[str] = Counter()
        self.theme = Theme(app, "paper")
        self.window = MainWindow(self.theme)
        self.window.resize(1280, 800)
        self.window.show()
        self._books = [self._book("one"), self._book("two")]
        self._truth: tuple[Session, Truth] | None = None
        QFileDialog.getOpenFileName = staticmethod(lambda *_a, **_k: ("", ""))  # type: ignore[method-assign,assignment]
        QFileDialog.getSaveFileName = staticmethod(self._save_name)  # type: ignore[method-assign,assignment]

    def _book(self, name: str) -> Path:
        path = self._folder / f"{name}.yondle"
        session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
        session.do(RunBaseline(2))
        session.do(TryFrom(1, {"core_clock": 4300.0}, None))
        session.close()
        return path

    def _save_name(self, *_: Any) -> tuple[str, str]:
        ending = self.chance.choice((".svg", ".png", ".csv", ".toml", ".html", ""))
        return str(self._folder / f"saved{ending}"), ""

    # -- going -----------------------------------------------------------------------------------------------------------

    def spin(self, seconds: float = 0.0) -> None:
        end = time.monotonic() + seconds
        while True:
            self._app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)
            if time.monotonic() >= end:
                return

    def until(self, ready: Callable[[], bool], what: str) -> bool:
        end = time.monotonic() + ENDS_WITHIN_S
        while not ready():
            if time.monotonic() > end:
                self._tell(f"{what} not within {ENDS_WITHIN_S:.0f} s ({self._engines_state()})")
                return False
            self.spin(0.005)
        return True

    def _engines_state(self) -> str:
        """Say what the engine is at: its state, what is asked of it, how much is waiting, and where its thread stands."""
        session, bridge = self.session, self.window.bridge
        told = [] if session is None else [session.engine.state.name, f"asked {session.engine.requests.pending()}"]
        if session is not None and session.machine.virtual is not None:
            told.append(f"pace {session.machine.virtual.pace}")
        frame = sys._current_frames().get(bridge.owner._thread.ident or 0)
        where = (
            " < ".join(f"{f.name}:{f.lineno}" for f in reversed(traceback.extract_stack(frame)[-12:])) if frame else ""
        )
        return ", ".join([*told, f"{bridge._pending} under way", where])

    def open(self, path: Path) -> None:
        self.window.open_logbook(path, self.chance.choice((None, 2000.0, 6000.0)))

    def run(self, actions: int) -> None:
        self.open(self._books[0])
        self.until(lambda: self.tune is not None and self.tune.complete, "opening")
        for _ in range(actions):
            name, act = self.chance.choice(self._acts())
            self.done.append(name)
            self.counts[name.split(":")[0]] += 1
            try:
                act()
                self.spin(self.chance.choice((0, 0, 0, 0.002, 0.01, 0.05)))
                self._look()
            except Exception:
                self._tell("exception: " + traceback.format_exc(limit=-3).strip().replace("\n", " | "))
            if len(self.found) >= 5:
                return
        self._ask_to_stop()
        self.until(lambda: not self.window.bridge.busy, "the end of all work after a stop")
        self.window.close()
        self.until(lambda: not self.window.isVisible(), "closing")
        self.window.deleteLater()
        self.spin(0.05)

    def _tell(self, what: str) -> None:
        self.found.append(f"{what}\n    after: {' > '.join(self.done[-14:])}")

    @property
    def tune(self) -> TunePlace | None:
        return self.window.tune

    @property
    def session(self) -> Session | None:
        """The session behind the window's logbook; the owner's own, looked at from outside as nothing else may."""
        owner, book = self.window.bridge.owner, self.window.book
        return owner._session if book is not None and owner._latest is book._latest else None

    def truth(self) -> Truth | None:
        session = self.session
        if session is None:
            return None
        if self._truth is None or self._truth[0] is not session:
            self._truth = session, Truth(session)
        return self._truth[1]

    # -- actions ----------------------------------------------------------------------------------------------------------

    def _acts(self) -> list[tuple[str, Callable[[], object]]]:
        acts: list[tuple[str, Callable[[], object]]] = [
            ("go", lambda: self.window.visit(self.chance.randrange(len(NAMES)))),
            ("scheme", lambda: self.theme.force(self.chance.choice(("paper", "night")))),
            ("size", lambda: self.window.resize(self.chance.randrange(1100, 1900), self.chance.randrange(700, 1200))),
            ("key", self._key),
            ("key", self._key),
            ("button", self._button),
            ("button", self._button),
            ("command", self._command),
            ("command", self._command),
        ]
        if self.tune is None or self.session is None:
            return [("open", lambda: self.open(self.chance.choice(self._books))), ("wait", lambda: self.spin(0.05))]
        return [
            *acts,
            *[("move", self._move)] * 3,
            *[("test", lambda: self._trigger("test"))] * 3,
            *[("choose", self._choose)] * 2,
            *[("stop", self._ask_to_stop)] * 2,
            ("pause", lambda: self._trigger("pause")),
            ("drop", lambda: self._trigger("drop")),
            ("back", lambda: self._trigger("go_back")),
            ("type", self._type),
            ("note", self._note),
            ("wait", lambda: self.spin(0.2)),
            ("wait", self._wait_for_the_end),
            ("save", self._save),
            ("print", self._print),
            ("leave", self._leave),
        ]

    def _wait_for_the_end(self) -> None:
        end = time.monotonic() + _LONGEST_WAIT_S
        while self.window.bridge.busy and time.monotonic() < end:
            self.spin(0.01)

    def _trigger(self, name: str) -> None:
        if self.tune is not None:
            self.tune.actions_by_name[name].trigger()

    def _ask_to_stop(self) -> None:
        self._trigger(self.chance.choice(("stop", "halt")))

    def _move(self) -> None:
        tune, book = self.tune, self.window.book
        if tune is None or book is None:
            return
        usual = ("core_clock", "core_voltage", "memory_rate", "power_limit", "cores_in_use", "fan_level")
        knob = book.now.declaration.knob(self.chance.choice(usual))
        notch = knob.notch_of(book.now.in_force[knob.id]) + self.chance.choice((-2, -1, 1, 2, 4, 30))
        tune.rulers.moved.emit(knob.id, knob.at(notch))

    def _choose(self) -> None:
        if self.tune is not None and self.window.book is not None and self.window.book.now.steps:
            self.tune.trail.choose(self.chance.choice(self.window.book.now.steps).step.number)

    def _key(self) -> None:
        k = Qt.Key
        keys = (
            k.Key_Escape,
            k.Key_Return,
            k.Key_Left,
            k.Key_Right,
            k.Key_Up,
            k.Key_Down,
            k.Key_Tab,
            k.Key_Space,
            k.Key_P,
        )
        keys += (k.Key_O, k.Key_J, k.Key_S, k.Key_E, k.Key_L, k.Key_G)
        modifiers = self.chance.choice((Qt.KeyboardModifier.NoModifier,) * 6 + (Qt.KeyboardModifier.ShiftModifier,))
        target = QApplication.focusWidget() or self.window
        QTest.keyClick(target, self.chance.choice(keys), modifiers)

    def _visible(self, kind: type[QWidget]) -> list[Any]:
        return [w for w in self.window.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def _button(self) -> None:
        """Press a button that is shown, but those that open the demo or another machine, and the pace: real time takes long."""
        shown = [
            b
            for b in self._visible(QPushButton)
            if not re.search(r"Heron|this machine|Print|Open a file|^×|^as fast", b.text())
        ]
        if shown:
            button = self.chance.choice(shown)
            self.done[-1] = f"button:{button.text()[:30]}"
            button.click()

    def _command(self) -> None:
        place = self.window.places.currentWidget() if self.window.places is not None else None
        actions: list[QAction] = [*self.window._actions, *getattr(place, "actions_by_name", {}).values()]
        able = [a for a in actions if a.isEnabled() and not any(words in a.text() for words in NOT_TAKEN)]
        action = self.chance.choice(able)
        self.done[-1] = f"command:{action.text()[:40]}"
        action.trigger()

    def _type(self) -> None:
        fields = [f for f in (*self._visible(QLineEdit), *self._visible(QTextEdit)) if not f.isReadOnly()]
        if fields:
            field = self.chance.choice(fields)
            field.setFocus()
            QTest.keyClicks(field, self.chance.choice(("4300", "core", "-1", "x y", "nan", "1e9", "")))

    def _note(self) -> None:
        tune, book = self.tune, self.window.book
        if tune is not None and book is not None and book.now.steps:
            tune._keep_note(self.chance.choice(book.now.steps).step.number, "a note while things go on")

    def _save(self) -> None:
        place = self.window.places.currentWidget() if self.window.places is not None else None
        action = getattr(place, "actions_by_name", {}).get("save")
        if action is not None:
            action.trigger()

    def _print(self) -> None:
        """Print the chart of the place into a file, as the dialog's answer would have it."""
        place = self.window.places.currentWidget() if self.window.places is not None else None
        if isinstance(place, ChartPlace):
            printer = QPrinter()
            printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
            printer.setOutputFileName(str(self._folder / "printed.pdf"))
            with suppress(KnownError):
                place.print_on(printer)

    def _leave(self) -> None:
        if self.chance.random() < 0.3:
            self.open(self.chance.choice(self._books))
        elif self.chance.random() < 0.3:
            self.window._close_book()

    # -- what holds ------------------------------------------------------------------------------------------------------

    def _look(self) -> None:
        """Let the window hear all there is, and hold what it shows against the engine, if that stood still meanwhile."""
        session, book, tune, truth = self.session, self.window.book, self.tune, self.truth()
        if session is None or book is None or tune is None or truth is None or not tune.complete:
            return
        bridge = self.window.bridge
        before = (truth.step, truth.state, session.engine.state.name, bridge.busy, book.now.version)
        bridge._hand_over()
        self._app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)
        after = (truth.step, truth.state, session.engine.state.name, bridge.busy, book.now.version)
        if self.tune is not tune or bridge._waiting or after != before or truth.state != session.engine.state.name:
            return
        for wrong in self._wrong(book.now, tune, truth):
            self._tell(wrong)

    def _wrong(self, now: Snapshot, tune: TunePlace, truth: Truth) -> list[str]:
        wrong = []
        side, busy = tune.side, self.window.bridge.busy
        waits = truth.state == State.WAITING.name
        testing = truth.step is not None and not waits and truth.state != State.RESTING.name

        def must(holds: bool, words: str) -> None:
            if not holds:
                wrong.append(f"{words} (step {truth.step}, {truth.state}, busy {busy})")

        heading = side.running.heading.text()
        must(
            side.next.isHidden() != side.running.isHidden(),
            "the panel shows both the next step and a running test, or neither",
        )
        must(side.running.isHidden() or busy, f"'{heading}' is shown and nothing runs")
        if testing:
            must(not side.running.isHidden(), "a test runs and the panel shows the next step")
            must(re.search(rf"step {truth.step}\b", heading) is not None, f"the panel says '{heading}'")
            off = "the load is off" in side.running.left.text()
            must(off == (truth.state == State.PAUSED.name), f"the panel says '{side.running.left.text()}'")
        trail = tune.trail.model()
        assert isinstance(trail, TrailModel)
        rows = trail.rows
        shown = [row.number for row in rows] if rows is not None else []
        must(set(shown) == {r.step.number for r in now.steps}, "the trail shows other steps than there are")
        running = [row.number for row in rows if row.running] if rows is not None else []
        must(running == ([truth.step] if testing else []), f"the trail has {running} on trial")
        must(tune.actions_by_name["stop"].isEnabled() == busy, "stop can't be asked for, or can with nothing to stop")
        must(
            tune.actions_by_name["halt"].isEnabled() == busy,
            "the emergency stop can't be asked for, or can with nothing to stop",
        )
        foot = self.window._foot._verified.text()
        if testing:
            must("on trial" in foot, f"the foot says '{foot}'")
        if busy:
            return wrong
        must(
            (now.waiting is not None) == (side.cards.get("entry") is not None),
            "what waits and the card of it differ",
        )
        proposal, shown_proposal = now.proposal is not None, not side.next.test_button.isHidden()
        must(proposal == shown_proposal or now.waiting is not None or now.baseline_step is None,
             f"proposed: {proposal}, shown: {shown_proposal}")  # fmt: skip
        seen = now.verified
        must(seen is None or f"{seen.as_set} of {seen.of}" in foot, f"the foot says '{foot}'")
        here = [row.number for row in rows if row.is_position] if rows is not None else []
        at = now.position
        must(here == ([at.step.number] if at is not None else []), f"the trail has the rig at {here}")
        if now.position is not None and now.waiting is None:
            must(
                now.in_force == now.position.step.setup,
                "the settings in force aren't those of the step",
            )
        return wrong


def walk(app: QApplication, folder: Path, seed: int, actions: int) -> Walk:
    """Walk once."""
    made = Walk(app, folder, seed)
    made.run(actions)
    return made


def main() -> int:
    """Run walks, each in a process of its own; 1 where something was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--actions", type=int, default=2000)
    parser.add_argument("--seeds", type=int, default=1)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--one", type=int, default=None)
    asked = parser.parse_args()
    if asked.one is not None:
        return _one(asked.one, asked.actions)
    bad = 0
    for seed in range(asked.first, asked.first + asked.seeds):
        each = asked.actions // asked.seeds
        command = [sys.executable, "-m", "tests.desktop.walk", "--one", str(seed), "--actions", str(each)]
        bad += subprocess.run(command, check=False).returncode != 0
    return int(bad > 0)


def _one(seed: int, actions: int) -> int:
    faulthandler.enable()
    with tempfile.TemporaryDirectory() as name:
        for variable in ("XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
            os.environ[variable] = f"{name}/{variable}"
        app = QApplication([])
        raised: list[str] = []
        sys.excepthook = lambda kind, value, trace: raised.append(
            "".join(traceback.format_exception(kind, value, trace)[-4:]).strip().replace("\n", " | ")
        )
        began = time.monotonic()
        made = walk(app, Path(name), seed, actions)
        made.found += [f"exception in a slot: {words}" for words in raised]
        took = time.monotonic() - began
        print(f"seed {seed}: {len(made.done)} actions, {took:.0f} s, {len(made.found)} found; {dict(made.counts)}")
        for words in dict.fromkeys(made.found):
            print("  " + words, flush=True)
        sys.stdout.flush()
        os._exit(int(bool(made.found)))


if __name__ == "__main__":
    sys.exit(main())
