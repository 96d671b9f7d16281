"""The window: how soon it can be used, what it costs at rest and while a run is shown, how long its frames take."""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

from benchmarks.measuring import Line, median_ms, ms, seconds_of, usual_environment
from yondle.app.demo import RunEvening
from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import DropProposal, Propose
from yondle.app.session.requests import SetPace
from yondle.app.session.returning import Look
from yondle.app.session.testing import RunBaseline
from yondle.desktop.shell.rooms import NAMES
from yondle.model.events import AttemptClosed, PassEnded, PassOpened, StepOpened, VerdictGiven
from yondle.model.knobs import Change
from yondle.model.steps import PassRecord, Step, StepKind
from yondle.model.verdicts import Outcome, Verdict
from yondle.model.workloads import PassResult

START = """
import json, os, sys, time
began = float(sys.argv[2])
from pathlib import Path
from PySide6.QtCore import QEventLoop, Qt, QTimer
from PySide6.QtWidgets import QApplication
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

app = QApplication([])
window = MainWindow(Theme(app, "paper"), first_page=False)
window.show()
window.open_logbook(Path(sys.argv[1]))
while window.tune is None or window.bridge.busy:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
window.grab()
usable = time.time() - began
ticks = [time.perf_counter()]
timer = QTimer()
timer.setTimerType(Qt.TimerType.PreciseTimer)
timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
timer.start(10)
while not window.tune.complete:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
window.grab()
worst = max((b - a for a, b in zip(ticks, ticks[1:])), default=0.0) - 0.010
print(json.dumps([usable, time.time() - began, worst]), flush=True)
os._exit(0)
"""
FIRST = """
import json, os, sys, time
began = float(sys.argv[2])
from PySide6.QtWidgets import QApplication
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

app = QApplication([])
window = MainWindow(Theme(app, "paper"))
window.show()
app.processEvents()
window.grab()
print(json.dumps([time.time() - began]), flush=True)
os._exit(0)
"""
BARE = """
import json, os, sys, time
began = float(sys.argv[2])
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
app.processEvents()
window.grab()
print(json.dumps([time.time() - began]), flush=True)
os._exit(0)
"""
STEPS = 2000


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory() as folder:
        book = Path(folder) / "heron.yondle"
        session = create_logbook(book, choose_rig("heron"))
        session.do(RunEvening(lambda _move, _record: None))
        session.close()
        yield from _start(book)
        yield from _at_rest_and_running(book)
        yield from _looks(book)
        yield from _grows(book)
        yield from _many_steps(Path(folder) / "many.yondle")


def _start(book: Path) -> Iterator[Line]:
    def once(script: str) -> list[float]:
        command = [sys.executable, "-c", script, str(book), str(time.time())]
        done = subprocess.run(command, capture_output=True, text=True, check=True, env=usual_environment())
        return list(json.loads(done.stdout))

    once(START)
    goes = [(once(BARE), once(FIRST), once(START)) for _ in range(7)]
    bare, first = ([go[i][0] for go in goes] for i in range(2))
    usable, whole, frame = ([ours[i] for _, _, ours in goes] for i in range(3))
    one = statistics.median(bare)
    against = f"an empty Qt window in the same language: {ms(one)}"
    for what, times, aim in (
        ("start of the process to the first page painted and usable", first, "under 0.8 s"),
        ("start of the process to Heron's book painted and usable", usable, "under 0.8 s"),
        ("start of the process to charts and margins shown too", whole, ""),
    ):
        middle = statistics.median(times)
        yield Line(what, f"{ms(middle)} (best {ms(min(times))})", against, f"{middle / one:.1f} x", aim)
    later = statistics.median(b - a for a, b in zip(usable, whole, strict=True))
    yield Line("charts and margins after the book is usable", ms(later), against, f"{later / one:.1f} x", "under 0.5 s")
    yield Line("longest the window is away while charts load", median_ms(frame), "", "", "under 50 ms")


class Shown:
    """A window on a logbook, driven by hand."""

    def __init__(self, book: Path, pace: float | None) -> None:
        from PySide6.QtWidgets import QApplication

        from yondle.desktop.look.theme import Theme
        from yondle.desktop.shell.window import MainWindow

        there = QApplication.instance()
        self.app = there if isinstance(there, QApplication) else QApplication([])
        self.window = MainWindow(Theme(self.app, "paper"))
        self.window.show()
        self.window.open_logbook(book, pace)
        self.until(self.tune_shown)
        assert self.window.tune is not None
        self.tune = self.window.tune

    def place(self, name: str) -> Any:
        assert self.window.places is not None
        return self.window.places.place(name)

    def tune_shown(self) -> bool:
        tune = self.window.tune
        return tune is not None and tune.complete

    def until(self, ready: Callable[[], bool]) -> None:
        while not ready():
            self.app.processEvents()
            time.sleep(0.002)

    def run(self, seconds: float) -> float:
        """Let Qt's own loop run; gives the processor time used, as a share of the time that went by."""
        from PySide6.QtCore import QEventLoop, QTimer

        loop = QEventLoop()
        before, began = _used(), time.perf_counter()
        QTimer.singleShot(round(1000 * seconds), loop.quit)
        loop.exec()
        return (_used() - before) / (time.perf_counter() - began)

    def close(self) -> None:
        self.window.close()
        self.until(lambda: not self.window.isVisible())


def _at_rest_and_running(book: Path) -> Iterator[Line]:
    shown = Shown(book, 20.0)
    shown.run(1.0)
    rest = shown.run(20.0)
    yield Line("own processor use at rest, 20 s", f"{100 * rest:.2f} % of a core", "", "", "under 0.5 %")
    for pace in (1.0, 20.0, 200.0):
        shown.window.book.ask(SetPace(pace))  # type: ignore[union-attr]
        shown.tune._propose("core_clock", 4625.0)
        shown.tune._test()
        shown.until(lambda: len(shown.tune.progress.samples) > 3)
        use = shown.run(10.0 if pace < 100 else 2.5)
        name = "own processor use while a run is shown"
        yield Line(
            f"{name}, x{pace:g}",
            f"{100 * use:.1f} % of a core",
            "at rest, same window",
            f"{use / max(rest, 1e-4):.0f} x",
        )
        shown.tune.stop()
        shown.until(lambda: not shown.window.bridge.busy)
        shown.tune.book.do(DropProposal())
    shown.close()


def _looks(book: Path) -> Iterator[Line]:
    """How long the window is away when a place is looked at, the scheme is changed, or a ruler is dragged.

    The best of several times comes first: it is what the program takes, the others are that and what the host took away.
    """

    def away(act: Callable[[], object]) -> float:
        """Do something; gives the longest turn of the loop until half a second later, by when all of it is shown."""
        worst, ends = 0.0, time.perf_counter() + 0.5
        while time.perf_counter() < ends:
            began = time.perf_counter()
            act()
            shown.app.processEvents()
            worst, act = max(worst, time.perf_counter() - began), _nothing
            time.sleep(0.002)
        return worst

    def line(what: str, times: list[float]) -> Line:
        figure = f"{ms(min(times))} (median {ms(statistics.median(times))}, worst {ms(max(times))})"
        return Line(what, figure, f"paint the window: {ms(paint)}", f"{min(times) / paint:.1f} x", "under 100 ms")

    first: dict[str, list[float]] = {place: [] for place in NAMES}
    for left in reversed(range(5)):
        shown = Shown(book, 20.0)
        shown.run(1.0)
        for i, place in enumerate(NAMES):
            first[place].append(away(partial(shown.window.visit, i)))
        if left:
            shown.close()
    theme, tune = shown.window._theme, shown.tune
    paint = min(seconds_of(shown.window.grab, 9))
    for place, times in first.items():
        yield line(f"first look at {place}", times)
    yield line("another look at a place", [away(partial(shown.window.visit, i)) for i in range(len(NAMES))])
    for i, place in enumerate(NAMES):
        shown.window.go_to(i)
        shown.run(0.2)
        yield line(f"change the scheme in {place}", [away(partial(theme.force, s)) for s in ("night", "paper") * 4])
    traces, attempts = shown.place("Traces"), [a.id for r in tune.book.now.steps for a in r.attempts]
    assert traces is not None
    yield line("another test in Traces", [away(partial(traces.show_run, a)) for a in attempts[2:6]])
    yield line("a test beside it", [away(partial(traces.show_second, a)) for a in attempts[6:9]])
    shown.window.go_to(0)
    shown.run(0.2)
    yield line(
        "drag a ruler by a step", [away(partial(tune._propose, "core_clock", v)) for v in (4625.0, 4650.0, 4675.0) * 2]
    )
    for i, place in enumerate(NAMES):
        shown.window.go_to(i)
        shown.run(0.5)
        yield Line(
            f"own processor use at rest in {place}, 6 s",
            f"{100 * shown.run(6.0):.2f} % of a core",
            "",
            "",
            "under 0.5 %",
        )
    shown.close()


def _grows(book: Path) -> Iterator[Line]:
    """How much the window's process grows over the tests of more than eight hours on Heron."""
    from PySide6.QtCore import QEvent

    shown = Shown(book, None)
    book_, tune = shown.tune.book, shown.tune

    def test() -> None:
        here = book_.now.in_force["power_limit"]
        book_.do(Propose("power_limit", here - 5 if here > 90 else here + 5))
        tune.refresh()
        tune._test()
        shown.until(lambda: not shown.window.bridge.busy)
        shown.app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)

    for _ in range(8):
        test()
    before, began = _resident_mib(), book_.do(Look()).at_s
    while book_.do(Look()).at_s - began < 8.0 * 3600:
        test()
    after = _resident_mib()
    hours = (book_.do(Look()).at_s - began) / 3600
    what = f"memory after {hours:.1f} h of tests in the window"
    yield Line(what, f"{after:.0f} MiB", f"before: {before:.0f} MiB", f"{after / before:.3f} x", "under 1.05 x")
    shown.close()


def _nothing() -> None:
    pass


def _resident_mib() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / (1 << 20)


def _many_steps(path: Path) -> Iterator[Line]:
    _long_trail(path)
    began = time.perf_counter()
    shown = Shown(path, 20.0)
    opened = time.perf_counter() - began
    yield Line(f"open a book of {STEPS:,} steps, painted", ms(opened), "", "")
    tune = shown.tune
    refresh = seconds_of(tune.refresh, 15)
    yield Line(f"work out Tune anew, {STEPS:,} steps", median_ms(refresh), "", "", "under 50 ms")
    frames = seconds_of(shown.window.grab, 15)
    yield Line(f"paint the whole window, {STEPS:,} steps", median_ms(frames), "", "", "under 50 ms")

    def nudge() -> None:
        value = 4300.0 if tune.book.now.proposal is None else tune.book.now.proposal.changes[0].new + 25
        tune._propose("core_clock", value if value <= 4900 else 4300.0)
        shown.window.grab()

    yield Line("move the marker by a notch and paint", median_ms(seconds_of(nudge, 25)), "", "", "under 50 ms")
    bar = tune.trail.verticalScrollBar()

    def scroll() -> None:
        bar.setValue((bar.value() + 700) % max(bar.maximum(), 1))
        tune.trail.grab()

    yield Line("scroll the trail by a page and paint it", median_ms(seconds_of(scroll, 40)), "", "", "under 50 ms")
    shown.close()
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    yield Line("memory of this benchmark's process at its highest", f"{peak:.0f} MiB", "", "")


def _long_trail(path: Path) -> None:
    """Write a trail of many steps straight into a logbook: the window is measured here, not the engine."""
    session = create_logbook(path, choose_rig("heron"))
    session.do(RunBaseline())
    book, setup, check = session.logbook, session.snapshot.in_force, session.snapshot.check()
    knob = session.declaration.knob("core_clock")
    verdicts = (Verdict.HELD, Verdict.HELD, Verdict.WRONG, Verdict.HELD, Verdict.DOWN, Verdict.HELD_BACK)
    at, parent = "2026-10-18T01:00:00+01:00", 1
    for number in range(2, STEPS + 1):
        value = knob.at(8 + number % 48)
        new = setup.with_values({"core_clock": value})
        verdict = verdicts[number % len(verdicts)]
        step = Step(number, StepKind.CHANGE, parent, new, (Change("core_clock", setup["core_clock"], value),))
        t = 10_000.0 + number
        book.take(StepOpened(number, step, setup, parent, "boot", at, t, {}, check, {}))
        for ordinal in range(1, 5):
            record = PassRecord(
                ordinal, "score passes", "stacking", ordinal, False, t, PassResult(True, 200 + value / 100, 12.0)
            )
            book.take(PassOpened(number, ordinal, "score passes", "stacking", ordinal, False, ordinal, 4, 12.0, t))
            book.take(PassEnded(number, record))
        book.take(VerdictGiven(number, number, Outcome(verdict, "for the benchmark")))
        book.take(AttemptClosed(number, number, setup, True, 1, at))
    session.close()


def _used() -> float:
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime
