"""What can be done in Tune: every command with its words and keys, and when it can be carried out."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from yondle.desktop.look.keys import EDGE, SWEEP
from yondle.language.saying import say
from yondle.model.verdicts import Verdict
from yondle.views.shared.snapshot import Snapshot

ACTIONS: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("test", say("Test this step"), ("Return", "Enter")),
    ("baseline", say("Run the baseline: measure stock"), ("Ctrl+B",)),
    ("again", say("Test the selected step once more, to be sure"), ("O",)),
    ("drop", say("Drop the proposal"), ("Esc",)),
    ("joint", say("Make it a joint step"), ("J",)),
    ("stop", say("Stop the test and go back"), ("Esc",)),
    ("pause", say("Pause before the next pass, or go on"), ("P",)),
    ("halt", say("Emergency stop: stock at once"), ("Shift+Esc",)),
    ("go_back", say("Go back to the selected step"), ("G",)),
    ("note", say("Write a note at the selected step"), ("N",)),
    ("keep", say("Keep the selected step as a profile"), ("K",)),
    ("profiles", say("Show the profiles"), ("Ctrl+Shift+P",)),
    ("stock", say("Put everything at stock"), ("Ctrl+0",)),
    ("limits", say("Set your own limits on the knob in play"), ("L",)),
    ("sensors", say("Set the readings above which a test stops"), ()),
    ("sweep", say("Sweep or climb the knob in play"), (SWEEP,)),
    ("edge", say("Find the edge of the knob in play"), (EDGE,)),
    ("plan", say("Run a plan file …"), ()),
    ("conditions", say("Tell the conditions of this rig"), ()),
    ("benchmarks", say("Choose the benchmarks to run"), ("Ctrl+M",)),
    ("result", say("Type in a figure measured at the selected step"), ("R",)),
    ("table", say("Read another program's table at the selected step …"), ()),
    ("find", say("Filter the knobs"), ("Ctrl+F",)),
    ("next_benchmark", say("Chart the next benchmark"), ("Alt+Right",)),
    ("last_benchmark", say("Chart the benchmark before"), ("Alt+Left",)),
    ("to_rulers", say("Go to the rulers"), ("Alt+1",)),
    ("to_trail", say("Go to the trail"), ("Alt+2",)),
    ("copy_table", say("Copy the chart's figures as a table"), ("Ctrl+Shift+C",)),
    ("copy_picture", say("Copy the chart as a picture"), ("Ctrl+C",)),
    ("dismiss", say("Take the cards away"), ("Ctrl+Backspace",)),
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


def possible(book: Snapshot, running: bool, selected: int | None, knob: str) -> dict[str, bool]:
    """Tell which actions on the session can be carried out now; what isn't named always can."""
    waits, measured = book.waiting is not None, book.baseline_step is not None
    idle, free = not running, not running and not waits
    chosen = book.step(selected) if selected is not None else None
    return {
        "test": free and book.proposal is not None and measured,
        "baseline": free,
        "again": free and selected is not None and book.can_test_again(selected),
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
        "go_back": free and selected is not None and book.can_go_back(selected),
        "note": selected is not None,
    }
