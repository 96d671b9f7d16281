"""The window over AT-SPI, on a real display and a real bus, as a screen reader meets it."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.desktop.bus import session_bus
from tests.desktop.reader import ACCESSIBLE, ACTION, VALUE, Node, Reader
from tests.desktop.test_real_display import display

__all__ = ["display"]

BUTTON = "push button|button"
"""What older and newer registries call the role."""
SHOW = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.window import MainWindow

app = QApplication(["Yondle"])
app.setApplicationName("Yondle")
window = MainWindow(Theme(app))
window.show()
window.open_logbook(Path(sys.argv[1]), None)
def leave():
    import select
    if select.select([sys.stdin], [], [], 0)[0]:
        timer.stop()
        window.close()
timer = QTimer()
timer.timeout.connect(leave)
timer.start(100)
sys.exit(app.exec())
"""


@pytest.fixture
def program(display: str, measured: Path) -> Iterator[Node]:
    with session_bus() as address:
        environment = {
            **os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "DBUS_SESSION_BUS_ADDRESS": address,
            "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1",
        }  # fmt: skip
        reader = Reader(address)
        shown = subprocess.Popen(
            [sys.executable, "-c", SHOW, str(measured)], env=environment, stdin=subprocess.PIPE, text=True
        )
        try:
            yield reader.program("Yondle")
        finally:
            shown.communicate("leave", timeout=30)
            reader.close()
        assert shown.returncode == 0


def found(program: Node, role: str, begins: str = "") -> Node:
    def look() -> Node | None:
        nodes = program.all()
        return next(
            (n for kind, name, n in nodes if (not role or kind in role.split("|")) and name.startswith(begins)), None
        )

    return program.reader.until(look)


def test_places_are_tabs_rulers_are_sliders_and_a_verdict_is_announced(program: Node) -> None:
    tabs = found(program, "page tab list")
    assert [tab.name for tab in tabs.children() if tab.role == "page tab"] == [
        "Tune", "Scaling", "Map", "Compare", "Traces", "Logbook", "Report",
    ]  # fmt: skip
    clock = found(program, "slider", "Core clock, 4\u202f300\u202fMHz in force")
    told = {
        name: clock.get(VALUE, name) for name in ("MinimumValue", "MaximumValue", "MinimumIncrement", "CurrentValue")
    }
    assert told == {"MinimumValue": 3600, "MaximumValue": 5200, "MinimumIncrement": 25, "CurrentValue": 4300}
    head = found(program, BUTTON, "processor, expanded")
    head.call(ACTION, "DoAction", "i", (0,))
    found(program, BUTTON, "processor, collapsed")
    found(program, BUTTON, "processor, collapsed").call(ACTION, "DoAction", "i", (0,))
    clock = found(program, "slider", "Core clock, 4\u202f300\u202fMHz in force")
    clock.call("org.freedesktop.DBus.Properties", "Set", "ssv", (VALUE, "CurrentValue", ("d", 4400.0)))
    found(program, "slider", "Core clock, 4\u202f300\u202fMHz in force, proposed 4\u202f400\u202fMHz")
    found(program, BUTTON, "Test this step").call(ACTION, "DoAction", "i", (0,))
    heard = program.reader.until(lambda: [each for each in program.reader.heard() if each.startswith("Step 3: ")])
    assert "The rig is at step" in heard[0]
    everything = program.reader.heard()
    assert not any(" left" in each and "about" in each for each in everything), "a countdown is nothing to listen to"
    chart = found(program, "", "Chart of ")
    assert chart.get(ACCESSIBLE, "Name").endswith(".")


def test_a_tab_is_gone_to_by_its_action(program: Node) -> None:
    tabs = found(program, "page tab list")
    scaling = next(tab for tab in tabs.children() if tab.name == "Scaling")
    scaling.call(ACTION, "DoAction", "i", (0,))
    found(program, "combo box", "Along")
