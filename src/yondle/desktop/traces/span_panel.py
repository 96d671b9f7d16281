"""The figures of a span of a trace, and what they say, at the right of Traces."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel

from yondle.desktop.look.basics import label
from yondle.desktop.look.layouts import form_rows
from yondle.desktop.look.side import Side
from yondle.language.saying import later, named, say
from yondle.views.traces.spans import SpanView

_WIDTH = 356
HOW = later(
    "Lowest and highest reading of the span, and the mean over its time. A clock is below what was asked "
    "under 99.5\u202f% of it; only time under load counts."
)
ALONE = ("", later("lowest"), later("mean"), later("highest"))
BESIDE = ("", "A", "B", later("A less B"))
PARTS = (
    later("Before it failed"),
    later("What held it back"),
    later("Hottest sensor"),
    later("Voltage set and measured"),
    later("Inside this pass"),
)


class SpanPanel(Side):
    """Beside a trace: lowest, mean and highest of every channel between its rulers, of one test or of two held together."""

    def __init__(self) -> None:
        super().__init__(_WIDTH, say("Figures of the span"))
        self._title = label("", "strong")
        self._title.setToolTip(named(HOW))
        self.box.addWidget(self._title)
        self._heads, self._columns = [label("", "small") for _ in ALONE], [label("") for _ in ALONE]
        table = form_rows()
        table.setColumnStretch(0, 1)
        for i, (head, column) in enumerate(zip(self._heads, self._columns, strict=True)):
            side = Qt.AlignmentFlag.AlignRight if i else Qt.AlignmentFlag.AlignLeft
            column.setAlignment(side)
            table.addWidget(head, 0, i, side)
            table.addWidget(column, 1, i)
        self.box.addLayout(table)
        self._parts = {
            name: self._part(name)
            for name in (
                say("Before it failed"),
                say("What held it back"),
                say("Hottest sensor"),
                say("Voltage set and measured"),
                say("Inside this pass"),
            )
        }
        self.box.addStretch(1)

    def show_span(self, view: SpanView, chosen: bool, beside: bool, inside: list[str]) -> None:
        """Show figures: of a `chosen` span or the whole test, alone or `beside` another's; `inside` tells one pass in full."""
        self._title.setText((say("Chosen span · ") if chosen else "") + view.title)
        for head, words in zip(self._heads, BESIDE if beside else ALONE, strict=True):
            head.setText(named(words) if words else "")
        lines = [
            (row.name, row.mean, row.other, row.apart) if beside else (row.name, row.lowest, row.mean, row.highest)
            for row in view.rows
        ]
        for i, column in enumerate(self._columns):
            column.setText("\n".join(line[i] for line in lines))
        said = (
            view.last,
            view.held_back,
            view.hottest or say("No temperature was read."),
            view.voltage,
            "\n".join(inside),
        )
        for (heading, body), words in zip(self._parts.values(), said, strict=True):
            body.setText(words)
            heading.setVisible(bool(words))
            body.setVisible(bool(words))

    def _part(self, name: str) -> tuple[QLabel, QLabel]:
        heading, words = label(name, "heading"), label("", "", wrap=True)
        self.box.addSpacing(4)
        self.box.addWidget(heading)
        self.box.addWidget(words)
        return heading, words
