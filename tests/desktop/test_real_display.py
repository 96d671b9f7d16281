"""Once on a real display server: the program as a user starts it, looked at from outside."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.testing import RunBaseline


@pytest.fixture
def display() -> Iterator[str]:
    if shutil.which("Xvfb") is None:
        pytest.fail("Xvfb is missing: run 'make setup', which installs it or names the command")
    read, write = os.pipe()
    command = ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"]
    server = subprocess.Popen(command, pass_fds=(write,), stderr=subprocess.DEVNULL)
    os.close(write)
    with os.fdopen(read) as answer:
        number = answer.readline().strip()
    yield f":{number}"
    server.terminate()
    server.wait()


WATCH = """
import os, sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

app = QApplication(sys.argv[:1])
window = MainWindow(Theme(app))
window.show()
window.open_logbook(Path(sys.argv[1]), 20.0)

def look():
    if window.tune is None or not window.tune.complete:
        return
    timer.stop()
    shot = app.primaryScreen().grabWindow(0).toImage()
    colours = {shot.pixelColor(x, y).name() for x in range(0, 1280, 8) for y in range(0, 800, 8)}
    print(app.platformName(), window.isVisible(), len(colours), "#f7f4ec" in colours, flush=True)
    window.close()

timer = QTimer()
timer.timeout.connect(look)
timer.start(300)
sys.exit(app.exec())
"""


def test_the_window_shows_on_a_real_display_and_closes_cleanly(display: str, tmp_path: Path) -> None:
    path = tmp_path / "heron.yondle"
    create_logbook(path, choose_rig("heron")).close()
    environment = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb"}
    done = subprocess.run(
        [sys.executable, "-c", WATCH, str(path)],
        env=environment,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    platform, visible, colours, paper = done.stdout.split()
    assert (platform, visible, paper) == ("xcb", "True", "True")
    assert int(colours) > 10


def test_without_a_display_the_window_says_so_and_the_demo_runs_headless(tmp_path: Path) -> None:
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    program = [sys.executable, "-m", "yondle.main"]
    window = subprocess.run(program, env=environment, capture_output=True, text=True, check=False)
    assert window.returncode == 2
    assert "There is no display" in window.stderr
    demo = subprocess.run([*program, "demo"], env=environment, capture_output=True, text=True, check=False)
    assert demo.returncode == 0
    assert "No display here" in demo.stdout


def test_a_real_program_killed_while_its_window_runs_a_test_knows_it_afterwards(display: str, tmp_path: Path) -> None:
    path = tmp_path / "heron.yondle"
    session = create_logbook(path, choose_rig("heron"))
    session.do(RunBaseline(2))
    session.close()
    environment = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "YONDLE_FAULT": "kill after 30"}
    script = WATCH.replace("    window.close()", "    window.tune._propose('core_clock', 4300); window.tune._test()")
    command = [sys.executable, "-c", script.replace(", 20.0)", ", None)"), str(path)]
    done = subprocess.run(command, env=environment, capture_output=True, timeout=60, check=False)
    assert done.returncode == -signal.SIGKILL, done.stderr
    session = open_logbook(path)
    assert [r.step.step.number for r in session.snapshot.resumed] == [2]
    assert session.snapshot.in_force == session.declaration.stock
    session.close()


def test_larger_text_on_the_desktop_enlarges_everything(display: str, tmp_path: Path) -> None:
    watch = tmp_path / "watch.py"
    watch.write_text(
        "import os, sys\n"
        "from PySide6.QtCore import QTimer\n"
        "import yondle.desktop.shell.start as start\n"
        "class Window(start.Shelf):\n"
        "    def show(self):\n"
        "        super().show()\n"
        "        print(self.devicePixelRatioF(), flush=True)\n"
        "        QTimer.singleShot(0, self.close)\n"
        "start.Shelf = Window\n"
        "sys.exit(start.show(None, None, False))\n"
    )
    for dots, wanted in (("96", "1.0"), ("192", "")):
        environment = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "QT_FONT_DPI": dots}
        environment.pop("QT_SCALE_FACTOR", None)
        done = subprocess.run(
            [sys.executable, str(watch)], env=environment, capture_output=True, text=True, timeout=60, check=True
        )
        ratio = done.stdout.strip()
        assert ratio == wanted if wanted else float(ratio) > 1.2
