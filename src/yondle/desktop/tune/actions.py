"""What can be done in Tune: every command with its words and keys, and when it can be carried out."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from yondle.desktop.look.keys import EDGE, NEXT, SWEEP
from yondle.language.saying import later, named
from yondle.model.verdicts import Verdict
from yondle.views.shared.snapshot import Snapshot

ACTIONS: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("test", later("Test this step"), ("Return", "Enter")),
    ("baseline", later("Run the baseline: measure stock"), ("Ctrl+B",)),
    ("again", later("Test the selected step once more, to be sure"), ("O",)),
    ("drop", later("Drop the proposal"), ("Esc",)),
    ("joint", later("Make it a joint step"), ("J",)),
    ("stop", later("Stop the test and go back"), ("Esc",)),
    ("pause", later("Pause before the next pass, or go on"), ("P",)),
    ("halt", later("Emergency stop: stock at once"), ("Shift+Esc",)),
    ("go_back", later("Go back to the selected step"), ("G",)),
    ("note", later("Write a note at the selected step"), ("N",)),
    ("keep", later("Keep the selected step as a profile"), ("K",)),
    ("compare", later("Compare the selected steps"), ("C",)),
    ("export", later("Write the passes of the selected steps to a file …"), ()),
    ("profiles", later("Show the profiles"), ("Ctrl+Shift+P",)),
    ("stock", later("Put everything at stock"), ("Ctrl+0",)),
    ("limits", later("Set your own limits on the knob in play"), ("L",)),
    ("sensors", later("Set the readings above which a test stops"), ()),
    ("sweep", later("Sweep or climb the knob in play"), (SWEEP,)),
    ("edge", later("Find the edge of the knob in play"), (EDGE,)),
    ("next", later("What is worth trying next, and a climb toward a goal"), (NEXT,)),
    ("plan", later("Run a plan file …"), ()),
    ("conditions", later("State the conditions of this rig"), ()),
    ("benchmarks", later("Choose the benchmarks to run"), ("Ctrl+M",)),
    ("result", later("Type in a figure measured at the selected step"), ("R",)),
    ("table", later("Read another program's table at the selected step …"), ()),
    ("record", later("Record a step that isn't tested here"), ("Shift+R",)),
    ("grid", later("Type in figures of the selected step"), ("F",)),
    ("describe", later("Describe a knob of a machine elsewhere"), ()),
    ("own", later("Add a knob or sensor of your own"), ()),
    ("undo", later("Undo the last change"), ("Ctrl+Z",)),
    ("find", later("Filter the knobs"), ("Ctrl+F",)),
    ("next_benchmark", later("Chart the next benchmark"), ("Alt+Right",)),
    ("last_benchmark", later("Chart the benchmark before"), ("Alt+Left",)),
    ("tour", later("Show me around, in six steps"), ()),
    ("to_rulers", later("Go to the rulers"), ("Alt+1",)),
    ("to_trail", later("Go to the trail"), ("Alt+2",)),
    ("figures", later("Show the chart's figures as a table beside it"), ("T",)),
    ("copy_table", later("Copy the chart's figures as a table"), ("Ctrl+Shift+C",)),
    ("copy_picture", later("Copy the chart as a picture"), ("Ctrl+C",)),
    ("dismiss", later("Take the cards away"), ("Ctrl+Backspace",)),
)


ONE_STEP = ("again", "go_back", "note", "result", "table", "grid")


def make_actions(place: QWidget, handlers: dict[str, Callable[[], object]]) -> dict[str, QAction]:
    """Make every action on its place, each with its handler."""
    made = {}
    for name, text, keys in ACTIONS:
        action = QAction(named(text), place)
        action.setShortcuts([QKeySequence(key) for key in keys])
        action.triggered.connect(lambda _=False, do=handlers[name]: do())
        place.addAction(action)
        made[name] = action
    return made


def possible(book: Snapshot, running: bool, selected: int | None, knob: str, together: int = 1) -> dict[str, bool]:
    """Tell which actions on the session can be carried out now; what isn't named always can.

    `together` counts the steps that are selected at once: what is done with one of them then can't be.
    """
    can = _possible(book, running, selected, knob)
    can |= {"compare": together > 1, "export": selected is not None}
    return can | dict.fromkeys(ONE_STEP, False) if together > 1 else can


def _possible(book: Snapshot, running: bool, selected: int | None, knob: str) -> dict[str, bool]:
    waits, measured = book.waiting is not None, book.baseline_step is not None
    idle, free = not running, not running and not waits
    chosen = book.step(selected) if selected is not None else None
    here = not book.elsewhere
    there = {"record": free, "grid": idle and selected is not None, "describe": idle and not here}
    if not here:
        off = ("again", "tour", "sweep", "edge", "next", "plan", "benchmarks", "own", "stop", "halt", "sensors")
        return there | dict.fromkeys(off, False) | {
            "test": free and book.proposal is not None, "baseline": free and not measured, "stock": free and measured,
            "keep": idle and chosen is not None and chosen.verdict is Verdict.HELD, "profiles": idle,
            "limits": idle and knob != "",
            "conditions": idle, "result": idle and selected is not None, "table": False, "note": selected is not None,
            "go_back": free and selected is not None and book.can_go_back(selected),
        }  # fmt: skip
    return there | {
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
        "next": idle and measured,
        "tour": free and measured,
        "plan": free and measured,
        "conditions": idle,
        "benchmarks": idle,
        "result": idle and selected is not None,
        "table": idle and selected is not None,
        "own": idle,
        "stop": running,
        "halt": running,
        "go_back": free and selected is not None and book.can_go_back(selected),
        "note": selected is not None,
    }
