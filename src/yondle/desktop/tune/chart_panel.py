"""The chart with its head: the benchmarks to choose from, the sentence that reads it aloud, and what to say without figures."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QSizePolicy, QStackedWidget, QWidget

from yondle.desktop.charts.beside import Beside
from yondle.desktop.look.basics import Choice, Eliding, button, clear, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import Theme
from yondle.language.saying import say
from yondle.model.quantities import count
from yondle.model.workloads import Direction, Workload

if TYPE_CHECKING:
    from yondle.desktop.tune.score_chart import ScoreChart
    from yondle.views.tune.charting import ChartView


LOWEST = 250
MOST_TABS = 5
"""More benchmarks than this don't fit side by side and are offered as a list."""


class ChartPanel(QWidget):
    """Score against the knob in play. The chart itself is added once its library is loaded."""

    benchmark_chosen = Signal(int)
    step_chosen = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.chart: ScoreChart | None = None
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        self.setMinimumHeight(LOWEST)
        box = stacked(self)
        head = abreast(gap=4)
        self._offered: tuple[str, ...] = ()
        self._buttons: list[QPushButton] = []
        self._list: Choice | None = None
        self._tabs = abreast(gap=4)
        head.addLayout(self._tabs)
        head.addSpacing(8)
        self._note = Eliding("", "small", right=True)
        head.addWidget(self._note, 1)
        self._sentence = label("", "strong", wrap=True)
        self._empty = label("", "muted", wrap=True)
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._stack = QStackedWidget()
        self._stack.addWidget(self._empty)
        self.beside = Beside(self._stack, lambda: self.chart)
        box.addLayout(head)
        box.addWidget(self._sentence)
        box.addWidget(self.beside, 1)

    def hasHeightForWidth(self) -> bool:
        """Take the height that is left, whatever the wrapped sentence would like."""
        return False

    def add_chart(self) -> None:
        """Make the chart; its library must be loaded by now, or this takes a while."""
        from yondle.desktop.tune.score_chart import ScoreChart

        self.chart = ScoreChart(self._theme)
        self.chart.step_chosen.connect(self.step_chosen)
        self.chart.drawn.connect(self.beside.renew)

    def place_chart(self) -> None:
        """Give the chart its place; a moment's work of its own the first time."""
        if self.chart is not None and self._stack.indexOf(self.chart) < 0:
            self._stack.addWidget(self.chart)

    def offer(self, benchmarks: tuple[Workload, ...]) -> None:
        """Offer these benchmarks: side by side while they are few, else in a list."""
        names = tuple(benchmark.name for benchmark in benchmarks)
        if names == self._offered:
            return
        self._offered = names
        clear(self._tabs)
        self._buttons, self._list = [], None
        if len(names) > MOST_TABS:
            self._list = Choice(list(names), say("Benchmark to chart"))
            self._list.activated.connect(self.benchmark_chosen)
            self._tabs.addWidget(self._list)
            return
        for i, name in enumerate(names):
            tab = button(name, "flat", say("Chart {name}", name=name))
            tab.setCheckable(True)
            tab.clicked.connect(lambda _=False, i=i: self.benchmark_chosen.emit(i))
            self._buttons.append(tab)
            self._tabs.addWidget(tab)

    def choose(self, benchmark: int) -> None:
        """Mark a benchmark as the one shown."""
        for i, tab in enumerate(self._buttons):
            tab.setChecked(i == benchmark)
        if self._list is not None:
            self._list.setCurrentIndex(benchmark)

    def show_view(self, view: ChartView) -> None:
        """Show a chart."""
        if self.chart is None:
            return
        lower = view.workload.metric.direction is Direction.LOWER
        outside = self.chart.outside(view)
        off = [say("{faint_points} outside", faint_points=count(outside, "faint point"))] if outside else []
        self._note.set_text(
            " · ".join([*([say("lower is better")] if lower else []), say("bars show 95 % ranges"), *off])
        )
        self._sentence.setText(view.sentence)
        self.chart.setAccessibleName(
            say("Chart of {name}. {sentence}", name=view.workload.name, sentence=view.sentence)
        )
        self._sentence.show()
        self.place_chart()
        self._stack.setCurrentWidget(self.chart)
        self.chart.show_view(view)

    def show_nothing(self, words: str) -> None:
        """Say why there is no chart."""
        self._empty.setText(words)
        self._stack.setCurrentWidget(self._empty)
        self._sentence.hide()
        self._note.set_text("")
        if self.chart is not None:
            self.chart.show_view(None)
