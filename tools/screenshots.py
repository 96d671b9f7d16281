"""Makes the pictures in docs/screenshots anew, offscreen, from demo data that is really run on the simulated rig."""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yondle.app.demo import RunEvening
from yondle.app.plans.plans import StartPlan
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.remarks import DiscardPass, WriteNote
from yondle.app.session.requests import SetPace
from yondle.app.session.returning import DropWaiting, ReturnToStock
from yondle.app.session.testing import RunBaseline
from yondle.model.profiles import Purpose

if TYPE_CHECKING:
    from yondle.desktop.shell.window import MainWindow

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("YONDLE_LANGUAGE", "en")
FOLDER = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
SIZE = (1280, 800)
SMALL = (1100, 700)


def at_home_in(home: Path) -> None:
    """Keep everything there, and know nothing of this user: no picture may show what was open here last."""
    for kind in ("DATA", "STATE", "CONFIG"):
        os.environ[f"XDG_{kind}_HOME"] = str(home / kind.lower())


class Camera:
    """Drives the real window and takes pictures of it."""

    def __init__(self, folder: Path, home: Path) -> None:
        from PySide6.QtWidgets import QApplication

        from yondle.desktop.look.theme import Theme
        from yondle.desktop.shell.speaking import speak

        self.folder = folder
        self.home = home
        found = QApplication.instance()
        self.app = found if isinstance(found, QApplication) else QApplication([])
        speak(self.app)
        self.theme = Theme(self.app, "paper")

    @contextmanager
    def window(self, size: tuple[int, int] = SIZE) -> Iterator[MainWindow]:
        """Give a window, and close it when done."""
        from yondle.desktop.shell.window import MainWindow

        window = MainWindow(self.theme)
        window.resize(*size)
        window.show()
        try:
            yield window
        finally:
            window.close()
            self.until(lambda: not window.isVisible())
            window.deleteLater()
            self.app.processEvents()

    def until(self, ready: Callable[[], bool], seconds: float = 60.0) -> None:
        """Let the window work until something is so."""
        limit = time.monotonic() + seconds
        while not ready():
            if time.monotonic() > limit:
                raise TimeoutError("the window never got there")
            self.app.processEvents()
            time.sleep(0.005)
        self.app.processEvents()

    def open(self, window: MainWindow, path: Path, pace: float | None = 20.0) -> None:
        """Open a logbook and wait for its place."""
        window.open_logbook(path, pace)
        self.until(lambda: window.tune is not None and window.tune.complete)

    def take(self, window: MainWindow, name: str) -> None:
        """Take a picture, once everything that was put up has found its place."""
        place = window.places.currentWidget() if window.places is not None else None
        self.until(lambda: getattr(place, "complete", True))
        for _ in range(8):
            self.app.processEvents()
        self.folder.mkdir(parents=True, exist_ok=True)
        window.grab().save(str(self.folder / f"{name}.png"))
        print(self.folder / f"{name}.png")


def demo_logbook(path: Path) -> Path:
    """Run Heron's evening into a new logbook."""
    from yondle.app.machine.machines import choose_rig

    session = create_logbook(path, choose_rig("heron"))
    session.do(RunEvening(lambda _move, _record: None))
    session.close()
    return path


def take_all(camera: Camera) -> None:
    """Take every picture of the docs."""
    book = demo_logbook(camera.home / "heron.yondle")
    with camera.window() as window:
        camera.until(lambda: window.first is not None and window.first.here.text().strip() != "")
        camera.take(window, "first-start")
    with camera.window() as window:
        camera.open(window, book)
        window.tune.trail.choose(11)
        camera.take(window, "tune")
        window.go_to(1)
        camera.take(window, "scaling")
        recording(camera, window)
        window.go_to(0)
        entering(camera, window)
        window.tune._propose("core_clock", 4750)
        window.tune._drop()
        running(camera, window)
        window.tune.actions_by_name["stop"].trigger()
        camera.until(lambda: not window.bridge.busy)
        window.tune._drop()
        window.book.ask(SetPace(None))
        window.tune._propose("core_clock", 4900)
        window.tune.actions_by_name["test"].trigger()
        camera.until(lambda: not window.bridge.busy)
        camera.take(window, "tune-failed")
        searching(camera, window)
    mapping(camera)
    comparing(camera)
    table(camera)
    resumed(camera)
    kept(camera)
    climbing(camera)
    across(camera)


GRID = """
format = "yondle-plan 1"
name = "grid"
passes = 5
[[do]]
kind = "steps"
steps = [{steps}]
"""


def mapping(camera: Camera) -> None:
    """Core clock and memory rate at five values each."""
    from yondle.app.machine.machines import choose_rig

    book = camera.home / "grid.yondle"
    session = create_logbook(book, choose_rig("heron"))
    session.do(RunBaseline(5))
    pairs = [(clock, rate) for rate in range(5200, 6001, 200) for clock in range(4000, 4801, 200)]
    steps = ", ".join(f"{{ core_clock = {clock}, memory_rate = {rate} }}" for clock, rate in pairs)
    session.do(StartPlan(GRID.format(steps=steps), "grid", lambda *_: None))
    session.close()
    with camera.window() as window:
        camera.open(window, book)
        window.go_to(2)
        window.places.place("Map").choose_place(4300.0, 5900.0)
        camera.take(window, "map")


def comparing(camera: Camera) -> None:
    """Three rigs side by side, each along its power limit."""
    from yondle.app.demo import RunNeighbours, sweep_power

    folder = camera.home / "three"
    folder.mkdir()
    book = demo_logbook(folder / "heron.yondle")
    session = open_logbook(book)
    session.do(KeepProfile("Daily"))
    session.do(ReturnToStock())
    sweep_power(session)
    session.close()
    twin, old = RunNeighbours(folder).run()
    with camera.window() as window:
        camera.open(window, book)
        window.go_to(3)
        window.places.place("Compare").choose(f"{twin}#Memory", True)
        window.places.place("Compare").read(old)
        camera.take(window, "compare")


def recording(camera: Camera, window: MainWindow) -> None:
    """What sensors said in a test that was held back, everything in one table, and the report."""
    book = window.book
    window.go_to(4)
    window.places.place("Traces").choose_step(14)
    each_core = next(panel for panel in window.places.place("Traces")._first.panels if panel.by_core)
    window.places.place("Traces").show_panel(each_core.key, True)
    camera.take(window, "traces")
    book.ask(WriteNote(13, "The shed door stood open for a while.", caveat=True))
    attempt = book.now.step(13).attempts[0]
    made = [p for p in attempt.passes if p.counts][6]
    book.ask(DiscardPass(13, attempt.id, made.ordinal, "the door was open"))
    window.go_to(5)
    window.places.place("Logbook").search.setText("core clock")
    window.places.place("Logbook")._filter()
    window.places.place("Logbook").table.choose(next(r for r in window.places.place("Logbook")._all if r.discarded))
    window.places.place("Logbook").search.setText("")
    window.places.place("Logbook")._filter()
    window.places.place("Logbook").table.choose(next(r for r in window.places.place("Logbook")._all if r.discarded))
    camera.take(window, "logbook")
    window.go_to(6)
    window.places.place("Report").question.setText("How much faster does Heron stack without getting louder?")
    window.places.place("Report")._keep_question()
    camera.take(window, "report")


def entering(camera: Camera, window: MainWindow) -> None:
    """Memory knobs, what is said before one is tested, and what is to be entered by hand."""
    tune = window.tune
    tune.rulers.unfold(["memory"])
    tune._propose("cas", 38)
    camera.until(lambda: True)
    tune.actions_by_name["test"].trigger()
    camera.until(lambda: not window.bridge.busy)
    camera.take(window, "tune-entry")
    window.book.order(DropWaiting())
    camera.until(lambda: not window.bridge.busy)
    tune.side.cards.clear()
    tune.rulers.unfold(["processor"])
    tune._enter("core_clock")


def searching(camera: Camera, window: MainWindow) -> None:
    """An edge asked for, searched and found, with room made for the clock."""
    from yondle.desktop.tune.edge_cards import EdgeCard

    tune, book = window.tune, window.book
    tune.side.cards.clear()
    tune.trail.choose(6)
    tune.actions_by_name["go_back"].trigger()
    camera.until(lambda: not window.bridge.busy)
    for knob, value in (("fan_level", 80.0), ("power_limit", 120.0)):
        tune._propose(knob, value)
        tune.actions_by_name["test"].trigger()
        camera.until(lambda: not window.bridge.busy)
    tune.side.cards.clear()
    tune._enter("core_clock")
    tune.actions_by_name["edge"].trigger()
    question = tune.side.cards.get("edge question")
    assert isinstance(question, EdgeCard)
    camera.until(question.run_button.isEnabled)
    question.run_button.click()
    camera.until(lambda: window.bridge.busy)
    camera.until(lambda: not window.bridge.busy, 180.0)
    tune.trail.choose(book.now.position.step.number)
    camera.take(window, "tune-edge")


def running(camera: Camera, window: MainWindow) -> None:
    """A test under way."""
    window.tune._propose("core_clock", 4725)
    window.book.ask(SetPace(200.0))
    window.tune.actions_by_name["test"].trigger()
    camera.until(lambda: window.tune.progress.number >= 12)
    window.book.ask(SetPace(20.0))
    camera.until(lambda: window.tune.progress.doing.startswith("Sharpening"))
    camera.take(window, "tune-running")


def resumed(camera: Camera) -> None:
    """A step was on trial when the machine went down and took the program with it."""
    import subprocess
    import sys

    book = demo_logbook(camera.home / "resumed.yondle")
    command = [
        sys.executable,
        "-m",
        "yondle.main",
        "step",
        str(book),
        "core_clock=4800",
        "--together",
        "--pace",
        "4000",
    ]
    for clock in (4800, 4825, 4850, 4875, 4925, 5000):
        command[5] = f"core_clock={clock}"
        if subprocess.run(command, check=False, capture_output=True).returncode < 0:
            break
    with camera.window() as window:
        camera.open(window, book)
        camera.take(window, "tune-resumed")


def kept(camera: Camera) -> None:
    """A profile that is kept over restarts, with what it lived through.

    The demo's rig has no restarts, so what the service of a real machine would have written is put in its place.
    """
    from yondle.app.session.commands import Command
    from yondle.app.session.session import Session
    from yondle.formats.documents import KeptOverRestarts, Lived
    from yondle.model.kept import MAINS, KeptNow

    class Tell(Command[None]):
        def __init__(self, now: KeptNow) -> None:
            self.now = now

        def do(self, session: Session) -> None:
            session.kept_here = self.now

    book = demo_logbook(camera.home / "kept.yondle")
    session = open_logbook(book)
    step = session.snapshot.position.step.number
    day = 86400.0
    usual = {"boot": "", "step": step, "name": "Daily", "source": MAINS, "errors": 0.0, "throttled": 0.0, "failures": 0}
    session.do(KeepProfile("Daily", Purpose.DAILY))
    lived = [
        Lived(**usual, number=i, began=f"2026-10-{18 + 7 * i}", awake_s=7 * day, load_s=21 * 3600.0, why="", open=False)
        for i in range(3)
    ]
    session.keep(KeptOverRestarts(id="heron", lived=lived))
    session.close()
    with camera.window() as window:
        camera.open(window, book)
        profiles = {MAINS: ("Daily", "heron", step)}
        window.book.ask(Tell(KeptNow(profiles, "", "Daily")))
        camera.until(lambda: window.book.now.kept_here is not None)
        window.tune.profiles.show()
        camera.take(window, "tune-kept")


def table(camera: Camera) -> None:
    """A table of a handheld on its way into a book of its own, in the smallest window."""
    from yondle.app.machine.machines import choose_rig

    book = camera.home / "wren.yondle"
    create_logbook(book, choose_rig("elsewhere", name="Wren")).close()
    with camera.window(SMALL) as window:
        camera.open(window, book)
        window.over.bring(FOLDER.parent / "examples" / "wren-power.csv")
        camera.until(lambda: window.over.page is not None)
        camera.take(window, "table")


def climbing(camera: Camera) -> None:
    """What is worth trying next, and a climb of three hours toward the highest score: under way at night, and at its end."""
    from yondle.app.machine.machines import choose_rig
    from yondle.desktop.tune.goal_cards import ClimbCard, NextCard

    book = camera.home / "climb.yondle"
    session = create_logbook(book, choose_rig("heron"))
    session.do(RunBaseline(5))
    session.close()
    with camera.window() as window:
        camera.open(window, book, None)
        tune = window.tune
        tune.actions_by_name["next"].trigger()
        card = tune.side.cards.get("next")
        assert isinstance(card, NextCard)
        camera.until(card.climb.isEnabled)
        card.form.hours.setValue(3.0)
        camera.until(lambda: not card.climb.isEnabled())
        camera.until(card.climb.isEnabled)
        camera.take(window, "tune-next")
        card.climb.click()
        camera.until(lambda: isinstance(tune.side.cards.get("climb"), ClimbCard))
        camera.until(lambda: len(window.book.now.steps) > 18 and tune.progress.running, 300.0)
        window.book.ask(SetPace(200.0))
        camera.until(lambda: tune.progress.running and tune.progress.doing.startswith("Mixed load"), 300.0)
        camera.theme.force("night")
        camera.take(window, "tune-night")
        camera.theme.force("paper")
        window.book.ask(SetPace(None))
        camera.until(lambda: not window.bridge.busy and not tune.running, 300.0)
        camera.take(window, "tune-climb")


def across(camera: Camera) -> None:
    """A machine across the room that is away now: a small one behind a real agent, which a stand-in for ssh starts."""
    import sys

    from yondle.app.machine.machines import choose_rig
    from yondle.app.session.proposing import Propose
    from yondle.app.session.testing import TryProposal

    folder = camera.home / "across"
    folder.mkdir()
    (folder / "boot").write_text("b1")
    ssh = folder / "ssh"
    ssh.write_text(f"#!/bin/sh\nexec {sys.executable} -m tests.bench.agent {folder}\n")
    ssh.chmod(0o755)
    os.environ["PATH"] = f"{folder}{os.pathsep}{os.environ['PATH']}"
    os.environ["PYTHONPATH"] = str(FOLDER.parent.parent)
    book = camera.home / "bench.yondle"
    session = create_logbook(book, choose_rig("ssh://tuner@bench"))
    session.do(RunBaseline(5))
    for clock in (4300, 4400, 4500, 4600):
        session.do(Propose("clock", clock))
        session.do(TryProposal(5, turns=False))
    session.close()
    ssh.write_text("#!/bin/sh\necho 'ssh: connect to host bench port 22: No route to host' >&2\nexit 255\n")
    with camera.window() as window:
        camera.open(window, book)
        camera.take(window, "tune-away")


def main() -> None:
    """Take the pictures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--into", type=Path, default=FOLDER)
    folder = parser.parse_args().into
    with tempfile.TemporaryDirectory() as home:
        at_home_in(Path(home))
        take_all(Camera(folder, Path(home)))


if __name__ == "__main__":
    main()
