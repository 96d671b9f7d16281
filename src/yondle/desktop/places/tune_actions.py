"""What can be done in Tune: every command with its words and keys, and when it can be carried out."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from yondle.app.session import Session
from yondle.model.verdicts import Verdict

ACTIONS: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("test", "Test this step", ("Return", "Enter")),
    ("baseline", "Run the baseline: measure stock", ("Ctrl+B",)),
    ("again", "Test the selected step once more, to be sure", ("O",)),
    ("drop", "Drop the proposal", ("Esc",)),
    ("joint", "Make it a joint step", ("J",)),
    ("stop", "Stop the test and go back", ("Esc",)),
    ("pause", "Pause before the next pass, or go on", ("P",)),
    ("halt", "Emergency stop: stock at once", ("Shift+Esc",)),
    ("go_back", "Go back to the selected step", ("G",)),
    ("note", "Write a note at the selected step", ("N",)),
    ("keep", "Keep the selected step as a profile", ("K",)),
    ("profiles", "Show the profiles", ("Ctrl+Shift+P",)),
    ("stock", "Put everything at stock", ("Ctrl+0",)),
    ("limits", "Set your own limits on the knob in play", ("L",)),
    ("sensors", "Set the readings above which a test stops", ()),
    ("sweep", "Sweep or climb the knob in play", ("S",)),
    ("edge", "Find the edge of the knob in play", ("E",)),
    ("plan", "Run a plan file …", ()),
    ("conditions", "Tell the conditions of this rig", ()),
    ("benchmarks", "Choose the benchmarks to run", ("Ctrl+M",)),
    ("result", "Type in a figure measured at the selected step", ("R",)),
    ("table", "Read another program's table at the selected step …", ()),
    ("find", "Filter the knobs", ("Ctrl+F",)),
    ("next_benchmark", "Chart the next benchmark", ("Alt+Right",)),
    ("last_benchmark", "Chart the benchmark before", ("Alt+Left",)),
    ("to_rulers", "Go to the rulers", ("Ctrl+1",)),
    ("to_trail", "Go to the trail", ("Ctrl+2",)),
    ("copy_table", "Copy the chart's figures as a table", ("Ctrl+Shift+C",)),
    ("copy_picture", "Copy the chart as a picture", ("Ctrl+C",)),
    ("dismiss", "Take the cards away", ("Ctrl+Backspace",)),
)


def make_actions(place: QWidget, handlers: dict[str, Callable[[], object]]) -> dict[str, QAction]:
    """Make every action on its place, each with its handler."""
    made = {}
    for name, text, keys in ACTIONS:
        action = QAction(text, place)
        action.setShortcuts([QKeySequence(key) for key in keys])
        action.triggered.connect(lambda _=False, do=handlers[name]: do())
        place.addAction(action)
        made[name] = action
    return made


def possible(session: Session, running: bool, selected: int | None, knob: str) -> dict[str, bool]:
    """Tell which actions on the session can be carried out now; what isn't named always can."""
    waits, measured = session.waiting is not None, session.baseline_step is not None
    idle, free = not running, not running and not waits
    chosen = session.step(selected) if selected is not None else None
    return {
        "test": free and session.proposal is not None and measured,
        "baseline": free,
        "again": free and selected is not None and session.can_test_again(selected),
        "keep": idle and chosen is not None and chosen.verdict is Verdict.HELD,
        "profiles": idle,
        "stock": free and measured,
        "limits": idle and knob != "",
        "sensors": idle,
        "sweep": free and knob != "",
        "edge": free and knob != "",
        "plan": free and measured,
        "conditions": idle,
        "benchmarks": idle,
        "result": idle and selected is not None,
        "table": idle and selected is not None,
        "stop": running,
        "halt": running,
        "go_back": free and selected is not None and session.can_go_back(selected),
        "note": selected is not None,
    }
