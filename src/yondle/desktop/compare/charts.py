"""Below the table of Compare: one benchmark along a knob for every machine, or against the power it draws."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QStackedWidget, QWidget

from yondle.desktop.look.basics import Choice, Eliding, button, label
from yondle.desktop.look.keys import SWEEP
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import Theme
from yondle.language.saying import later, named, say
from yondle.model.knobs import Knob
from yondle.model.workloads import Direction, Workload
from yondle.views.compare.columns import Books
from yondle.views.compare.efficiency import CostView, cost_words, efficiency, shortened
from yondle.views.compare.machines import MachinesView, costs_told, knobs_shared, machines

if TYPE_CHECKING:
    from yondle.desktop.compare.cost_chart import CostChart
    from yondle.desktop.compare.machines_chart import MachinesChart

ALONG, COSTS = range(2)
PAGES = (later("Along a knob"), later("What it costs"))
LEAST_HEIGHT = 210


class CompareCharts(QWidget):
    """The two charts. `told` is sent with what they say, line by line, whenever it changes, and the steps it is about;
    `drawn` when another chart is shown.
    """

    told = Signal(str, list, tuple)
    drawn = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._books: Books = []
        self._benchmark: Workload | None = None
        self._battery: float | None = None
        self._knobs: tuple[Knob, ...] = ()
        self._knob, self._asked = "", False
        self._page = ALONG
        self._cost: int | None = None
        self._point: tuple[str, tuple[int, ...]] | None = None
        self.along_view: MachinesView | None = None
        self.cost_view: CostView | None = None
        self._charts: dict[int, MachinesChart | CostChart] = {}
        self.setMinimumHeight(LEAST_HEIGHT)
        self._tabs = [button(named(name), "flat") for name in PAGES]
        for i, tab in enumerate(self._tabs):
            tab.setCheckable(True)
            tab.clicked.connect(lambda _=False, i=i: self.show_page(i))
        self.along = Choice([], say("Along"))
        self.along.setMinimumContentsLength(16)
        self.along.activated.connect(lambda i: self.choose_knob(self._knobs[i].id))
        self._note = Eliding("", "small")
        self._nothing = label("", "muted", wrap=True)
        head = abreast()
        for tab in self._tabs:
            head.addWidget(tab)
        head.addWidget(self.along)
        head.addWidget(self._note, 1)
        self._stack = QStackedWidget()
        self._stack.addWidget(self._nothing)
        box = stacked(self, 4)
        box.addLayout(head)
        box.addWidget(self._stack, 1)

    @property
    def chart(self) -> MachinesChart | CostChart | None:
        """The chart that is shown; None where there is nothing to show."""
        shown = self._charts.get(self._page)
        return shown if shown is not None and self._stack.currentWidget() is shown else None

    def show_benchmark(self, books: Books, benchmark: Workload, battery_wh: float | None) -> None:
        """Show a benchmark of these logbooks; the first is the one that is open."""
        others = [(book, id(settings)) for book, settings in books] != [(b, id(s)) for b, s in self._books]
        self._books, self._benchmark, self._battery = books, benchmark, battery_wh
        self._cost = self._point = None
        if others:
            self._offer_knobs()
        self._show()

    def _offer_knobs(self) -> None:
        self._knobs = (*knobs_shared(self._books), *costs_told(self._books))
        self.along.clear()
        self.along.addItems([knob.name for knob in self._knobs])
        if not self._asked or self._knob not in {knob.id for knob in self._knobs}:
            self._knob = self._knobs[0].id if self._knobs else ""

    def choose_knob(self, knob_id: str) -> None:
        """Show another knob, and stay with it."""
        self._knob, self._asked = knob_id, True
        self.show_page(ALONG)

    def show_page(self, page: int) -> None:
        """Show the curves along a knob, or what scores cost."""
        self._page = page
        self._show()

    def choose_point(self, words: str, steps: tuple[int, ...]) -> None:
        """Tell one point of a line, and where it comes from."""
        self._point = (words, steps)
        self._tell()

    def choose_cost(self, place: int) -> None:
        """Tell what one setting costs."""
        self._cost = place
        self._tell()

    # -- showing -------------------------------------------------------------------------------------------------------

    def _show(self) -> None:
        for i, tab in enumerate(self._tabs):
            tab.setChecked(i == self._page)
        self.along.setVisible(self._page == ALONG)
        if self._benchmark is None:
            return
        metric = self._benchmark.metric
        lower = metric.direction is Direction.LOWER
        turned = [say("lower is better, so the axis is inverted")] if lower else []
        if self._page == COSTS:
            self.cost_view = efficiency(self._books, self._benchmark, self._battery)
            self._note.set_text(" · ".join([*turned, say("the line joins what no other beats")]))
            self._put(bool(self.cost_view.costs), self.cost_view.sentence)
        else:
            knob = next((k for k in self._knobs if k.id == self._knob), None)
            self._note.set_text(" · ".join([*turned, say("bars show 95 % ranges")]))
            self.along_view = machines(self._books, knob, self._benchmark) if knob is not None else None
            if knob is not None:
                self.along.setCurrentIndex(self._knobs.index(knob))
            there = self.along_view is not None and bool(self.along_view.lines)
            self._put(there, self.along_view.sentence if self.along_view is not None else _nothing_along())
        self._tell()

    def _put(self, there: bool, else_: str) -> None:
        """Show the chart where there is something, else what to do so that there is."""
        self._nothing.setText(else_)
        if not there:
            self._stack.setCurrentWidget(self._nothing)
            return
        self.make()
        chart = self._charts[self._page]
        view = self.cost_view if self._page == COSTS else self.along_view
        chart.show_view(view)  # type: ignore[arg-type]
        self._stack.setCurrentWidget(chart)
        name = self._benchmark.name if self._benchmark is not None else ""
        chart.setAccessibleName(say("Chart of {name}. {sentence}", name=name, sentence=else_))
        self.drawn.emit()

    def make(self) -> None:
        """Make the chart of this page when it is first shown."""
        if self._page not in self._charts:
            self._charts[self._page] = self._made()
            self._stack.addWidget(self._charts[self._page])

    def _made(self) -> MachinesChart | CostChart:
        """Make a chart when it is first shown: its library is large."""
        if self._page == ALONG:
            from yondle.desktop.compare.machines_chart import MachinesChart

            along = MachinesChart(self._theme)
            along.point_chosen.connect(self.choose_point)
            along.drawn.connect(self.drawn)
            return along
        from yondle.desktop.compare.cost_chart import CostChart

        made = CostChart(self._theme)
        made.cost_chosen.connect(self.choose_cost)
        made.drawn.connect(self.drawn)
        return made

    def _tell(self) -> None:
        if self._page == COSTS and self.cost_view is not None:
            self.told.emit(self.cost_view.sentence, self._cost_lines(self.cost_view), self._cost_steps(self.cost_view))
        elif self._page == ALONG:
            view = self.along_view
            lines = [m.sentence for m in view.meetings] if view is not None else []
            held = view.held if view is not None else ()
            first = lines.pop(0) if lines else view.sentence if view is not None else ""
            point, steps = self._point or ("", ())
            self.told.emit(first, [*lines, *held, *([point] if point else [])], steps)

    def _cost_steps(self, view: CostView) -> tuple[int, ...]:
        """Give the step of the setting that is told, where it is one of the open logbook."""
        place = self._cost if self._cost is not None else view.best
        cost = view.costs[place] if place is not None else None
        return (cost.step,) if cost is not None and cost.machine == view.costs[0].machine else ()

    def _cost_lines(self, view: CostView) -> list[str]:
        place = self._cost if self._cost is not None else view.best
        if place is None:
            return []
        cost = view.costs[place]
        told = [f"{name}: {words}" for name, words in cost_words(cost, view)]
        return [
            say(
                "{machine}, step {step}, {shortened}:",
                machine=cost.machine,
                step=cost.step,
                shortened=shortened(cost),
            ),
            "\n".join(told),
        ]


def _nothing_along() -> str:
    return say(
        "No knob is measured at two values with all else the same: sweep one in Tune ({sweep}), then its "
        "curves stand here, with those of every machine whose column is ticked.",
        sweep=SWEEP,
    )
