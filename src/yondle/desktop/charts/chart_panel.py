"""The chart with its head: the benchmarks to choose from, the sentence that reads it aloud, and what to say without figures."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from yondle.app.views.charting import ChartView
from yondle.desktop.theme import Theme
from yondle.desktop.widgets.basics import Eliding, button, label
from yondle.model.quantities import count
from yondle.model.workloads import Direction, Workload

if TYPE_CHECKING:
    from yondle.desktop.charts.score_chart import ScoreChart


LOWEST = 250


class ChartPanel(QWidget):
    """Score against the knob in play. The chart itself is added once its library is loaded."""

    benchmark_chosen = Signal(int)
    step_chosen = Signal(int)

    def __init__(self, theme: Theme, benchmarks: tuple[Workload, ...]) -> None:
        super().__init__()
        self._theme = theme
        self.chart: ScoreChart | None = None
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        self.setMinimumHeight(LOWEST)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        head = QHBoxLayout()
        head.setSpacing(2)
        self._choices = QButtonGroup(self)
        for i, benchmark in enumerate(benchmarks):
            choice = button(benchmark.name, "flat", f"Chart {benchmark.name}")
            choice.setCheckable(True)
            self._choices.addButton(choice, i)
            head.addWidget(choice)
        self._choices.idClicked.connect(self.benchmark_chosen)
        head.addSpacing(8)
        self._note = Eliding("", "small", right=True)
        head.addWidget(self._note, 1)
        self._sentence = label("", "strong", wrap=True)
        self._empty = QLabel()
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._empty.setProperty("role", "muted")
        self._empty.setWordWrap(True)
        self._stack = QStackedWidget()
        self._stack.addWidget(self._empty)
        self._axis = label("", "small")
        self._axis.setAlignment(Qt.AlignmentFlag.AlignRight)
        box.addLayout(head)
        box.addWidget(self._sentence)
        box.addWidget(self._stack, 1)
        box.addWidget(self._axis)

    def hasHeightForWidth(self) -> bool:
        """Take the height that is left, whatever the wrapped sentence would like."""
        return False

    def add_chart(self) -> None:
        """Make the chart; its library must be loaded by now, or this takes a while."""
        from yondle.desktop.charts.score_chart import ScoreChart

        self.chart = ScoreChart(self._theme)
        self.chart.step_chosen.connect(self.step_chosen)

    def place_chart(self) -> None:
        """Give the chart its place; a moment's work of its own the first time."""
        if self.chart is not None and self._stack.indexOf(self.chart) < 0:
            self._stack.addWidget(self.chart)

    def choose(self, benchmark: int) -> None:
        """Mark a benchmark as the one shown."""
        choice = self._choices.button(benchmark)
        if choice is not None:
            choice.setChecked(True)

    def show_view(self, view: ChartView) -> None:
        """Show a chart."""
        if self.chart is None:
            return
        metric, knob = view.workload.metric, view.knob
        turned = ", lower is better" if metric.direction is Direction.LOWER else ""
        outside = self.chart.outside(view)
        off = f" · {count(outside, 'faint point')} outside" if outside else ""
        self._note.set_text(f"{metric.unit}{turned} · bars show 95 % ranges{off}")
        self._sentence.setText(view.sentence)
        self._sentence.show()
        self._axis.setText(f"{knob.name}, {knob.unit}" if knob.unit else knob.name)
        self.place_chart()
        self._stack.setCurrentWidget(self.chart)
        self.chart.show_view(view)

    def show_nothing(self, words: str) -> None:
        """Say why there is no chart."""
        self._empty.setText(words)
        self._stack.setCurrentWidget(self._empty)
        self._sentence.hide()
        self._note.set_text("")
        self._axis.setText("")
        if self.chart is not None:
            self.chart.show_view(None)
