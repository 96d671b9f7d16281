"""Help about what has the focus, drawn from docs/window.md: one section, and a list of the others."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QListWidget, QTextBrowser, QWidget

from yondle.desktop.look.basics import button, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import MARGIN
from yondle.language.saying import say

_PACKAGED = Path(__file__).parent.parent.parent / "help" / "window.md"
_IN_SOURCE = Path(__file__).parents[4] / "docs" / "window.md"
_LINK = re.compile(r"\[([^\]]+)\]\([^)]+\)")
_LIST_PX = 220
BY_CLASS = (
    ("FirstPage", "First page"), ("PreferencesPage", "Preferences"), ("TablePage", "Tables"), ("GridPage", "Tables"),
    ("NextCard", "Worth trying next"), ("ClimbCard", "Worth trying next"), ("ProfileCard", "Profiles"),
    ("Inspector", "The selected step"),
    ("SidePanel", "Next step"), ("TrailPanel", "Trail"), ("RulersPanel", "Rulers"), ("ChartPanel", "The chart in Tune"),
    ("ScalingPlace", "Scaling"), ("MapPlace", "Map"), ("ComparePlace", "Compare"), ("TracesPlace", "Traces"),
    ("LogbookPlace", "Logbook"), ("ReportPlace", "Report"), ("TunePlace", "Rulers"),
)  # fmt: skip
"""Which section is about a part of the window; the innermost part around what has the focus decides."""


@cache
def sections() -> dict[str, str]:
    """Give every section of the page by its heading, as Markdown; none where the page isn't installed."""
    path = _PACKAGED if _PACKAGED.exists() else _IN_SOURCE
    try:
        text = path.read_text("utf-8")
    except OSError:
        return {}
    parts = re.split(r"^## (.+)$", text, flags=re.MULTILINE)[1:]
    return {name.strip(): _LINK.sub(r"\1", body.strip()) for name, body in zip(parts[::2], parts[1::2], strict=True)}


def about(focused: QWidget | None) -> str:
    """Name the section that is about what has the focus."""
    while focused is not None:
        for kind in type(focused).__mro__:
            found = next((section for name, section in BY_CLASS if name == kind.__name__), None)
            if found is not None:
                return found
        focused = focused.parentWidget()
    return "First page"


class HelpPage(QWidget):
    """The page; `left` is sent when it is done with."""

    left = Signal()

    def __init__(self, section: str) -> None:
        super().__init__()
        self.setObjectName("page")
        self.text = QTextBrowser()
        self.text.setOpenLinks(False)
        self.text.setAccessibleName(say("Help"))
        self.list = QListWidget()
        self.list.setAccessibleName(say("What there is help about"))
        self.list.setFixedWidth(_LIST_PX)
        self.list.addItems(list(sections()))
        self.list.currentTextChanged.connect(self._show)
        head = abreast()
        head.addWidget(label(say("Help"), "large"), 1)
        done = button(say("Done  Esc"), "main", say("Done"))
        done.clicked.connect(self.left)
        head.addWidget(done)
        middle = abreast(gap=MARGIN)
        middle.addWidget(self.list)
        middle.addWidget(self.text, 1)
        box = stacked(self)
        box.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        box.addLayout(head)
        box.addLayout(middle, 1)
        names = list(sections())
        if section in names:
            self.list.setCurrentRow(names.index(section))
        else:
            self.text.setPlainText(say("The page of help isn't installed. It is docs/window.md in the source."))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves, unless something runs that it stops."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _show(self, name: str) -> None:
        self.text.setMarkdown(f"## {name}\n\n{sections().get(name, '')}")
