"""Opens every place, card and a dozen commands, and prints each text in them that was not looked up; with YONDLE_LANGUAGE=qps.

With YONDLE_TEMPERATURES=F it prints each that tells a temperature in °C, too: but for files, all of them are shown in °F.

That language puts brackets around whatever is looked up, so what stands outside of them is either data or was forgotten.
Data is what the rig file says: names, units, choices. `test_language` runs this in a process of its own, since the language
is chosen when the program starts.
"""

from __future__ import annotations

import contextlib
import io
import re
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QLineEdit, QListView, QTextEdit, QWidget
from tools.screenshots import Camera, demo_logbook

from yondle.main import run
from yondle.model.quantities import FAHRENHEIT
from yondle.rigs.simulated.rigfile import rig_text

PLACES = 7
PLAN = Path(__file__).parent.parent.parent / "docs" / "plans" / "heron-night.toml"
CARDS = ("limits", "sensors", "sweep", "edge", "conditions", "benchmarks", "result", "profiles", "keep")
COMMANDS = (
    "status {book}", "ready {book}", "limits {book}", "scaling {book} core_clock", "scaling {book}", "efficiency {book}",
    "map {book} core_clock memory_rate", "compare {book} stock here --passes", "log {book}", "target {book} stacking 400",
    "trace {book}", "profile list {book}", "benchmarks {book}", "workloads --rig heron", "inspect --rig heron",
    "watch {book} --once", "profile keep {book} Heron", "export {book} {folder}/book.csv", "plan check {book} {plan}",
    "step {book} core_clock=4725 --passes 2", "note {book} 1 x", "stock {book}", "limit {book} core_clock=4900",
    "back {book} 99", "step {book} core_clock=9999", "report {book} {folder}/report.md",
)  # fmt: skip
ROLES = (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole)
TEXTS = ("text", "placeholderText", "title", "specialValueText", "suffix", "prefix", "toolTip", "accessibleName",
         "accessibleDescription", "windowTitle")  # fmt: skip
KEPT = frozenset(
    {
        "Yondle",
        "yondle",
        "Heron",
        "Ctrl",
        "Shift",
        "Alt",
        "Esc",
        "Space",
        "Home",
        "MHz",
        "min",
        "ms",
        "mV",
        "GB",
        "MT",
        "ns",
        "toml",
        "tRCD",
        "tRP",
        "tRAS",
        "tRFC",
        "tREFI",
    }
)
"""Names, keys and units that are the same everywhere."""
MEANT = re.compile(r"<[^>]*>|\w+\.toml|--\w+|\S*/\S*|^[\w.]+ = .*$|^\[+\w+\]+$", re.MULTILINE)
"""Markup, a file, options, units with a slash, and the lines of a plan or a profile file."""
MOST_ROWS = 60


def outside(text: str) -> str:
    """Leave out what stands between brackets, which may stand in each other; one that was cut off runs to the end."""
    depth, left = 0, []
    for sign in text:
        depth = max(0, depth + (sign == "⟦") - (sign == "⟧"))
        left.append(" " if depth > 0 or sign == "⟧" else sign)
    return "".join(left)


def said_by(rig: Any) -> Iterator[str]:
    """Give every word of a rig file."""
    for key, value in rig.items() if isinstance(rig, dict) else enumerate(rig) if isinstance(rig, list) else ():
        yield from re.findall(r"[A-Za-z]+", f"{key} {value if isinstance(value, str) else ''}")
        yield from said_by(value)


def shown(widget: QWidget) -> Iterator[str]:
    """Give the texts of a widget: its own, its items, its actions."""
    for name in TEXTS:
        told = getattr(widget, name, None)
        if callable(told) and not (name == "text" and isinstance(widget, QLineEdit | QTextEdit)):
            yield str(told())
    yield from (action.text() for action in widget.actions())
    if isinstance(widget, QComboBox):
        yield from (widget.itemText(i) for i in range(widget.count()))
    if isinstance(widget, QTextEdit):
        yield widget.toPlainText()
    if isinstance(widget, QAbstractItemView) and widget.model() is not None:
        yield from items(widget)


def items(view: QAbstractItemView) -> Iterator[str]:
    """Give the texts of the first rows of a list, table or tree."""
    model, top = view.model(), QModelIndex()
    for column in range(1 if isinstance(view, QListView) else model.columnCount(top)):
        yield str(model.headerData(column, Qt.Orientation.Horizontal) or "")
        for row in range(min(model.rowCount(top), MOST_ROWS)):
            told = (model.data(model.index(row, column, top), role) for role in ROLES)
            yield from (text for text in told if isinstance(text, str))


def main(folder: Path) -> int:
    """Print what was found; the exit code tells whether there was any."""
    known = {*KEPT, *said_by(tomllib.loads(rig_text("heron")[0])), *said_by(tomllib.loads(PLAN.read_text("utf-8")))}
    found: dict[str, str] = {}

    def note(text: str, where: str) -> None:
        if FAHRENHEIT and "°C" in MEANT.sub(" ", text):
            found.setdefault("°C", f"{where}: {text}")
        for word in re.findall(r"[A-Za-z]{2,}", MEANT.sub(" ", outside(text))):
            if word not in known:
                found.setdefault(word, f"{where}: {text}")

    painted = QPainter.drawText

    def draw(self: QPainter, *what: Any) -> Any:
        for each in what:
            if isinstance(each, str):
                note(each, "painted")
        return painted(self, *what)

    QPainter.drawText = draw  # type: ignore[method-assign]
    book = demo_logbook(folder / "heron.yondle")
    camera = Camera(folder, folder)
    with camera.window() as window:
        assert isinstance(window, QWidget)

        def look(where: str) -> None:
            for _ in range(20):
                camera.app.processEvents()
            window.grab()
            for each in [window, *window.findChildren(QWidget)]:
                for text in shown(each):
                    note(text, f"{where}, {type(each).__name__}")

        look("first page")
        camera.open(window, book)
        for i in range(PLACES):
            window.go_to(i)  # type: ignore[attr-defined]
            look(f"place {i + 1}")
        window.go_to(0)  # type: ignore[attr-defined]
        tune = window.tune  # type: ignore[attr-defined]
        for knob, cards in (("core_clock", CARDS), ("heat_limit", ("limits", "sweep"))):
            tune._enter(knob)
            for name in cards:
                tune.actions_by_name[name].trigger()
                look(f"card {name}")
                tune.actions_by_name["dismiss"].trigger()
        for record in tune.book.now.steps:
            tune.trail.choose(record.step.number)
            look(f"step {record.step.number}")
    for line in COMMANDS:
        with contextlib.redirect_stdout(io.StringIO()) as said, contextlib.redirect_stderr(said):
            run(line.format(book=book, folder=folder, plan=PLAN).split())
        note(said.getvalue(), f"yondle {line}")
    note((folder / "report.md").read_text("utf-8"), "report")
    for word, where in found.items():
        print(f"{word!r} in {where[:300]!r}")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
